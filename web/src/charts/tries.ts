/** One try of a method -> options of its small picture. All of a row of tries share one value axis. */
import type { Schema } from '../api/client';
import type { Colours } from './colours';
import { endNames } from './end-names';
import { roundAxis } from './scale';
import { band, bandColour, baseOptions, lineOf, placed } from './series';

type Tries = Schema['Tries'];
type Try = Schema['Try'];
type Axis = ReturnType<typeof roundAxis>;

/** Greatest and least value that any of the tries shows from a period on; zero is always in it. */
export function commonAxis(found: Tries, from: number): Axis {
  const edges = found.tries.flatMap((one) => {
    const band80 = one.bands?.find((b) => b.level === 80);
    return [...(one.forecast ?? []), ...(band80?.low ?? []), ...(band80?.high ?? [])];
  });
  const shown = [...found.history.slice(from), ...edges].filter((value) => value !== null);
  return roundAxis([0, ...shown]);
}

export function tryOptions(
  periods: string[],
  history: Tries['history'],
  one: Try,
  from: number,
  axis: Axis,
  colours: Colours,
) {
  const length = periods.length;
  const past = history.length;
  const bands = one.bands ?? [];
  const base = baseOptions(periods, from, colours);
  return {
    ...base,
    grid: { left: 46, right: 44, top: 12, bottom: 30 },
    xAxis: { ...base.xAxis, axisLabel: { ...base.xAxis.axisLabel, margin: 8 } },
    yAxis: { ...base.yAxis, ...axis },
    series: [
      ...bands.map((b, i) =>
        band({ start: past, low: b.low, high: b.high, colour: bandColour(b.level, colours, false) }, 2 + i),
      ),
      lineOf('fitted', placed(one.fitted ?? [], 0, length), colours.second, 1),
      lineOf('sold', placed(history, 0, length), colours.ink, 1.5),
      lineOf('forecast', placed(one.forecast ?? [], past, length), colours.forecast, 2),
      endNames(
        bands.map((b) => ({
          text: `${b.level} %`,
          value: Math.min(axis.max, b.high.at(-1) ?? 0),
          colour: colours.second,
        })),
        length - 1,
        (axis.max - axis.min) / 9,
      ),
    ],
  };
}
