/** What came, and what releases had said of it, each in a line of its own. */
import type { Schema } from '../api/client';
import type { Colours } from './colours';
import { baseOptions, lineOf, placed } from './series';

const PAST_SHOWN = 1; // as many times what is forecast

export function releasesOptions(
  past: string[],
  ahead: string[],
  history: (number | null)[],
  releases: Schema['Beside'][],
  colours: Colours,
) {
  const periods = [...past, ...ahead];
  const first = Math.min(
    past.length,
    ...releases.map((one) => periods.indexOf(one.periods[0] ?? '')).filter((at) => at >= 0),
  );
  const lines = releases.flatMap((one, i) => {
    const at = periods.indexOf(one.periods[0] ?? '');
    if (at < 0) return [];
    const newest = i === releases.length - 1;
    const values = placed(one.forecast, at, periods.length);
    return [
      lineOf(`R${one.release}`, values, newest ? colours.forecast : colours.plum, newest ? 2 : 1.4, {
        type: newest ? 'solid' : 'dashed',
      }),
    ];
  });
  return {
    ...baseOptions(periods, Math.max(0, first - PAST_SHOWN * Math.max(ahead.length, 1)), colours),
    series: [lineOf('sold', placed(history, 0, periods.length), colours.ink, 1.5), ...lines],
  };
}
