/** Models beside each other: their forecasts, how they fit, and how they did from earlier origins. */
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import type { Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { modelsOptions } from '../../charts/over-time';
import { fixed } from '../../ui/format';
import { TableOut } from '../../ui/table-out';
import { NAMES } from './chips';
import { OriginForms } from './origin-forms';
import { tested as testedQuery } from './queries';

type Node = Schema['Node'];
type Fit = Schema['Fit'];

/** Seasons of the past in the picture. */
const SHOWN = 2;

export function Compare({
  study,
  node,
  texts,
  fits,
  active,
}: {
  study: number;
  node: Node;
  texts: string[];
  fits: (Fit | undefined)[];
  active: number;
}) {
  const colours = useColours();
  const names = useMemo(() => [...NAMES.slice(0, texts.length - 1), 'Search'], [texts.length]);
  const tested = useQuery({ ...testedQuery(study, node.node, texts), placeholderData: keepPreviousData });
  const first = fits.find((one) => one !== undefined);
  const from = first ? Math.max(0, first.n_past - SHOWN * Math.max(node.season_length, 12)) : 0;
  const options = useMemo(
    () =>
      first
        ? modelsOptions(
            first.periods,
            first.history,
            fits.flatMap((one, i) =>
              one?.fit.forecast ? [{ name: names[i] ?? '', forecast: one.fit.forecast }] : [],
            ),
            from,
            colours,
          )
        : null,
    [first, fits, names, from, colours],
  );
  if (!first || !options) return null;
  const bases = fits.flatMap((one) => one?.fit.basis ?? []);
  const comparable = new Set(bases).size === 1;
  const outside = (i: number) =>
    tested.data?.find((one) => one.method === texts[i])?.measures as
      | Record<string, number | null>
      | undefined;
  /** The least of several; one alone is not marked. */
  const least = (values: (number | null | undefined)[]) => {
    const known = values.filter((value) => value !== null && value !== undefined);
    return known.length > 1 ? Math.min(...known) : Number.NEGATIVE_INFINITY;
  };
  const rmsse = least(texts.map((_, i) => outside(i)?.RMSSE));
  const mae = least(texts.map((_, i) => outside(i)?.MAE));
  const inside = least(fits.map((one) => one?.fit.measures.RMSE));
  const current = tested.data?.find((one) => one.method === texts[active]);
  return (
    <>
      <section aria-labelledby="beside" className="mt-5">
        <div className="mb-1 flex items-center">
          <h2 id="beside" className="mr-auto font-semibold">
            Beside each other
          </h2>
          <TableOut
            name="Models beside each other"
            head={[
              'Model',
              'AICc',
              'RMSE in sample',
              'MAE tested',
              'WAPE tested %',
              'MASE tested',
              'RMSSE tested',
            ]}
            rows={() =>
              texts.map((text, i) => {
                const { criteria, measures, model } = fits[i]?.fit ?? {};
                const { MAE, WAPE, MASE, RMSSE } = outside(i) ?? {};
                return [model ?? text, criteria?.aicc, measures?.RMSE, MAE, WAPE, MASE, RMSSE];
              })
            }
          />
        </div>
        <Chart
          options={options}
          label="History and the forecast of each model"
          className="h-[230px] w-full"
        />
        <table className="sheet mt-1">
          <thead>
            <tr>
              <th>Model</th>
              <th className="num">AICc</th>
              <th className="num">RMSE in sample</th>
              <th className="num">MAE tested</th>
              <th className="num">WAPE tested %</th>
              <th className="num">MASE tested</th>
              <th className="num">RMSSE tested</th>
            </tr>
          </thead>
          <tbody>
            {texts.map((text, i) => {
              const measures = outside(i);
              return (
                // biome-ignore lint/suspicious/noArrayIndexKey: a model is known by its place
                <tr key={i}>
                  <td>
                    <b>{names[i]}</b> {fits[i]?.fit.model ?? text}
                  </td>
                  <td className="num">{fixed(fits[i]?.fit.criteria?.aicc, 1)}</td>
                  <Cell value={fits[i]?.fit.measures.RMSE} best={inside} digits={1} />
                  <Cell value={measures?.MAE} best={mae} digits={1} />
                  <td className="num">{fixed(measures?.WAPE, 1)}</td>
                  <td className="num">{fixed(measures?.MASE, 3)}</td>
                  <Cell value={measures?.RMSSE} best={rmsse} digits={3} />
                </tr>
              );
            })}
          </tbody>
        </table>
        <p className="mt-1 max-w-[90ch] text-[13px] text-second">
          {tested.isError ? 'The test from earlier origins failed; change a model to ask again. ' : ''}
          {tested.isFetching ? 'Testing … ' : ''}
          Tested: forecasts from {node.origins.length} earlier origins against what came, which is what
          counts; ✓ marks the least.{' '}
          {bases.length > 1 &&
            (comparable
              ? 'AICc compares these models: they have the same differences and scale, and the least is best.'
              : 'AICc is not comparable here: these models differ in their differences or their scale.')}
        </p>
      </section>
      {current && current.origins.length > 0 && (
        <section aria-labelledby="at-origins" className="mt-4">
          <h2 id="at-origins" className="mb-1 font-semibold">
            {names[active]} at each origin
          </h2>
          <OriginForms origins={current.origins} />
        </section>
      )}
    </>
  );
}

function Cell({ value, best, digits }: { value: number | null | undefined; best: number; digits: number }) {
  const is = value !== null && value !== undefined && value <= best;
  return (
    <td className={`num ${is ? 'font-semibold' : ''}`}>
      {fixed(value, digits)}
      {is && <span title="the least"> ✓</span>}
    </td>
  );
}
