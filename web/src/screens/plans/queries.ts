/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const calendars = queryOptions({
  queryKey: ['calendars'],
  queryFn: () => body(api.GET('/api/calendars/')),
  staleTime: Number.POSITIVE_INFINITY,
});

export const plans = (portfolio: number) =>
  queryOptions({
    queryKey: ['plans', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/plans/', { params: { path: { id: portfolio } } })),
  });
