/** What adjusting asks the server. */
import { type QueryClient, queryOptions } from '@tanstack/react-query';
import { api, body, type Schema } from '../../api/client';

export type Asked = Schema['AskedChangeRequest'];

export const adjustments = (portfolio: number, study: number | undefined) =>
  queryOptions({
    queryKey: ['adjustments', portfolio, study],
    queryFn: () =>
      body(
        api.GET('/api/portfolios/{id}/adjustments/', {
          params: { path: { id: portfolio }, query: study === undefined ? {} : { study } },
        }),
      ),
  });

/** What changes would do, without keeping them. */
export const preview = (study: number, changes: Asked[]) =>
  queryOptions({
    queryKey: ['adjusting', study, changes],
    queryFn: ({ signal }) =>
      body(
        api.POST('/api/studies/{id}/adjustments/', {
          params: { path: { id: study } },
          body: { changes, reason: '', preview: true },
          signal,
        }),
      ),
    enabled: changes.length > 0,
    gcTime: 0,
  });

export const changedNodes = (study: number) =>
  queryOptions({
    queryKey: ['adjusted', study],
    queryFn: () => body(api.GET('/api/studies/{id}/adjusted/', { params: { path: { id: study } } })),
  });

export const keep = (study: number, changes: Asked[], reason: string) =>
  body(
    api.POST('/api/studies/{id}/adjustments/', {
      params: { path: { id: study } },
      body: { changes, reason, preview: false },
    }),
  );

export const step = (portfolio: number, study: number | undefined, back: boolean) => {
  const params = { path: { id: portfolio }, query: study === undefined ? {} : { study } };
  return back
    ? body(api.POST('/api/portfolios/{id}/adjustments/undo/', { params }))
    : body(api.POST('/api/portfolios/{id}/adjustments/redo/', { params }));
};

/** All that shows a forecast is asked for anew. */
export function forecastChanged(client: QueryClient): void {
  for (const key of ['node', 'adjustments', 'adjusted', 'adjusting', 'draft', 'parts', 'bridge'])
    void client.invalidateQueries({ queryKey: [key] });
}
