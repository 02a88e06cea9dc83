/** The topmost node of a draft, with the last release beside it. */
import type { Schema } from '../api/client';
import type { Colours } from './colours';
import { band, bandColour, baseOptions, lineOf, placed, reach } from './series';

const YEARS_SHOWN = 2;

export function totalOptions(draft: Schema['Draft'], colours: Colours) {
  const periods = [...draft.past_periods, ...draft.periods];
  const nPast = draft.past_periods.length;
  const last = draft.last_release;
  const lastAt = last ? periods.indexOf(last.first) : -1;
  const shown = Math.max(0, nPast - YEARS_SHOWN * 4 * draft.periods.length);
  return {
    ...baseOptions(periods, shown, colours),
    series: [
      reach(
        draft.total.bands.flatMap((one) => [one.low, one.high].map((values) => ({ start: nPast, values }))),
      ),
      ...draft.total.bands.map((one, i) =>
        band(
          { start: nPast, low: one.low, high: one.high, colour: bandColour(one.level, colours, false) },
          2 + i,
        ),
      ),
      lineOf('sold', placed(draft.total.history, 0, periods.length), colours.ink, 1.5),
      lineOf(
        'forecast',
        placed([draft.total.history.at(-1) ?? null, ...draft.total.mean], nPast - 1, periods.length),
        colours.forecast,
        2,
      ),
      ...(last && lastAt >= 0
        ? [
            lineOf(`R${last.number}`, placed(last.total, lastAt, periods.length), colours.second, 1.2, {
              type: 'dashed',
            }),
          ]
        : []),
    ],
  };
}
