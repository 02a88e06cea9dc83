/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const draft = (study: number) =>
  queryOptions({
    queryKey: ['draft', study],
    queryFn: () => body(api.GET('/api/studies/{id}/draft/', { params: { path: { id: study } } })),
  });

export const tokens = queryOptions({ queryKey: ['tokens'], queryFn: () => body(api.GET('/api/tokens/')) });

/** Whom releases of a portfolio are told to. While something is on its way for the
 * first time or the second, it is asked again. */
export const webhooks = (portfolio: number) =>
  queryOptions({
    queryKey: ['webhooks', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/webhooks/', { params: { path: { id: portfolio } } })),
    refetchInterval: ({ state }) =>
      state.data?.some(({ deliveries: [last] }) => last?.next_at && last.attempts < 2) ? 2000 : false,
  });

/** A release held against what has come. */
export const track = (release: number) =>
  queryOptions({
    queryKey: ['track', release],
    queryFn: () => body(api.GET('/api/releases/{id}/track/', { params: { path: { id: release } } })),
  });

/** What the last releases say of a node. */
export const beside = (portfolio: number, node: string) =>
  queryOptions({
    queryKey: ['beside', portfolio, node],
    queryFn: () =>
      body(api.GET('/api/portfolios/{id}/released/{node}/', { params: { path: { id: portfolio, node } } })),
  });

/** What moves the total from a release to what would go out. */
export const bridge = (study: number, release: number) =>
  queryOptions({
    queryKey: ['bridge', study, release],
    queryFn: () =>
      body(api.GET('/api/studies/{id}/bridge/', { params: { path: { id: study }, query: { release } } })),
  });
