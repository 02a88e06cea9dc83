/** The way in: the newest study's Field, a portfolio that waits for its first study, or Intake. */
import { useQuery } from '@tanstack/react-query';
import { Navigate } from 'react-router';
import { portfolios, studies } from '../api/queries';
import { Failed, Loading } from '../ui/states';

export function Start() {
  const all = useQuery(portfolios);
  const newest = all.data?.[0]?.id;
  const list = useQuery({ ...studies(newest ?? 0), enabled: newest !== undefined });
  if (all.isError) return <Failed error={all.error} retry={() => void all.refetch()} />;
  if (list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  if (all.isPending || (newest !== undefined && list.isPending)) return <Loading what="your portfolios" />;
  if (newest === undefined) return <Navigate to="/intake" replace />;
  const done = list.data?.find((study) => study.run.state === 'done');
  return <Navigate to={done ? `/p/${newest}/s/${done.id}/field` : `/p/${newest}/study`} replace />;
}
