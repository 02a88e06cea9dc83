/** What was received, where a correction stands. */
import type { Colours } from './colours';

export function rings(received: (number | null)[], corrected: (number | null)[], colours: Colours) {
  return {
    name: 'as received',
    type: 'scatter',
    symbol: 'circle',
    symbolSize: 9,
    z: 7,
    itemStyle: { color: 'transparent', borderColor: colours.teal, borderWidth: 1.5 },
    data: received.flatMap((value, t) => (value !== null && value !== corrected[t] ? [[t, value]] : [])),
  };
}
