/** What the screen asks the server. */
import { queryOptions } from '@tanstack/react-query';
import { api, body } from '../../api/client';

export const draft = (study: number) =>
  queryOptions({
    queryKey: ['draft', study],
    queryFn: () => body(api.GET('/api/studies/{id}/draft/', { params: { path: { id: study } } })),
  });

export const tokens = queryOptions({ queryKey: ['tokens'], queryFn: () => body(api.GET('/api/tokens/')) });
