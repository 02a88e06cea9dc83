/** What the screen asks the server. */
import { keepPreviousData, queryOptions } from '@tanstack/react-query';
import { api, body, type Schema } from '../../api/client';

export type Rule = Required<Schema['Rule']>;

export const choice = (study: number, rule: Rule | null) =>
  queryOptions({
    queryKey: ['choice', study, rule],
    queryFn: () =>
      body(api.GET('/api/studies/{id}/choice/', { params: { path: { id: study }, query: { ...rule } } })),
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY, // a result is written once and stays
  });
