/** Try it: up to four methods on one series, side by side, redrawn while a constant is turned. Nothing is saved. */
import { keepPreviousData, useIsFetching, useQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { Fragment, memo, useDeferredValue, useEffect, useMemo, useRef, useState } from 'react';
import type { Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { commonAxis, tryOptions } from '../../charts/tries';
import { biased, fixed, periods } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { type Cell, TableOut } from '../../ui/table-out';
import { Ahead } from './ahead';
import { Chips, NAMES } from './chips';
import { fittedMethod } from './fitted';
import { Found } from './found';
import { Keep } from './keep';
import { MethodForm } from './method-form';
import { tries as triesQuery } from './queries';

type Node = Schema['Node'];
type Tries = Schema['Tries'];
type Try = Schema['Try'];

const MEASURES = ['ME', 'MAE', 'MSE', 'RMSE', 'MAPE', 'WAPE', 'MASE'] as const;
/** Periods of the past in a small picture. */
const SHOWN = 2;

/**
 * A value that follows at once while the server is idle, else after a pause, so that a drag does not ask for every pixel.
 */
function useSettled<T>(value: T, busy: boolean): T {
  const held = useRef(value);
  const [, again] = useState(0);
  if (!busy) held.current = value;
  useEffect(() => {
    if (!busy || held.current === value) return;
    const timer = setTimeout(() => {
      held.current = value;
      again((n) => n + 1);
    }, 25);
    return () => clearTimeout(timer);
  }, [value, busy]);
  return held.current;
}

export function TryIt({
  study,
  portfolio,
  node,
  title,
  actions,
}: {
  study: number;
  portfolio: number;
  node: Node;
  title: React.ReactNode;
  actions: React.ReactNode;
}) {
  const [texts, setTexts] = useState<string[]>([fittedMethod(node) ?? 'ets(best)', 'seasonal-naive']);
  const [active, setActive] = useState(0);
  const [actuals, setActuals] = useState<(number | null)[]>([]);
  const [keeping, setKeeping] = useState(false);
  const wanted = useMemo(() => ({ texts, actuals }), [texts, actuals]);
  const asked = useSettled(wanted, useIsFetching({ queryKey: ['tries', study, node.node] }) > 0);
  const found = useQuery({
    ...triesQuery(study, node.node, asked.texts, asked.actuals),
    placeholderData: keepPreviousData,
  });
  const table = useDeferredValue(found.data); // pictures first: the eye is on them while the hand moves
  const noun = periods(node.frequency, 1);
  const change = (text: string) => setTexts((before) => before.map((one, i) => (i === active ? text : one)));
  const current = found.data?.tries[active];
  const settled = table?.tries[active];
  const ahead = table?.periods.slice(table.n_past);
  const estimates = Object.fromEntries((current?.parameters ?? []).map((p) => [p.name, p.value]));
  return (
    <Page
      title={title}
      actions={actions}
      aside={
        <div className="space-y-4">
          <section aria-labelledby="controls">
            <h2 id="controls" className="mb-2 text-[13px] font-semibold text-second">
              Try {NAMES[active]}
            </h2>
            <MethodForm
              key={active}
              study={study}
              node={node.node}
              text={texts[active] ?? ''}
              estimates={estimates}
              noun={noun}
              onChange={change}
            />
          </section>
          <button
            type="button"
            className="btn btn-sm btn-primary w-full"
            disabled={current?.problem !== ''}
            onClick={() => setKeeping(true)}
          >
            Keep {NAMES[active]} …
          </button>
          {current && <Found one={current} noun={noun} onForm={change} />}
        </div>
      }
    >
      <div className="p-[18px]">
        <div className="mb-2 flex flex-wrap items-center gap-2">
          <Chips texts={texts} active={active} fallback="ets(best)" onTexts={setTexts} onActive={setActive} />
          <span className="ml-auto text-[13px] text-second">Nothing here is saved until you keep it.</span>
        </div>
        {found.isPending && <Loading what="the tries" />}
        {found.isError && <Failed error={found.error} retry={() => void found.refetch()} />}
        {found.data && (
          <>
            <Pictures
              found={found.data}
              seasonLength={node.season_length}
              active={active}
              onPick={setActive}
            />
            <Sheet found={table ?? found.data} actuals={actuals} onActuals={setActuals} />
            {settled && !settled.problem && (
              <Ahead one={settled} index={active} periods={ahead ?? []} noun={noun} />
            )}
          </>
        )}
      </div>
      {keeping && current && (
        <Keep
          study={study}
          portfolio={portfolio}
          node={node}
          method={current.text}
          close={() => setKeeping(false)}
        />
      )}
    </Page>
  );
}

/** Drawn anew only when what was found changes, not with every move of a control. */
const Pictures = memo(function Pictures({
  found,
  seasonLength,
  active,
  onPick,
}: {
  found: Tries;
  seasonLength: number;
  active: number;
  onPick: (index: number) => void;
}) {
  const from = Math.max(0, found.n_past - SHOWN * Math.max(seasonLength, 12));
  const { min, max, interval } = commonAxis(found, from);
  return (
    <section
      aria-label="Pictures, on one axis"
      className={`grid gap-x-4 gap-y-2 ${found.tries.length > 1 ? 'grid-cols-2' : ''}`}
    >
      {found.tries.map((one, i) => (
        <Picture
          // biome-ignore lint/suspicious/noArrayIndexKey: a try is known by its place
          key={i}
          index={i}
          one={one}
          history={found.history}
          periods={found.periods}
          from={from}
          min={min}
          max={max}
          interval={interval}
          chosen={i === active}
          low={found.tries.length > 2}
          onPick={onPick}
        />
      ))}
    </section>
  );
});

/** Of all tries only the one that changed has to be drawn again: the query keeps what is the same as the same object. */
const Picture = memo(function Picture({
  index,
  one,
  history,
  periods: labels,
  from,
  min,
  max,
  interval,
  chosen,
  low,
  onPick,
}: {
  index: number;
  one: Try;
  history: Tries['history'];
  periods: Tries['periods'];
  from: number;
  min: number;
  max: number;
  interval: number;
  chosen: boolean;
  low: boolean;
  onPick: (index: number) => void;
}) {
  const colours = useColours();
  const name = NAMES[index] ?? '';
  const options = useMemo(
    () => (one.problem ? null : tryOptions(labels, history, one, from, { min, max, interval }, colours)),
    [labels, history, one, from, min, max, interval, colours],
  );
  return (
    <figure className={`border-t-2 pt-1 ${chosen ? 'border-base-content' : 'border-rule'}`}>
      <figcaption className="flex items-baseline gap-2 text-[13px]">
        <button type="button" className="cursor-pointer truncate text-left" onClick={() => onPick(index)}>
          <b>{name}</b> {one.model ?? one.text}
        </button>
      </figcaption>
      {options ? (
        <Chart
          key={one.bands?.length} // what is merged never has fewer bands than before
          steady
          options={options}
          label={`Try ${name}: history, fitted values, forecast and bands`}
          className={`${low ? 'h-[150px]' : 'h-[210px]'} w-full`}
        />
      ) : (
        <p role="alert" className="py-8 text-error">
          {one.problem}
        </p>
      )}
    </figure>
  );
});

/** The sheet as it is taken along: every period of the past, and the measures of each try under its errors. */
const columns = (found: Tries) => [
  'Period',
  'Actual',
  ...found.tries.flatMap((one, i) => [`${NAMES[i]} fitted: ${one.model ?? one.text}`, `${NAMES[i]} error`]),
];

function lines(found: Tries): Cell[][] {
  const past = found.history.map((actual, t) => [
    found.periods[t],
    actual,
    ...found.tries.flatMap((one) => [one.fitted?.[t], one.residuals?.[t]]),
  ]);
  const measures = MEASURES.map((name) => [
    name === 'MAPE' || name === 'WAPE' ? `${name} %` : name,
    null,
    ...found.tries.flatMap((one) => [null, one.measures[name]]),
  ]);
  return [...past, ...measures];
}

/** Height of a row, and of what is seen of them: the head and seven. */
const ROW = 31;
const SEEN = 8 * ROW;

const Sheet = memo(function Sheet({
  found,
  actuals,
  onActuals,
}: {
  found: Tries;
  actuals: (number | null)[];
  onActuals: (values: (number | null)[]) => void;
}) {
  return (
    <section aria-labelledby="sheet" className="mt-4">
      <div className="mb-1 flex items-center">
        <h2 id="sheet" className="mr-auto font-semibold">
          Period by period
        </h2>
        <TableOut name="Period by period" head={columns(found)} rows={() => lines(found)} />
      </div>
      <Rows found={found} actuals={actuals} onActuals={onActuals} />
      <table className="sheet mt-3">
        <thead>
          <tr>
            <th>One period ahead</th>
            {MEASURES.map((name) => (
              <th key={name} className="num">
                {name === 'MAPE' || name === 'WAPE' ? `${name} %` : name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {found.tries.map((one, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a try is known by its place
            <tr key={i}>
              <td>
                <b>{NAMES[i]}</b> {one.model ?? one.text}
              </td>
              {MEASURES.map((name) => (
                <td key={name} className={`num ${found.best[name] === i ? 'font-semibold' : ''}`}>
                  {name === 'ME'
                    ? biased(one.measures[name], 2)
                    : fixed(one.measures[name], name === 'MASE' ? 3 : 2)}
                  {found.best[name] === i && <span title="the best"> ✓</span>}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 max-w-[80ch] text-[13px] text-second">
        Errors of one period ahead, actual minus forecast, over the periods that all tries can fit; ✓ marks
        the best of each column. A method that fits the past best need not forecast best: the backtest under
        Forecast decides. Type an actual into the last row to see forecast and bands move.
      </p>
    </section>
  );
});

/** The periods, of which only those in sight are in the page: all of them would take longer to lay out than the pictures. */
function Rows({
  found,
  actuals,
  onActuals,
}: {
  found: Tries;
  actuals: (number | null)[];
  onActuals: (values: (number | null)[]) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const n = found.n_past;
  const rows = useVirtualizer({
    count: n + 1,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 4,
    observeElementRect: (_, report) => report({ width: 0, height: SEEN }), // it never changes
  });
  // the last row, where an actual can be typed, stays in sight
  useEffect(() => rows.scrollToIndex(n, { align: 'end' }), [rows, n]);
  const shown = rows.getVirtualItems();
  const above = shown[0]?.start ?? 0;
  const below = rows.getTotalSize() - (shown.at(-1)?.end ?? 0);
  const known = n - actuals.length;
  const digits = Math.max(...found.history.map((v) => Math.abs(v ?? 0))) < 1000 ? 1 : 0;
  const type = (index: number, text: string) => {
    const next = [...actuals];
    next[index] = text === '' ? null : Number(text);
    while (next.length && next.at(-1) === null) next.pop();
    onActuals(next);
  };
  return (
    <section
      ref={box}
      aria-label="Periods"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls has to be reached by keyboard
      tabIndex={0}
      style={{ height: SEEN + 2 }}
      className="overflow-auto border-y border-rule"
    >
      <table className="sheet w-full table-fixed" aria-rowcount={n + 2}>
        <thead className="sticky top-0 z-10 bg-base-100 shadow-[0_1px_0_var(--color-base-300)]">
          <tr style={{ height: ROW }}>
            <th>Period</th>
            <th className="num">Actual</th>
            {found.tries.map((_, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a try is known by its place
              <Fragment key={i}>
                <th className="num">{NAMES[i]} fitted</th>
                <th className="num">{NAMES[i]} error</th>
              </Fragment>
            ))}
          </tr>
        </thead>
        <tbody>
          {above > 0 && <tr aria-hidden style={{ height: above }} />}
          {shown.map(({ index: t }) => (
            <tr key={t} aria-rowindex={t + 2} style={{ height: ROW }}>
              <td>{found.periods[t]}</td>
              <td className="num">
                {t < known ? (
                  fixed(found.history[t], digits)
                ) : (
                  <input
                    type="number"
                    aria-label={`Actual of ${found.periods[t]}, made up`}
                    placeholder="what if …"
                    className="input input-xs w-[84px] text-right"
                    value={actuals[t - known] ?? ''}
                    onChange={(event) => type(t - known, event.target.value)}
                  />
                )}
              </td>
              {found.tries.map((one, i) => (
                <FittedCells
                  // biome-ignore lint/suspicious/noArrayIndexKey: a try is known by its place
                  key={i}
                  fitted={t >= n ? one.forecast?.[t - n] : one.fitted?.[t]}
                  error={t >= n ? null : one.residuals?.[t]}
                  digits={digits}
                />
              ))}
            </tr>
          ))}
          {below > 0 && <tr aria-hidden style={{ height: below }} />}
        </tbody>
      </table>
    </section>
  );
}

const FittedCells = memo(function FittedCells({
  fitted,
  error,
  digits,
}: {
  fitted: number | null | undefined;
  error: number | null | undefined;
  digits: number;
}) {
  return (
    <>
      <td className="num">{fixed(fitted, digits)}</td>
      <td className="num text-second">{fixed(error, digits)}</td>
    </>
  );
});
