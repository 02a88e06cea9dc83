/** A few lines over leads, each named at its end. */
import { type Colours, tooltip } from './colours';
import { endNames } from './end-names';
import { roundAxis } from './scale';

export interface Line {
  name: string;
  values: (number | null)[];
  strong?: boolean;
  dashed?: boolean;
}

/** Longer names are cut at the end of a line; the table below has them whole. */
const MOST_LETTERS = 32;

/** Room for a name, as a share of the height of the plot. */
const NAME_HEIGHT = 0.075;

export function linesOptions(lines: Line[], x: string[], unit: string, colours: Colours) {
  const values = lines.flatMap((line) => line.values.filter((value) => value !== null));
  const axis = roundAxis(values);
  const names = lines.map((line) => ({
    text: line.name.length > MOST_LETTERS ? `${line.name.slice(0, MOST_LETTERS - 1)}…` : line.name,
    value: line.values.at(-1) ?? axis.min,
    colour: line.strong ? colours.plum : colours.second,
  }));
  return {
    grid: { left: 44, right: 190, top: 28, bottom: 30 },
    tooltip: tooltip(colours, 2),
    xAxis: {
      type: 'category',
      data: x,
      boundaryGap: false,
      axisLine: { lineStyle: { color: colours.rule } },
      axisTick: { show: false },
      axisLabel: { color: colours.second },
      name: 'lead',
      nameLocation: 'start',
      nameTextStyle: { color: colours.second },
    },
    yAxis: {
      type: 'value',
      ...axis,
      name: unit,
      nameTextStyle: { color: colours.second, align: 'left' },
      axisLabel: { color: colours.second },
      splitLine: { lineStyle: { color: colours.rule } },
    },
    series: [
      ...lines.map((line) => {
        const colour = line.strong ? colours.plum : colours.second;
        return {
          name: line.name,
          type: 'line',
          data: line.values,
          showSymbol: false,
          z: line.strong ? 5 : 3,
          lineStyle: { color: colour, width: line.strong ? 2.2 : 1, type: line.dashed ? 'dashed' : 'solid' },
          itemStyle: { color: colour },
        };
      }),
      endNames(names, x.length - 1, NAME_HEIGHT * (axis.max - axis.min)),
    ],
  };
}
