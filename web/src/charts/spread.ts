/** Middle, spread and extremes of many series over time -> options of a picture. */
import type { Schema } from '../api/client';
import type { Colours } from './colours';
import { endNames } from './end-names';
import { band, baseOptions, lineOf, reach } from './series';

type Row = (number | null)[];

/** Largest value that the axis shows of scaled series, as a multiple of the 90 % line: beyond it lie single weeks. */
const SCALED_REACH = 2;

export function spreadOptions(found: Schema['Overview'], scaled: boolean, colours: Colours) {
  const rows = scaled ? found.scaled : found.units;
  const row = (share: number): Row => rows[found.shares.indexOf(share)] ?? [];
  const base = baseOptions(found.periods, 0, colours);
  const single = found.n_series === 1;
  const high = row(0.9).flatMap((v) => (v === null ? [] : [v]));
  const most = row(1).flatMap((v) => (v === null ? [] : [v]));
  const top = Math.min(Math.max(...most, 1e-9), SCALED_REACH * Math.max(...high, 1e-9));
  const cap = Number(top.toPrecision(2));
  const last = found.periods.length - 1;
  const names = single
    ? []
    : [
        { text: '90 % of series below', value: row(0.9)[last] ?? 0, colour: colours.second },
        { text: 'largest series', value: Math.min(row(1)[last] ?? 0, cap), colour: colours.second },
        { text: 'middle series', value: row(0.5)[last] ?? 0, colour: colours.ink },
      ];
  return {
    ...base,
    grid: { ...base.grid, right: single ? 30 : 140 },
    yAxis: { ...base.yAxis, ...(single ? {} : { max: cap }) },
    series: [
      reach([{ start: 0, values: row(0.9) }]),
      band({ start: 0, low: row(0.1), high: row(0.9), colour: colours.spreadOuter }, 1),
      band({ start: 0, low: row(0.25), high: row(0.75), colour: colours.spreadInner }, 2),
      lineOf(
        'largest',
        row(1).map((v) => (v === null ? null : Math.min(v, cap))),
        colours.second,
        0.8,
        { type: 'dotted' },
      ),
      lineOf('90 % of series below', row(0.9), colours.second, 0.8),
      lineOf(single ? 'sold' : 'middle series', row(0.5), colours.ink, 1.6),
      lineOf('10 % of series below', row(0.1), colours.second, 0.8),
      endNames(names, last, cap / 14),
    ],
  };
}

export function totalLine(found: Schema['Overview'], colours: Colours) {
  return {
    ...baseOptions(found.periods, 0, colours),
    grid: { left: 52, right: 140, top: 14, bottom: 44 },
    series: [lineOf('total', found.total, colours.ink, 1.5)],
  };
}
