/** All series over time, folded by level down to single ones, and what has moved. */
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import type { Schema } from '../../api/client';
import { overview } from '../../api/queries';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { extremesOptions, spreadOptions, totalLine } from '../../charts/spread';
import { count, fixed, signed } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { IntakeTabs } from '../intake/tabs';

const SCALES = [
  { value: 'scaled', label: 'scaled to their own mean' },
  { value: 'units', label: 'in units' },
] as const;

/** The next finer dimension after those that are chosen already. */
export function nextDimension(dimensions: string[], by: string): string | undefined {
  return dimensions[dimensions.indexOf(by) + 1];
}

export function AllSeries() {
  const portfolio = Number(useParams().portfolio);
  const [ask, setAsk] = useSearchParams();
  const within = ask.getAll('within');
  const by = ask.get('by') ?? undefined;
  const asked = ask.get('last');
  const scale = ask.get('scale') === 'units' ? 'units' : 'scaled';
  const found = useQuery({
    ...overview(portfolio, { within, ...(asked ? { last: Number(asked) } : {}), ...(by ? { by } : {}) }),
    placeholderData: keepPreviousData,
  });
  const colours = useColours();
  const options = useMemo(
    () => found.data && spreadOptions(found.data, scale === 'scaled', colours),
    [found.data, scale, colours],
  );
  const extremes = useMemo(
    () => found.data && extremesOptions(found.data, scale === 'scaled', colours),
    [found.data, scale, colours],
  );
  const total = useMemo(() => found.data && totalLine(found.data, colours), [found.data, colours]);
  if (found.isPending) return <Loading what="all series" />;
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  const data = found.data;
  const { last } = data;
  const dimension = by ?? data.dimensions[0] ?? '';
  const set = (changes: Record<string, string | string[]>) => {
    const next = new URLSearchParams(ask);
    for (const [name, value] of Object.entries(changes)) {
      next.delete(name);
      for (const one of [value].flat()) next.append(name, one);
    }
    setAsk(next);
  };
  const into = (group: Schema['Group']) => {
    const finer = nextDimension(data.dimensions, dimension) ?? dimension;
    set({ within: [...within, `${dimension}=${group.name}`], by: finer });
  };
  return (
    <Page title="Intake › All series" actions={<IntakeTabs portfolio={portfolio} />}>
      <div className="space-y-4 p-[18px]">
        <div className="flex flex-wrap items-center gap-x-6 gap-y-1">
          <nav aria-label="Choice" className="text-base">
            <button type="button" className="cursor-pointer hover:underline" onClick={() => setAsk({})}>
              all series
            </button>
            {within.map((part, i) => (
              <span key={part}>
                {' › '}
                <button
                  type="button"
                  className="cursor-pointer hover:underline"
                  onClick={() =>
                    set({
                      within: within.slice(0, i + 1),
                      by: nextDimension(data.dimensions, part.split('=')[0] ?? '') ?? dimension,
                    })
                  }
                >
                  {part.split('=').slice(1).join('=')}
                </button>
              </span>
            ))}
            <span className="text-second">, {count(data.n_series)} series</span>
          </nav>
          <Choice label="Values" options={SCALES} value={scale} onChange={(value) => set({ scale: value })} />
        </div>
        {options && (
          <Chart
            className="h-[270px]"
            options={options}
            label={`Middle, spread and extremes of ${count(data.n_series)} series over time, ${scale === 'units' ? 'in units' : 'scaled to the mean of each series'}`}
          />
        )}
        <p className="text-[13px] text-second">
          The dark band holds the middle half of the series, the light band eight of ten.
          {scale === 'scaled' && ' 1 is the mean of each series.'}
        </p>
        <div className="flex">
          {extremes && data.n_series > 1 && (
            <figure className="min-w-0 flex-1">
              <figcaption className="text-[13px] font-semibold">Extremes</figcaption>
              <Chart className="h-[150px]" options={extremes} label="Largest and smallest series over time" />
            </figure>
          )}
          {total && (
            <figure className="min-w-0 flex-1">
              <figcaption className="text-[13px] font-semibold">Total, units</figcaption>
              <Chart className="h-[150px]" options={total} label="Total over time" />
            </figure>
          )}
        </div>
        <section aria-labelledby="movers">
          <div className="mb-1 flex flex-wrap items-center gap-x-6">
            <h2 id="movers" className="text-base font-semibold">
              Biggest movers
            </h2>
            <label className="flex items-center gap-2 text-[13px] text-second">
              by
              <select
                className="select select-xs w-auto text-base-content"
                value={dimension}
                onChange={(event) => set({ by: event.target.value })}
              >
                {data.dimensions.map((name) => (
                  <option key={name}>{name}</option>
                ))}
              </select>
            </label>
            <Choice
              label="over the last"
              options={[4, 13]
                .filter((n) => n <= data.periods.length)
                .map((n) => ({ value: `${n}`, label: `${n} periods` }))}
              value={String(last)}
              onChange={(value) => set({ last: value })}
            />
          </div>
          <table className="sheet">
            <thead>
              <tr>
                <th>{dimension}</th>
                <th className="num">Series</th>
                <th className="num">Last {last} periods, units</th>
                <th className="num">The {last} before</th>
                <th className="num">Change</th>
                <th className="num">Change, %</th>
                <th className="num">Against a year before, %</th>
              </tr>
            </thead>
            <tbody>
              {data.groups.slice(0, 60).map((group) => (
                <tr key={group.name}>
                  <td>
                    {group.series !== null ? (
                      <Link className="link" to={`/p/${portfolio}/intake/series/${group.series}`}>
                        {group.label}
                      </Link>
                    ) : (
                      <button type="button" className="link cursor-pointer" onClick={() => into(group)}>
                        {group.label}
                      </button>
                    )}
                  </td>
                  <td className="num">{count(group.n_series)}</td>
                  <td className="num">{count(group.now)}</td>
                  <td className="num">{fixed(group.before, 0)}</td>
                  <td className="num">
                    {signed(group.before === null ? null : group.now - group.before, 0)}
                  </td>
                  <td className="num">{change(group.now, group.before)}</td>
                  <td className="num">{change(group.now, group.year_before)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {data.n_groups > 60 && (
            <p className="mt-1 text-[13px] text-second">The 60 that moved most of {count(data.n_groups)}.</p>
          )}
        </section>
      </div>
    </Page>
  );
}

/** A change in percent, as text; nothing where there was nothing before. */
export function change(now: number, before: number | null): string {
  if (before === null || before <= 0) return '–';
  const percent = (100 * (now - before)) / before;
  return Math.abs(percent) > 999 ? `more than ${fixed(999, 0)}` : signed(percent, 1);
}
