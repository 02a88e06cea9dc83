/** Middle, spread and extremes of many series over time -> options of a picture. */
import type { Schema } from '../api/client';
import type { Colours } from './colours';
import { endNames } from './end-names';
import { roundAxis } from './scale';
import { band, baseOptions, lineOf, reach } from './series';

type Row = (number | null)[];

export function spreadOptions(found: Schema['Overview'], scaled: boolean, colours: Colours) {
  const rows = scaled ? found.scaled : found.units;
  const row = (share: number): Row => rows[found.shares.indexOf(share)] ?? [];
  const base = baseOptions(found.periods, 0, colours);
  const single = found.n_series === 1;
  const top = Math.max(1e-9, ...row(0.9).map((v) => v ?? 0));
  const last = found.periods.length - 1;
  const names = single
    ? []
    : [
        { text: '90 % of series below', value: row(0.9)[last] ?? 0, colour: colours.second },
        { text: 'middle series', value: row(0.5)[last] ?? 0, colour: colours.ink },
      ];
  return {
    ...base,
    grid: { ...base.grid, right: single ? 30 : 140 },
    series: [
      reach([{ start: 0, values: row(0.9) }]),
      band({ start: 0, low: row(0.1), high: row(0.9), colour: colours.spreadOuter }, 1),
      band({ start: 0, low: row(0.25), high: row(0.75), colour: colours.spreadInner }, 2),
      lineOf('90 % of series below', row(0.9), colours.second, 0.8),
      lineOf(single ? 'sold' : 'middle series', row(0.5), colours.ink, 1.6),
      lineOf('10 % of series below', row(0.1), colours.second, 0.8),
      endNames(names, last, top / 12),
    ],
  };
}

/** The largest and the smallest series of each period. */
export function extremesOptions(found: Schema['Overview'], scaled: boolean, colours: Colours) {
  const rows = scaled ? found.scaled : found.units;
  const base = baseOptions(found.periods, 0, colours);
  const values = [rows[0], rows.at(-1)].flatMap((row) => (row ?? []).filter((v) => v !== null));
  return {
    ...base,
    yAxis: { ...base.yAxis, ...roundAxis(values) },
    grid: { left: 52, right: 140, top: 14, bottom: 44 },
    series: [
      lineOf('largest', rows.at(-1) ?? [], colours.ink, 1),
      lineOf('smallest', rows[0] ?? [], colours.second, 1),
      endNames(
        [{ text: 'largest series', value: rows.at(-1)?.at(-1) ?? 0, colour: colours.ink }],
        found.periods.length - 1,
        1,
      ),
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
