/** What several screens ask the server, each under one key; what one asks stands in its folder. */
import { queryOptions } from '@tanstack/react-query';
import { ApiError, api, body } from './client';

export const session = queryOptions({
  queryKey: ['session'],
  queryFn: () => body(api.GET('/api/session/')),
  staleTime: Number.POSITIVE_INFINITY,
});

export const portfolios = queryOptions({
  queryKey: ['portfolios'],
  queryFn: () => body(api.GET('/api/portfolios/')),
});

/** How many of a list come at once; a page that is full has more after it. */
export const PAGE = 100;

/** The newest studies of a portfolio. */
export const studies = (portfolio: number) =>
  queryOptions({
    queryKey: ['studies', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/studies/', { params: { path: { id: portfolio } } })),
    // while something runs, its progress is asked for; else only when the planner comes back
    refetchInterval: (query) =>
      query.state.data?.some((study) => study.run.state === 'queued' || study.run.state === 'running')
        ? 700
        : false,
  });

/** A study by itself, where it may be too old for the list. */
export const oneStudy = (study: number) =>
  queryOptions({
    queryKey: ['study', study],
    queryFn: () => body(api.GET('/api/studies/{id}/', { params: { path: { id: study } } })),
  });

/** What a study found does not change. */
export const forever = { staleTime: Number.POSITIVE_INFINITY, gcTime: 600_000 } as const;

export const sheet = (study: number) =>
  queryOptions({
    queryKey: ['sheet', study],
    queryFn: () => body(api.GET('/api/studies/{id}/field/', { params: { path: { id: study } } })),
    ...forever,
  });

export const summary = (study: number) =>
  queryOptions({
    queryKey: ['summary', study],
    queryFn: () => body(api.GET('/api/studies/{id}/summary/', { params: { path: { id: study } } })),
    ...forever,
  });

export const releases = (portfolio: number) =>
  queryOptions({
    queryKey: ['releases', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/releases/', { params: { path: { id: portfolio } } })),
  });

/** A failed answer is asked for again only when the connection may be to blame. */
export function worthRetrying(count: number, error: unknown): boolean {
  return count < 2 && !(error instanceof ApiError);
}

export interface OverviewAsk {
  by?: string;
  within: string[];
  last?: number;
}

export const overview = (portfolio: number, ask: OverviewAsk) =>
  queryOptions({
    queryKey: ['overview', portfolio, ask],
    queryFn: () =>
      body(
        api.GET('/api/portfolios/{id}/overview/', {
          params: { path: { id: portfolio }, query: { ...ask } },
        }),
      ),
    staleTime: 60_000,
  });

export const oneSeries = (portfolio: number, ref: string) =>
  queryOptions({
    queryKey: ['series', portfolio, ref],
    queryFn: () =>
      body(
        api.GET('/api/portfolios/{id}/series/{series}/', {
          params: { path: { id: portfolio, series: ref } },
        }),
      ),
  });

export const search = (portfolio: number) =>
  queryOptions({
    queryKey: ['search', portfolio],
    queryFn: async () =>
      (await body(api.GET('/api/portfolios/{id}/searches/', { params: { path: { id: portfolio } } }))) ||
      null,
  });
