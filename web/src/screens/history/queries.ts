/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const coverage = (portfolio: number) =>
  queryOptions({
    queryKey: ['coverage', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/coverage/', { params: { path: { id: portfolio } } })),
    staleTime: 60_000,
  });
