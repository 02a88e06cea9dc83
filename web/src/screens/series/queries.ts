/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';
import { forever } from '../../api/queries';

export const node = (study: number, ref: string) =>
  queryOptions({
    queryKey: ['node', study, ref],
    queryFn: () =>
      body(api.GET('/api/studies/{id}/nodes/{node}/', { params: { path: { id: study, node: ref } } })),
    ...forever,
    staleTime: 30_000, // what the study found stays, but others may adjust the forecast meanwhile
  });

/** What the release before the study says of a node; releases are made while a study is open. */
export const released = (study: number, ref: string) =>
  queryOptions({
    queryKey: ['released', study, ref],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{node}/released/', {
          params: { path: { id: study, node: ref } },
        }),
      ),
  });

export const tries = (
  study: number,
  ref: string,
  methods: string[],
  actuals: (number | null)[],
  drivers: Record<string, (number | null)[]> = {},
) =>
  queryOptions({
    queryKey: ['tries', study, ref, methods, actuals, drivers],
    queryFn: ({ signal }) =>
      body(
        api.POST('/api/studies/{id}/nodes/{node}/try/', {
          params: { path: { id: study, node: ref } },
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

export const look = (study: number, ref: string, ask: LookAsk) =>
  queryOptions({
    queryKey: ['look', study, ref, ask],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{node}/look/', {
          params: { path: { id: study, node: ref }, query: { ...ask } },
        }),
      ),
    ...forever,
  });

export const fit = (study: number, ref: string, method: string) =>
  queryOptions({
    queryKey: ['fit', study, ref, method],
    queryFn: ({ signal }) =>
      body(
        api.GET('/api/studies/{id}/nodes/{node}/fit/', {
          params: { path: { id: study, node: ref }, query: { method } },
          signal,
        }),
      ),
    ...forever,
  });

export const tested = (study: number, ref: string, methods: string[]) =>
  queryOptions({
    queryKey: ['tested', study, ref, methods],
    queryFn: ({ signal }) =>
      body(
        api.GET('/api/studies/{id}/nodes/{node}/tested/', {
          params: { path: { id: study, node: ref }, query: { method: methods } },
          signal,
        }),
      ),
    ...forever,
  });

export const drivers = (study: number, ref: string, method: string) =>
  queryOptions({
    queryKey: ['drivers', study, ref, method],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{node}/drivers/', {
          params: { path: { id: study, node: ref }, query: method ? { method } : {} },
        }),
      ),
    ...forever,
  });

export const parts = (study: number, ref: string) =>
  queryOptions({
    queryKey: ['parts', study, ref],
    queryFn: ({ signal }) =>
      body(
        api.GET('/api/studies/{id}/nodes/{node}/parts/', {
          params: { path: { id: study, node: ref } },
          signal,
        }),
      ),
    ...forever,
  });

export const workings = (study: number, ref: string, method: string) =>
  queryOptions({
    queryKey: ['workings', study, ref, method],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{node}/workings/', {
          params: { path: { id: study, node: ref }, query: { method } },
        }),
      ),
    ...forever,
  });

/** What may be changed about a method on a node. */
export const methodForm = (study: number, ref: string, method: string) =>
  queryOptions({
    queryKey: ['form', study, ref, method],
    queryFn: ({ signal }) =>
      body(
        api.POST('/api/studies/{id}/nodes/{node}/form/', {
          params: { path: { id: study, node: ref } },
          body: { method },
          signal,
        }),
      ),
    ...forever,
  });

/** What releases said of a node, of which something has come. */
export const releasesOf = (study: number, ref: string) =>
  queryOptions({
    queryKey: ['releases-of', study, ref],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/nodes/{node}/releases/', { params: { path: { id: study, node: ref } } }),
      ),
  });
