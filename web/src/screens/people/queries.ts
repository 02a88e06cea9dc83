/** What the screen asks the server. */
import { infiniteQueryOptions, queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const members = (portfolio: number) =>
  queryOptions({
    queryKey: ['members', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/members/', { params: { path: { id: portfolio } } })),
  });

export const people = queryOptions({ queryKey: ['people'], queryFn: () => body(api.GET('/api/people/')) });

export const trail = (portfolio: number) =>
  infiniteQueryOptions({
    queryKey: ['trail', portfolio],
    queryFn: ({ pageParam }) =>
      body(
        api.GET('/api/portfolios/{id}/trail/', {
          params: { path: { id: portfolio }, query: pageParam === null ? {} : { before: pageParam } },
        }),
      ),
    initialPageParam: null as number | null,
    getNextPageParam: (last, pages) => {
      const shown = pages.reduce((n, page) => n + page.traces.length, 0);
      return shown < (pages[0]?.count ?? 0) ? (last.traces.at(-1)?.id ?? null) : null;
    },
  });
