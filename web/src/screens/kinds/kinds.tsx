/** Kinds of demand: how many series are of each, what they sell, and moving one by hand. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { useReader } from '../../api/roles';
import { Chart } from '../../charts/chart';
import { cloudOptions } from '../../charts/cloud';
import { useColours } from '../../charts/colours';
import { count, fixed } from '../../ui/format';
import { useHere } from '../../ui/here';
import { Page } from '../../ui/page';
import { Failed, Loading, Refused } from '../../ui/states';
import { IntakeTabs } from '../intake/tabs';
import { kinds } from './queries';

const WORDS: Record<string, string> = {
  smooth: 'sells nearly every period, sizes alike',
  erratic: 'sells nearly every period, sizes vary',
  intermittent: 'sells now and then, sizes alike',
  lumpy: 'sells now and then, sizes vary',
  seasonal: 'of those above, with a season of the year',
  'in season only': 'sells in one part of the year; forecast as zero outside it',
  new: 'less than a season since the first sale',
  ended: 'no sale for more than a season; forecast as zero',
  'no sales': 'nothing was ever sold',
};

export function KindsScreen() {
  const portfolio = Number(useParams().portfolio);
  const { study } = useHere();
  const [search, setSearch] = useSearchParams();
  const kind = search.get('kind');
  const found = useQuery({ ...kinds(portfolio, kind), placeholderData: keepPreviousData });
  const colours = useColours();
  const options = useMemo(() => found.data && cloudOptions(found.data.cloud, colours), [found.data, colours]);
  if (found.isPending) return <Loading what="kinds of demand" />;
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  const data = found.data;
  return (
    <Page title="Intake › Kinds of demand" actions={<IntakeTabs portfolio={portfolio} />}>
      <div className="space-y-6 p-[18px]">
        <div className="flex flex-wrap items-start gap-6">
          <table className="sheet w-auto! min-w-[600px] flex-1">
            <thead>
              <tr>
                <th>Kind</th>
                <th className="num">Series</th>
                <th className="num">Share of series, %</th>
                <th className="num">Share of volume, %</th>
                <th>Largest</th>
              </tr>
            </thead>
            <tbody>
              {data.kinds.map((one) => (
                <tr key={one.kind} className={one.kind === kind ? 'bg-raised' : ''}>
                  <td>
                    <button
                      type="button"
                      className="cursor-pointer font-semibold hover:underline"
                      disabled={one.count === 0}
                      aria-pressed={one.kind === kind}
                      onClick={() => setSearch(one.kind === kind ? {} : { kind: one.kind })}
                    >
                      {one.kind}
                    </button>
                    <span className="block text-xs text-second">{WORDS[one.kind]}</span>
                  </td>
                  <td className="num">{count(one.count)}</td>
                  <td className="num">{fixed((100 * one.count) / data.n_series, 1)}</td>
                  <td className="num">{fixed((100 * one.volume) / Math.max(data.volume, 1e-9), 1)}</td>
                  <td className="text-second">
                    {one.examples.map((example) => (
                      <Link
                        key={example.series}
                        className="mr-3 inline-block hover:underline"
                        to={`/p/${portfolio}/intake/series/${example.series}`}
                      >
                        {example.name}
                      </Link>
                    ))}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {options && (
            <Chart
              className="h-[330px] w-[380px]"
              options={options}
              label="Interval between sales against variation of sizes, a dot per series"
            />
          )}
        </div>
        {kind && <Members portfolio={portfolio} kind={kind} data={data} study={study} />}
      </div>
    </Page>
  );
}

function Members({
  portfolio,
  kind,
  data,
  study,
}: {
  portfolio: number;
  kind: string;
  data: Schema['Kinds'];
  study: number | undefined;
}) {
  const client = useQueryClient();
  const reader = useReader();
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const move = useMutation({
    mutationFn: (to: string | null) =>
      body(
        api.POST('/api/portfolios/{id}/kinds/', {
          params: { path: { id: portfolio } },
          body: { series: [...chosen], kind: to },
        }),
      ),
    onSuccess: () => {
      setChosen(new Set());
      client.invalidateQueries({ queryKey: ['kinds', portfolio] });
    },
  });
  const total = data.kinds.find((one) => one.kind === kind)?.count ?? 0;
  return (
    <section aria-labelledby="members">
      <div className="mb-1 flex flex-wrap items-center gap-4">
        <h2 id="members" className="text-base font-semibold">
          {kind}, {count(total)} series
        </h2>
        {study !== undefined && (
          <Link
            className="link text-[13px]"
            to={`/p/${portfolio}/s/${study}/field?kind=${encodeURIComponent(kind)}`}
          >
            show only these in the Field
          </Link>
        )}
        <label className="ml-auto flex items-center gap-2 text-[13px] text-second">
          Move {chosen.size > 0 ? count(chosen.size) : 'the chosen ones'} to
          <select
            className="select select-xs w-auto text-base-content"
            disabled={chosen.size === 0 || move.isPending}
            {...reader}
            value=""
            onChange={(event) => move.mutate(event.target.value === 'own' ? null : event.target.value)}
          >
            <option value="">choose a kind</option>
            {data.movable.map((one) => (
              <option key={one}>{one}</option>
            ))}
            <option value="own">what the figures say</option>
          </select>
        </label>
      </div>
      <Refused of={[move]} />
      <table className="sheet">
        <thead>
          <tr>
            <th aria-label="Chosen" />
            <th>Series</th>
            <th>Kind</th>
            <th className="num">Volume, last season</th>
            <th className="num">Interval</th>
            <th className="num">Variation</th>
            <th className="num">Season, 0 to 1</th>
            <th className="num">Trend, 0 to 1</th>
            <th className="num">Noise, 0 to 1</th>
            <th className="num">Empty, %</th>
            <th>First sale</th>
            <th>Last sale</th>
          </tr>
        </thead>
        <tbody>
          {data.series.map((one) => (
            <tr key={one.series}>
              <td>
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs"
                  aria-label={`Choose ${one.name}`}
                  checked={chosen.has(one.series)}
                  onChange={() => {
                    const next = new Set(chosen);
                    if (!next.delete(one.series)) next.add(one.series);
                    setChosen(next);
                  }}
                />
              </td>
              <td>
                <Link className="hover:underline" to={`/p/${portfolio}/intake/series/${one.series}`}>
                  {one.name}
                </Link>
              </td>
              <td>
                {one.kind}
                {one.by_hand && <span className="text-accent"> (by hand)</span>}
              </td>
              <td className="num">{fixed(one.volume, 0)}</td>
              <td className="num">{fixed(one.interval, 2)}</td>
              <td className="num">{fixed(one.variation, 2)}</td>
              <td className="num">{fixed(one.season, 2)}</td>
              <td className="num">{fixed(one.trend, 2)}</td>
              <td className="num">{fixed(one.entropy, 2)}</td>
              <td className="num">{one.empty === null ? '–' : fixed(100 * one.empty, 0)}</td>
              <td className="whitespace-nowrap">{one.first_sale ?? '–'}</td>
              <td className="whitespace-nowrap">{one.last_sale ?? '–'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {total > data.series.length && (
        <p className="mt-1 text-[13px] text-second">The {count(data.series.length)} largest are shown.</p>
      )}
    </section>
  );
}
