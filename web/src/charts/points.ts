/** Points against each other: errors against the normal, demand against a driver. Pure. */
import { type Colours, tooltip } from './colours';
import { roundAxis } from './scale';

type Value = number | null;

function pairs(x: Value[], y: Value[]): [number, number][] {
  return x.flatMap((value, i) => {
    const other = y[i];
    return value === null || other === null || other === undefined ? [] : [[value, other]];
  });
}

function axis(values: number[], name: string, colours: Colours, across: boolean) {
  return {
    type: 'value',
    ...roundAxis(values, 4),
    name,
    nameLocation: across ? 'middle' : 'end',
    nameGap: across ? 22 : 8,
    nameTextStyle: { color: colours.second, align: across ? 'center' : 'left' },
    axisLine: { lineStyle: { color: colours.rule }, onZero: false },
    axisTick: { show: false },
    axisLabel: { color: colours.second, hideOverlap: true },
    splitLine: { lineStyle: { color: colours.rule } },
  };
}

/** line: [x, y] pairs joined from left to right. */
export function pointsOptions(
  x: Value[],
  y: Value[],
  line: [number, number][],
  names: { x: string; y: string },
  colours: Colours,
) {
  const points = pairs(x, y);
  const all = [...points, ...line];
  return {
    grid: { left: 46, right: 14, top: names.y ? 26 : 10, bottom: 40 },
    tooltip: {
      ...tooltip(colours, 2),
      trigger: 'item',
    },
    xAxis: axis(
      all.map(([value]) => value),
      names.x,
      colours,
      true,
    ),
    yAxis: axis(
      all.map(([, value]) => value),
      names.y,
      colours,
      false,
    ),
    series: [
      {
        type: 'scatter',
        symbolSize: 5,
        z: 3,
        itemStyle: { color: 'transparent', borderColor: colours.ink, borderWidth: 1, opacity: 0.75 },
        data: points,
      },
      {
        type: 'line',
        showSymbol: false,
        silent: true,
        z: 5,
        lineStyle: { color: colours.forecast, width: 2 },
        itemStyle: { color: colours.forecast },
        data: [...line].sort((a, b) => a[0] - b[0]),
      },
    ],
  };
}

/** The straight line on which points lie that are as the normal has them. */
export function diagonal(x: Value[], y: Value[]): [number, number][] {
  const known = [...x, ...y].filter((value) => value !== null);
  if (!known.length) return [];
  const [low, high] = [Math.min(...x.map((v) => v ?? 0)), Math.max(...x.map((v) => v ?? 0))];
  return [
    [low, low],
    [high, high],
  ];
}
