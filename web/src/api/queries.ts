/** What screens ask the server, each under one key. */
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

const forever = { staleTime: Number.POSITIVE_INFINITY, gcTime: 600_000 } as const;

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

export const node = (study: number, position: number) =>
  queryOptions({
    queryKey: ['node', study, position],
    queryFn: () =>
      body(api.GET('/api/studies/{id}/nodes/{position}/', { params: { path: { id: study, position } } })),
    ...forever,
  });

/** What the release before the study says of a node; releases are made while a study is open. */
export const released = (study: number, position: number) =>
  queryOptions({
    queryKey: ['released', study, position],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{position}/released/', {
          params: { path: { id: study, position } },
        }),
      ),
  });

export const tries = (
  study: number,
  position: number,
  methods: string[],
  actuals: (number | null)[],
  drivers: Record<string, (number | null)[]> = {},
) =>
  queryOptions({
    queryKey: ['tries', study, position, methods, actuals, drivers],
    queryFn: ({ signal }) =>
      body(
        api.POST('/api/studies/{id}/nodes/{position}/try/', {
          params: { path: { id: study, position } },
          body: { methods, actuals, drivers },
          signal,
        }),
      ),
    ...forever,
    gcTime: 60_000,
  });

export interface LookAsk {
  d: number;
  seasonal_d: number;
  logs: boolean;
}

export const look = (study: number, position: number, ask: LookAsk) =>
  queryOptions({
    queryKey: ['look', study, position, ask],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{position}/look/', {
          params: { path: { id: study, position }, query: { ...ask } },
        }),
      ),
    ...forever,
  });

export const fit = (study: number, position: number, method: string) =>
  queryOptions({
    queryKey: ['fit', study, position, method],
    queryFn: ({ signal }) =>
      body(
        api.GET('/api/studies/{id}/nodes/{position}/fit/', {
          params: { path: { id: study, position }, query: { method } },
          signal,
        }),
      ),
    ...forever,
  });

export const tested = (study: number, position: number, methods: string[]) =>
  queryOptions({
    queryKey: ['tested', study, position, methods],
    queryFn: ({ signal }) =>
      body(
        api.GET('/api/studies/{id}/nodes/{position}/tested/', {
          params: { path: { id: study, position }, query: { method: methods } },
          signal,
        }),
      ),
    ...forever,
  });

export const drivers = (study: number, position: number, method: string) =>
  queryOptions({
    queryKey: ['drivers', study, position, method],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{position}/drivers/', {
          params: { path: { id: study, position }, query: method ? { method } : {} },
        }),
      ),
    ...forever,
  });

export const parts = (study: number, position: number) =>
  queryOptions({
    queryKey: ['parts', study, position],
    queryFn: ({ signal }) =>
      body(
        api.GET('/api/studies/{id}/nodes/{position}/parts/', {
          params: { path: { id: study, position } },
          signal,
        }),
      ),
    ...forever,
  });

export const workings = (study: number, position: number, method: string) =>
  queryOptions({
    queryKey: ['workings', study, position, method],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{position}/workings/', {
          params: { path: { id: study, position }, query: { method } },
        }),
      ),
    ...forever,
  });

export const kept = (portfolio: number) =>
  queryOptions({
    queryKey: ['kept', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/kept/', { params: { path: { id: portfolio } } })),
  });

export const releases = (portfolio: number) =>
  queryOptions({
    queryKey: ['releases', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/releases/', { params: { path: { id: portfolio } } })),
  });

export const draft = (study: number) =>
  queryOptions({
    queryKey: ['draft', study],
    queryFn: () => body(api.GET('/api/studies/{id}/draft/', { params: { path: { id: study } } })),
  });

export const tokens = queryOptions({ queryKey: ['tokens'], queryFn: () => body(api.GET('/api/tokens/')) });

/** A failed answer is asked for again only when the connection may be to blame. */
export function worthRetrying(count: number, error: unknown): boolean {
  return count < 2 && !(error instanceof ApiError);
}

export const loads = (portfolio: number) =>
  queryOptions({
    queryKey: ['loads', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/loads/', { params: { path: { id: portfolio } } })),
  });

export const coverage = (portfolio: number) =>
  queryOptions({
    queryKey: ['coverage', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/coverage/', { params: { path: { id: portfolio } } })),
    staleTime: 60_000,
  });

export interface OverviewAsk {
  by?: string;
  within: string[];
  last: number;
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

export const oneSeries = (portfolio: number, position: number) =>
  queryOptions({
    queryKey: ['series', portfolio, position],
    queryFn: () =>
      body(
        api.GET('/api/portfolios/{id}/series/{position}/', { params: { path: { id: portfolio, position } } }),
      ),
  });

export const search = (portfolio: number) =>
  queryOptions({
    queryKey: ['search', portfolio],
    queryFn: async () =>
      (await body(api.GET('/api/portfolios/{id}/searches/', { params: { path: { id: portfolio } } }))) ||
      null,
  });

export const plans = (portfolio: number) =>
  queryOptions({
    queryKey: ['plans', portfolio],
    queryFn: () => body(api.GET('/api/portfolios/{id}/plans/', { params: { path: { id: portfolio } } })),
  });

export interface LedgerAsk {
  state: 'standing' | 'reverted' | 'all';
  key?: string;
  level?: string;
}

export const ledger = (portfolio: number, ask: LedgerAsk) =>
  queryOptions({
    queryKey: ['ledger', portfolio, ask],
    queryFn: () =>
      body(
        api.GET('/api/portfolios/{id}/corrections/', {
          params: { path: { id: portfolio }, query: { ...ask } },
        }),
      ),
  });

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
