/** Look: a series before any method. Differences, correlation with its past, years against each other, parts. */
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useState } from 'react';
import type { Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { Key } from '../../charts/key';
import { oneLine, yearLines, yearStyle } from '../../charts/over-time';
import { stemOptions } from '../../charts/stems';
import { fixed, periods as noun } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { typing } from '../../ui/typing';
import { type LookAsk, look as lookQuery } from './queries';

type Node = Schema['Node'];
type Look = Schema['Look'];

const SPANS = [
  { value: '2', label: '2 seasons' },
  { value: 'all', label: 'all' },
] as const;

const VIEWS = [
  { value: 'years', label: 'Years' },
  { value: 'parts', label: 'Trend, season, rest' },
] as const;

export function LookPage({
  study,
  node,
  title,
  actions,
}: {
  study: number;
  node: Node;
  title: React.ReactNode;
  actions: React.ReactNode;
}) {
  const [ask, setAsk] = useState<LookAsk>({ d: 0, seasonal_d: 0, logs: false });
  const [span, setSpan] = useState<'2' | 'all'>('all');
  const [view, setView] = useState<'years' | 'parts'>('years');
  const found = useQuery({ ...lookQuery(study, node.node, ask), placeholderData: keepPreviousData });
  const seasonal = node.season_length > 1;
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === 'd') setAsk((was) => ({ ...was, d: (was.d + 1) % 3 }));
      if (event.key === 's' && seasonal) setAsk((was) => ({ ...was, seasonal_d: 1 - was.seasonal_d }));
      if (event.key === 'l') setAsk((was) => ({ ...was, logs: !was.logs }));
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [seasonal]);
  const aside = (
    <div className="space-y-4 text-[13px]">
      <section aria-labelledby="differences">
        <h2 id="differences" className="mb-2 font-semibold text-second">
          Show
        </h2>
        <div className="space-y-2">
          <label className="flex items-center justify-between gap-2">
            <span>
              Differences, d <kbd className="kbd kbd-xs">d</kbd>
            </span>
            <select
              aria-label="Differences"
              className="select select-xs w-[64px]"
              value={ask.d}
              onChange={(event) => setAsk({ ...ask, d: Number(event.target.value) })}
            >
              {[0, 1, 2].map((d) => (
                <option key={d}>{d}</option>
              ))}
            </select>
          </label>
          {seasonal && (
            <Tick
              label={`Less the same ${noun(node.frequency, 1)} of the season before`}
              name="s"
              on={ask.seasonal_d === 1}
              onChange={(on) => setAsk({ ...ask, seasonal_d: on ? 1 : 0 })}
            />
          )}
          <Tick label="Logarithms" name="l" on={ask.logs} onChange={(logs) => setAsk({ ...ask, logs })} />
        </div>
      </section>
      {found.data && (
        <section aria-labelledby="advice">
          <h2 id="advice" className="mb-1 font-semibold text-second">
            What the tests say
          </h2>
          {found.data.advice.map((sentence) => (
            <p key={sentence} className="mb-1.5">
              {sentence}
            </p>
          ))}
          <p className="text-xs text-second">
            The season strength compares what the season explains with what it leaves. The level statistic is
            that of Kwiatkowski, Phillips, Schmidt and Shin. The automatic search differences by both.
          </p>
        </section>
      )}
      <section aria-labelledby="reading">
        <h2 id="reading" className="mb-1 font-semibold text-second">
          Reading the stems
        </h2>
        <p className="text-second">
          The shaded band holds 19 of 20 correlations of pure noise. Strong stems lie outside it, or at whole
          seasons.
        </p>
      </section>
    </div>
  );
  return (
    <Page title={title} actions={actions} aside={aside}>
      {found.isPending && <Loading what="the series" />}
      {found.isError && (
        <div className="p-[18px]">
          <Failed error={found.error} retry={() => void found.refetch()} />
          {(ask.logs || ask.seasonal_d > 0) && (
            <button
              type="button"
              className="btn btn-sm mt-2"
              onClick={() => setAsk({ ...ask, logs: false, seasonal_d: 0 })}
            >
              Show the values themselves
            </button>
          )}
        </div>
      )}
      {found.data && !found.isError && (
        <div className="p-[18px]">
          <Pictures found={found.data} ask={ask} node={node} span={span} onSpan={setSpan} />
          <div className="mt-3 mb-1 flex border-b border-rule pb-1">
            <Choice label="" options={VIEWS} value={view} onChange={setView} />
          </div>
          {view === 'years' ? <Years found={found.data} /> : <Parts found={found.data} />}
        </div>
      )}
    </Page>
  );
}

function Tick({
  label,
  name,
  on,
  onChange,
}: {
  label: string;
  name: string;
  on: boolean;
  onChange: (on: boolean) => void;
}) {
  return (
    <label className="flex items-start justify-between gap-2">
      <span>
        {label} <kbd className="kbd kbd-xs">{name}</kbd>
      </span>
      <input
        type="checkbox"
        className="checkbox checkbox-sm"
        checked={on}
        onChange={(event) => onChange(event.target.checked)}
      />
    </label>
  );
}

/** What is drawn, in words: "Logarithms, differenced once and at lag 52". */
export function shownAs(ask: LookAsk, season: number, unit: string): string {
  const times = ask.d === 1 ? 'once' : ask.d === 2 ? 'twice' : '';
  const how = [times, ask.seasonal_d ? `at lag ${season}` : ''].filter(Boolean).join(' and ');
  const what = ask.logs ? `Logarithms of units a ${unit}` : `Units a ${unit}`;
  return how ? `${what}, differenced ${how}` : what;
}

