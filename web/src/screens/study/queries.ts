/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const kept = (portfolio: number) =>
  queryOptions({
    queryKey: ['kept', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/kept/', { params: { path: { id: portfolio } } })),
  });
