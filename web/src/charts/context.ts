/** One series as received and as corrected, with what is suspicious in it -> options of a picture. */
import type { Schema } from '../api/client';
import type { Colours } from './colours';
import { rings } from './rings';
import { baseOptions, lineOf } from './series';

type History = Schema['SeriesView'];

export interface Suspect {
  start: number;
  length: number;
  low: number | null;
  high: number | null;
  /** What would stand there; null is unknown. */
  proposal: number | null;
}

const AROUND = 52;

export function contextOptions(history: History, suspect: Suspect | null, colours: Colours) {
  const n = history.periods.length;
  const from = suspect ? Math.max(0, suspect.start - AROUND) : 0;
  const to = suspect ? Math.min(n - 1, suspect.start + suspect.length + AROUND / 2) : n - 1;
  const base = baseOptions(history.periods, from, colours);
  const promotions = Object.values(history.switches).flat();
  return {
    ...base,
    grid: { ...base.grid, right: 24 },
    dataZoom: [{ ...base.dataZoom[0], startValue: from, endValue: to }],
    series: [
      lineOf('as corrected', history.corrected, colours.ink, 1.5),
      rings(history.received, history.corrected, colours),
      {
        name: 'promotion or holiday',
        type: 'scatter',
        symbol: 'rect',
        symbolSize: [4, 4],
        silent: true,
        z: 3,
        tooltip: { show: false },
        itemStyle: { color: colours.second },
        data: [...new Set(promotions)].map((t) => [t, 0]),
      },
      ...(suspect
        ? [
            {
              name: 'suspicious',
              type: 'scatter',
              symbol: 'circle',
              symbolSize: 13,
              z: 8,
              itemStyle: { color: 'transparent', borderColor: colours.brick, borderWidth: 2 },
              data: Array.from({ length: suspect.length }, (_, k) => [
                suspect.start + k,
                history.received[suspect.start + k] ?? 0,
              ]),
            },
            {
              name: 'usual range',
              type: 'custom',
              silent: true,
              z: 4,
              tooltip: { show: false },
              encode: { x: -1, y: -1 },
              data: [[suspect.start, 0]],
              renderItem: (_: unknown, api: { coord: (at: [number, number]) => [number, number] }) => {
                const [x, low] = api.coord([suspect.start + (suspect.length - 1) / 2, suspect.low ?? 0]);
                const [, high] = api.coord([suspect.start, suspect.high ?? 0]);
                return {
                  type: 'line',
                  shape: { x1: x, x2: x, y1: low, y2: high },
                  style: { stroke: colours.teal, lineWidth: 3, opacity: 0.45 },
                };
              },
            },
            {
              name: 'would become',
              type: 'scatter',
              symbol: 'diamond',
              symbolSize: 11,
              z: 9,
              itemStyle: { color: colours.teal },
              data: suspect.proposal === null ? [] : [[suspect.start, suspect.proposal]],
            },
          ]
        : []),
    ],
  };
}
