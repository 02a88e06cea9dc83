/** A few lines over leads, each named at its end. */
import { type Colours, tooltip } from './colours';

export interface Line {
  name: string;
  values: (number | null)[];
  strong?: boolean;
  dashed?: boolean;
}

export function linesOptions(lines: Line[], x: string[], unit: string, colours: Colours, from?: number) {
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
      scale: true,
      ...(from === undefined ? {} : { min: from }),
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
      {
        // names at the ends, as points of one series, so that they make room for each other
        type: 'scatter',
        silent: true,
        symbolSize: 0,
        tooltip: { show: false },
        data: lines.map((line) => ({
          value: [x.length - 1, line.values.at(-1) ?? null],
          label: {
            show: true,
            position: 'right',
            distance: 6,
            color: line.strong ? colours.plum : colours.second,
            fontSize: 12,
            formatter: line.name,
          },
        })),
        labelLayout: { moveOverlap: 'shiftY' },
      },
    ],
  };
}
