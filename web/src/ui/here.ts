/** Where one is. */
import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import { portfolios, studies } from '../api/queries';

export interface Here {
  portfolio: number | undefined;
  study: number | undefined;
}

/** The portfolio and study of the address; without a study, the newest finished one of the portfolio. */
export function useHere(): Here {
  const params = useParams();
  const all = useQuery(portfolios).data;
  const portfolio = params.portfolio ? Number(params.portfolio) : all?.[0]?.id;
  const list = useQuery({ ...studies(portfolio ?? 0), enabled: portfolio !== undefined }).data;
  const newest = list?.find((study) => study.run.state === 'done' && !study.archived_at)?.id;
  return { portfolio, study: params.study ? Number(params.study) : newest };
}
