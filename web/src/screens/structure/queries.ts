/** What the Structure screen asks for. */
import { queryOptions } from '@tanstack/react-query';
import { api, body, type Schema } from '../../api/client';
import { forever } from '../../api/queries';

export type Asked = Schema['StructureAskedRequest'];

export const structure = (study: number) =>
  queryOptions({
    queryKey: ['structure', study],
    queryFn: () => body(api.GET('/api/studies/{id}/structure/', { params: { path: { id: study } } })),
    ...forever,
  });

export const tried = (study: number, asked: Asked) =>
  queryOptions({
    queryKey: ['structure', study, asked],
    queryFn: () =>
      body(api.POST('/api/studies/{id}/structure/', { params: { path: { id: study } }, body: asked })),
    retry: false,
    ...forever,
  });

export const kin = (study: number, node: string) =>
  queryOptions({
    queryKey: ['kin', study, node],
    queryFn: () =>
      body(api.GET('/api/studies/{id}/nodes/{node}/kin/', { params: { path: { id: study, node } } })),
    ...forever,
  });
