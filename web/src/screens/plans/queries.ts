/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const plans = (portfolio: number) =>
  queryOptions({
    queryKey: ['plans', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/plans/', { params: { path: { id: portfolio } } })),
  });
