/** Node of a study -> options of its picture. Pure: tested without a browser. */
import type { Schema } from '../api/client';
import { fixed } from '../ui/format';
import { type Colours, tooltip } from './colours';
import { endNames } from './end-names';
import { rings } from './rings';

type Node = Schema['Node'];
type Value = number | null;

export type Span = 'near' | '1' | '2' | 'origins' | 'all';
type Past = Pick<Node, 'n_past' | 'season_length' | 'origins' | 'periods'>;

/** First period that is shown: so many seasons before the end, a season before the first origin, or, near, as much of
 * the past as is forecast. */
export function firstShown(node: Past, span: Span): number {
  if (span === 'all') return 0;
  if (span === 'near') return Math.max(0, node.n_past - (node.periods.length - node.n_past));
  const season = Math.max(node.season_length, 12);
  const first = span === 'origins' ? firstOrigin(node) - season : node.n_past - Number(span) * season;
  return Math.max(0, first);
}

function firstOrigin(node: Past): number {
  return Math.min(node.n_past, ...node.origins.map((one) => one.at));
}

/** The spans to choose from, and the one at first view: two seasons, or more where origins lie before them. */
export function spansOf(node: Past): { spans: Span[]; first: Span } {
  return firstOrigin(node) > firstShown(node, '2')
    ? { spans: ['near', '1', '2', 'all'], first: '2' }
    : { spans: ['near', '1', '2', 'origins', 'all'], first: 'origins' };
}

/** Values placed at their periods, nothing elsewhere. */
export function placed(values: Value[], start: number, length: number): Value[] {
  return Array.from({ length }, (_, i) => values[i - start] ?? null);
}

export interface BandShape {
  start: number;
  low: Value[];
  high: Value[];
  colour: string;
}

/** One polygon per band: a custom series, so that it is cut rightly when the picture is zoomed. */
export function band(shape: BandShape, z: number) {
  return {
    type: 'custom',
    silent: true,
    z,
    clip: true,
    tooltip: { show: false },
    data: [[shape.start, 0]],
    encode: { x: -1, y: -1 },
    renderItem: (_: unknown, api: { coord: (at: [number, number]) => [number, number] }) => {
      const upper = shape.high.map((v, i) => api.coord([shape.start + i, v ?? 0]));
      const lower = shape.low.map((v, i) => api.coord([shape.start + i, v ?? 0])).reverse();
      return { type: 'polygon', shape: { points: [...upper, ...lower] }, style: { fill: shape.colour } };
    },
  };
}

/** Invisible points at the edges of bands, so that the axis reaches as far as they do. */
export function reach(bands: { start: number; values: Value[] }[]) {
  return {
    type: 'scatter',
    silent: true,
    symbolSize: 0,
    tooltip: { show: false },
    data: bands.flatMap(({ start, values }) =>
      values.flatMap((value, i) => (value === null ? [] : [[start + i, value]])),
    ),
  };
}

export function bandColour(level: number, colours: Colours, plum: boolean): string {
  if (level > 90) return plum ? colours.plum95 : colours.band95;
  if (level > 60) return plum ? colours.plum80 : colours.band80;
  return plum ? colours.plum50 : colours.band50;
}

/** "95 %", "80 %" where the bands end, be they closed there; a name needs a twentieth of the height of the picture. */
function bandNames(node: Node, from: number, colours: Colours) {
  const shown = [...node.history.slice(from), ...node.bands.flatMap((one) => one.high)];
  const tallest = Math.max(1e-9, ...shown.map((value) => value ?? 0));
  const wide = node.bands.filter((one) => one.high.some((high, lead) => (high ?? 0) > (one.low[lead] ?? 0)));
  const names = wide.map((one) => ({
    text: `${one.level} %`,
    value: one.high.at(-1) ?? 0,
    colour: colours.second,
  }));
  const lowest = Math.min(0, ...node.bands.flatMap((one) => one.low.map((value) => value ?? 0)));
  return endNames(names, node.periods.length - 1, tallest / 20, lowest);
}

