/** Names at the right ends of lines or bands, as the labels of one invisible series. */
import { spread } from './scale';

export interface EndName {
  text: string;
  value: number;
  colour: string;
}

/** at: position on the time axis. gap: least distance between two names, in units of the value axis. floor: where an axis
 * that finds its own limits would be drawn down by a name below it. */
export function endNames(names: EndName[], at: number, gap: number, floor?: number) {
  const places = spread(
    names.map((name) => name.value),
    gap,
    floor,
  );
  return {
    type: 'scatter',
    silent: true,
    clip: false,
    symbolSize: 1,
    itemStyle: { color: 'transparent', opacity: 1 },
    z: 6,
    tooltip: { show: false },
    data: names.map((name, i) => ({
      value: [at, places[i]],
      label: {
        show: true,
        position: 'right',
        distance: 6,
        color: name.colour,
        fontSize: 12,
        formatter: name.text,
      },
    })),
  };
}
