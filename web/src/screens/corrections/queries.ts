/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export interface LedgerAsk {
  state: 'standing' | 'reverted' | 'all';
  key?: string;
  level?: string;
}

export const ledger = (portfolio: number, ask: LedgerAsk) =>
  queryOptions({
    queryKey: ['ledger', portfolio, ask],
    queryFn: () =>
      body(
        api.GET('/api/portfolios/{id}/corrections/', {
          params: { path: { id: portfolio }, query: { ...ask } },
        }),
      ),
  });