/** Whether an actual lies inside the widest band of an origin. */
export function inside(origin: Schema['Origin'], lead: number, actual: Value): boolean | null {
  const widest = origin.bands[0];
  const low = widest?.low[lead];
  const high = widest?.high[lead];
  if (actual === null || low === null || low === undefined || high === null || high === undefined)
    return null;
  return actual >= low && actual <= high;
}

/** What forecasts are held against: history as received, without stock-outs and closures. */
export function actuals(node: Node): Value[] {
  return node.received ?? node.history;
}

export function hits(node: Node, origin: Schema['Origin']): { hit: number; of: number } {
  const judged = origin.forecast.map((_, lead) =>
    inside(origin, lead, actuals(node)[origin.at + 1 + lead] ?? null),
  );
  return {
    hit: judged.filter((one) => one === true).length,
    of: judged.filter((one) => one !== null).length,
  };
}

export function lineOf(name: string, data: Value[], colour: string, width: number, style: object = {}) {
  return {
    name,
    type: 'line',
    data,
    showSymbol: false,
    connectNulls: false,
    z: 5,
    lineStyle: { color: colour, width, ...style },
    itemStyle: { color: colour },
  };
}

/** Axes, zoom and reading with the pointer, the same for every picture over time. */
export function baseOptions(periods: string[], from: number, colours: Colours) {
  return {
    grid: { left: 52, right: 52, top: 26, bottom: 44 },
    tooltip: tooltip(colours, 1),
    xAxis: {
      type: 'category',
      data: periods,
      boundaryGap: false,
      axisLine: { lineStyle: { color: colours.rule }, onZero: false },
      axisTick: { show: false },
      axisLabel: { color: colours.second, margin: 22, hideOverlap: true },
    },
    yAxis: {
      type: 'value',
      min: (range: { min: number }) => Math.min(0, range.min),
      axisLabel: { color: colours.second },
      splitLine: { lineStyle: { color: colours.rule } },
    },
    dataZoom: [{ type: 'inside', startValue: from, endValue: periods.length - 1, zoomOnMouseWheel: 'ctrl' }],
  };
}

/** What is known of a period, for the pointer: what was sold or is forecast, its bands, and the year before. */
export function said(node: Node, at: number): string {
  const digits = digitsOf(node);
  const lead = at - node.n_past;
  const back = lookBack(node);
  const before = back && (node.history[at - back.periods] ?? null);
  const lines = [`<b>${node.periods[at] ?? ''}</b>`];
  if (lead < 0) lines.push(`sold ${fixed(node.history[at], digits)}`);
  const received = node.received?.[at] ?? null;
  if (lead < 0 && received !== null && received !== node.history[at])
    lines.push(`as received ${fixed(received, digits)}`);
  if (lead >= 0 && node.forecast[lead] === node.statistical[lead])
    lines.push(`forecast ${fixed(node.forecast[lead], digits)}`);
  else if (lead >= 0)
    lines.push(
      `adjusted ${fixed(node.forecast[lead], digits)}`,
      `statistical ${fixed(node.statistical[lead], digits)}`,
    );
  for (const band of lead >= 0 ? node.bands : [])
    lines.push(`${band.level} %: ${fixed(band.low[lead], digits)} to ${fixed(band.high[lead], digits)}`);
  if (back && before !== null) lines.push(`a ${back.noun} before ${fixed(before, digits)}`);
  return lines.join('<br>');
}

/** Periods from one to the same of the year before. */
const YEAR: Record<string, number> = { D: 364, W: 52, '4W': 13, M: 12, Q: 4, Y: 1 };

/** How far back a period is held against, and what that is called; null where periods have neither year nor season. */
export function lookBack(
  node: Pick<Node, 'frequency' | 'season_length'>,
): { periods: number; noun: 'year' | 'season' } | null {
  const year = YEAR[node.frequency];
  if (year) return { periods: year, noun: 'year' };
  return node.season_length > 1 ? { periods: node.season_length, noun: 'season' } : null;
}

/** Whole numbers where all that is sold is, and there are tens of it, or thousands. */
export function digitsOf(node: Pick<Node, 'received' | 'history'>): number {
  const sold = (node.received ?? node.history).filter((value) => value !== null);
  const most = Math.max(...sold, 0);
  return most >= 1000 || (most >= 20 && sold.every((value) => Number.isInteger(value))) ? 0 : 1;
}

