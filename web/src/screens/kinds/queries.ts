/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const kinds = (portfolio: number, kind: string | null) =>
  queryOptions({
    queryKey: ['kinds', portfolio, kind],
    queryFn: () =>
      body(
        api.GET('/api/portfolios/{id}/kinds/', {
          params: { path: { id: portfolio }, query: kind ? { kind } : {} },
        }),
      ),
  });
