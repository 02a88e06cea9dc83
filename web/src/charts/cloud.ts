/** Interval between sales against variation of their sizes, a dot per series -> options of a picture. */
import type { Schema } from '../api/client';
import type { Colours } from './colours';

/** The bounds of the four kinds; `methods.md`. */
const INTERVAL = 1.32;
const VARIATION = 0.49;
const MOST = { interval: 12, variation: 4 };

export function cloudOptions(cloud: Schema['Cloud'], colours: Colours) {
  const axis = (name: string, max: number, min: number, ticks: number[]) => ({
    type: 'log',
    name,
    nameLocation: 'middle',
    nameGap: 26,
    min,
    max,
    nameTextStyle: { color: colours.second },
    axisLabel: { color: colours.second, customValues: ticks },
    axisTick: { customValues: ticks },
    axisLine: { lineStyle: { color: colours.rule } },
    splitLine: { show: false },
  });
  const corner = (text: string, x: number, y: number, align: string, vertical: string) => ({
    value: [x, y],
    label: {
      show: true,
      formatter: text,
      color: colours.ink,
      fontWeight: 600,
      align,
      verticalAlign: vertical,
      position: [0, 0],
    },
  });
  return {
    grid: { left: 54, right: 16, top: 12, bottom: 42 },
    xAxis: axis('periods from one sale to the next', MOST.interval, 0.75, [1, 2, 5, 10]),
    yAxis: axis('squared variation of sizes', MOST.variation, 0.03, [0.1, 0.2, 0.5, 1, 2]),
    series: [
      {
        type: 'scatter',
        silent: true,
        symbolSize: 3,
        progressive: 0, // drawn at once: frames that follow would find a chart that is gone
        itemStyle: { color: colours.ink, opacity: 0.25 },
        data: cloud.interval.map((x, i) => [
          Math.min(Math.max(x, 1), MOST.interval),
          Math.min(Math.max(cloud.variation[i] ?? 0, 0.03), MOST.variation),
        ]),
      },
      {
        type: 'line',
        silent: true,
        showSymbol: false,
        lineStyle: { color: colours.second, width: 1, type: 'dashed' },
        data: [
          [INTERVAL, 0.03],
          [INTERVAL, MOST.variation],
        ],
      },
      {
        type: 'line',
        silent: true,
        showSymbol: false,
        lineStyle: { color: colours.second, width: 1, type: 'dashed' },
        data: [
          [0.75, VARIATION],
          [MOST.interval, VARIATION],
        ],
      },
      {
        type: 'scatter',
        silent: true,
        symbolSize: 1,
        itemStyle: { color: 'transparent' },
        data: [
          corner('smooth', 0.78, 0.034, 'left', 'bottom'),
          corner('erratic', 0.78, 3.7, 'left', 'top'),
          corner('intermittent', 11.5, 0.034, 'right', 'bottom'),
          corner('lumpy', 11.5, 3.7, 'right', 'top'),
        ],
      },
    ],
  };
}