/** Whether planners changed what was forecast, in any period. */
export function isAdjusted(node: Pick<Node, 'forecast' | 'statistical'>): boolean {
  return node.forecast.some((value, lead) => value !== node.statistical[lead]);
}

/** The forecast with what planners changed, a tick at each changed period, and where the widest band was before. */
function adjustedLines(node: Node, colours: Colours) {
  if (!isAdjusted(node)) return [];
  const length = node.periods.length;
  const changed = node.forecast.flatMap((value, lead) =>
    value === node.statistical[lead] ? [] : [[node.n_past + lead, value]],
  );
  const widest = node.statistical_bands[0];
  const before = [widest?.low ?? [], widest?.high ?? []].map((values, i) => ({
    ...lineOf(`band before ${i}`, placed(values, node.n_past, length), colours.forecast, 1, {
      type: 'dotted',
    }),
    tooltip: { show: false },
  }));
  return [
    ...before,
    lineOf('adjusted', placed(node.forecast, node.n_past, length), colours.teal, 2),
    {
      name: 'changed',
      type: 'scatter',
      symbol: 'rect',
      symbolSize: [2, 9],
      z: 6,
      silent: true,
      tooltip: { show: false },
      itemStyle: { color: colours.teal },
      data: changed,
    },
  ];
}

export function seriesOptions(
  node: Node,
  origin: (Schema['Origin'] & { release?: number }) | null,
  span: Span,
  colours: Colours,
) {
  const length = node.periods.length;
  const lastKnown = node.history.at(-1) ?? null;
  const joined = [lastKnown, ...node.statistical];
  const ahead = node.bands.map((one, i) =>
    band(
      { start: node.n_past, low: one.low, high: one.high, colour: bandColour(one.level, colours, false) },
      2 + i,
    ),
  );
  const behind =
    origin?.forecast.some((v) => v !== null) === true
      ? [
          ...origin.bands.map((one, i) =>
            band(
              {
                start: origin.at + 1,
                low: one.low,
                high: one.high,
                colour: bandColour(one.level, colours, true),
              },
              2 + i,
            ),
          ),
          lineOf(
            origin.release ? `as released in R${origin.release}` : `as forecast on ${origin.period}`,
            placed(origin.forecast, origin.at + 1, length),
            colours.plum,
            1.5,
            {
              type: 'dashed',
            },
          ),
          {
            name: 'what came',
            type: 'scatter',
            symbol: 'circle',
            symbolSize: 6,
            z: 7,
            tooltip: { show: false },
            data: origin.forecast.flatMap((_, lead) => {
              const at = origin.at + 1 + lead;
              const value = actuals(node)[at] ?? null;
              const hit = inside(origin, lead, value);
              if (value === null) return [];
              const fill = hit === false ? colours.paper : colours.plum;
              return [
                {
                  value: [at, value],
                  itemStyle: { color: fill, borderColor: colours.plum, borderWidth: 1.5 },
                },
              ];
            }),
          },
        ]
      : [];
  return {
    ...baseOptions(node.periods, firstShown(node, span), colours),
    tooltip: {
      ...tooltip(colours, 1),
      formatter: (at: { dataIndex: number }[]) => said(node, at[0]?.dataIndex ?? 0),
    },
    series: [
      reach([
        ...node.bands.flatMap((one) => [one.low, one.high].map((values) => ({ start: node.n_past, values }))),
        ...(origin?.bands ?? []).flatMap((one) =>
          [one.low, one.high].map((values) => ({ start: (origin?.at ?? 0) + 1, values })),
        ),
      ]),
      ...ahead,
      ...behind,
      lineOf('sold', placed(node.history, 0, length), colours.ink, 1.5),
      ...(node.received ? [rings(node.received, node.history, colours)] : []),
      lineOf('forecast', placed(joined, node.n_past - 1, length), colours.forecast, 2),
      ...adjustedLines(node, colours),
      bandNames(node, firstShown(node, span), colours),
    ],
  };
}
