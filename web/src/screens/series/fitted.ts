import type { Schema } from '../../api/client';

/** The method that is fitted to a node; null where it is zero by decision, comes by plan, or gets a share of another. */
export const fittedMethod = (node: Pick<Schema['Node'], 'method' | 'family'>): string | null =>
  node.family === '' ? null : node.method;
