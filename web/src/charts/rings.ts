/** What was received, where a correction stands. */
import type { Colours } from './colours';

/** More rings than this hide the line: a total of many corrected series then shows only the ones that can be seen. */
const FEW = 12;
const VISIBLE = 0.02; // of the largest value

export function rings(received: (number | null)[], corrected: (number | null)[], colours: Colours) {
  const changed = received.flatMap((value, t) =>
    value !== null && value !== corrected[t]
      ? [[t, value, Math.abs(value - (corrected[t] ?? 0))] as const]
      : [],
  );
  const largest = Math.max(0, ...corrected.map((value) => Math.abs(value ?? 0)));
  const shown = changed.length > FEW ? changed.filter(([, , by]) => by > VISIBLE * largest) : changed;
  return {
    name: 'as received',
    type: 'scatter',
    symbol: 'circle',
    symbolSize: 9,
    z: 7,
    itemStyle: { color: 'transparent', borderColor: colours.teal, borderWidth: 1.5 },
    data: shown.map(([t, value]) => [t, value]),
  };
}
