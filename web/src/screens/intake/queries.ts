/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const loads = (portfolio: number) =>
  queryOptions({
    queryKey: ['loads', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/loads/', { params: { path: { id: portfolio } } })),
  });