function Pictures({
  found,
  ask,
  node,
  span,
  onSpan,
}: {
  found: Look;
  ask: LookAsk;
  node: Node;
  span: '2' | 'all';
  onSpan: (span: '2' | 'all') => void;
}) {
  const colours = useColours();
  const plain = ask.d + ask.seasonal_d === 0 && !ask.logs;
  const from = span === 'all' ? 0 : Math.max(0, found.periods.length - 2 * Math.max(node.season_length, 12));
  const title = shownAs(ask, found.season_length, noun(node.frequency, 1));
  const line = useMemo(
    () => oneLine('shown', found.shown, found.periods, from, colours, plain),
    [found, from, colours, plain],
  );
  const acf = useMemo(
    () => stemOptions(found.acf, found.noise, found.season_length, 'ACF', colours),
    [found, colours],
  );
  const pacf = useMemo(
    () => stemOptions(found.pacf, found.noise, found.season_length, 'PACF', colours),
    [found, colours],
  );
  return (
    <>
      <div className="flex items-center gap-4">
        <b>{title}</b>
        <span className="ml-auto">
          <Choice label="" options={SPANS} value={span} onChange={onSpan} />
        </span>
      </div>
      <Chart options={line} label={`${node.name}: ${title}`} className="h-[190px] w-full" />
      <div className="grid grid-cols-2 gap-x-4">
        <figure>
          <figcaption className="text-[13px]">
            <b>ACF</b> <span className="text-second">correlation with its own past, by lag</span>
          </figcaption>
          <Chart options={acf} label="Autocorrelation by lag" className="h-[170px] w-full" />
        </figure>
        <figure>
          <figcaption className="text-[13px]">
            <b>PACF</b> <span className="text-second">what each lag adds to the shorter ones</span>
          </figcaption>
          <Chart options={pacf} label="Partial autocorrelation by lag" className="h-[170px] w-full" />
        </figure>
      </div>
    </>
  );
}

function Years({ found }: { found: Look }) {
  const colours = useColours();
  const years = found.years;
  const options = useMemo(() => (years ? yearLines(years, colours) : null), [years, colours]);
  if (!years || !options) return <p className="py-4 text-second">Yearly data have one value a year.</p>;
  const largest = Math.max(1e-9, ...years.values.flat().map((value) => value ?? 0));
  const digits = largest < 100 ? 1 : 0;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-4">
      <figure>
        <figcaption className="flex flex-wrap gap-x-4 gap-y-1 text-second">
          {years.years.map((year, j) => {
            const { colour, width, style } = yearStyle(years.years.length - 1 - j, colours);
            return <Key key={year} label={String(year)} colour={colour} width={width} style={style} />;
          })}
        </figcaption>
        <Chart options={options} label="The years over each other" className="h-[300px] w-full" />
      </figure>
      <section className="max-h-[330px] overflow-auto" aria-label={`${years.what} by year`}>
        <table className="sheet">
          <thead className="sticky top-0 z-10 bg-base-100">
            <tr>
              <th className="capitalize">{years.what}</th>
              {years.years.map((year) => (
                <th key={year} className="num">
                  {year}
                </th>
              ))}
              <th className="num">mean</th>
            </tr>
          </thead>
          <tbody>
            {years.places.map((place, i) => (
              <tr key={place}>
                <td>{place}</td>
                {(years.values[i] ?? []).map((value, j) => (
                  <td key={years.years[j]} className="num" style={{ background: tint(value, largest) }}>
                    {fixed(value, digits)}
                  </td>
                ))}
                <td className="num text-second">{fixed(years.usual[i], digits)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </div>
  );
}

/** The larger, the darker; the text on it stays readable. */
function tint(value: number | null, largest: number): string | undefined {
  if (value === null || value <= 0) return undefined;
  return `color-mix(in oklab, var(--color-success) ${Math.round((34 * value) / largest)}%, transparent)`;
}

function Parts({ found }: { found: Look }) {
  const colours = useColours();
  const { trend, season, rest, multiplied } = found.parts;
  const pictures = useMemo(
    () =>
      (
        [
          ['Trend', trend, false],
          [multiplied ? 'Season, a factor' : 'Season', season, !multiplied],
          [multiplied ? 'Rest, a factor' : 'Rest', rest, !multiplied],
        ] as const
      ).map(([name, values, zero]) => ({
        name,
        options: oneLine(name, values, found.periods, 0, colours, zero),
      })),
    [trend, season, rest, multiplied, found.periods, colours],
  );
  return (
    <>
      {pictures.map((one) => (
        <figure key={one.name} className="flex items-center gap-3">
          <figcaption className="w-[64px] text-[13px]">
            <b>{one.name}</b>
          </figcaption>
          <Chart options={one.options} label={one.name} className="h-[120px] min-w-0 flex-1" />
        </figure>
      ))}
      <p className="max-w-[84ch] text-[13px] text-second">
        Trend, season and rest {multiplied ? 'multiplied give' : 'add up to'} what was sold. The trend is the
        smoothest curve near the values that bends no faster than over two seasons; the season is the mean of
        what is left at each place of the season.
      </p>
    </>
  );
}
