/** Plain lines over time: a differenced series, years over each other, parts, errors, several forecasts. Pure. */
import type { Colours } from './colours';
import { tooltip } from './colours';
import { endNames } from './end-names';
import { roundAxis } from './scale';
import { baseOptions, lineOf, placed } from './series';

type Value = number | null;

const known = (values: Value[]): number[] => values.filter((value) => value !== null);

/** One line over time on an axis that holds it, zero in it or not. */
export function oneLine(
  name: string,
  values: Value[],
  periods: string[],
  from: number,
  colours: Colours,
  zero: boolean,
  /** Other values that the axis has to hold, of pictures beside it that are to be compared with it. */
  beside: Value[] = [],
) {
  const base = baseOptions(periods, from, colours);
  const shown = known([...values.slice(from), ...beside]);
  return {
    ...base,
    grid: { left: 52, right: 14, top: 10, bottom: 26 },
    xAxis: { ...base.xAxis, axisLabel: { ...base.xAxis.axisLabel, margin: 8 } },
    yAxis: { ...base.yAxis, ...roundAxis(zero ? [0, ...shown] : shown, 4) },
    series: [lineOf(name, values, colours.ink, 1.3)],
  };
}

/** Standardised errors as points, with the lines between which 19 of 20 lie. */
export function errorsOptions(errors: Value[], periods: string[], colours: Colours) {
  const base = baseOptions(periods, 0, colours);
  const far = Math.max(3, ...known(errors).map(Math.abs));
  const limit = Math.ceil(far);
  return {
    ...base,
    grid: { left: 44, right: 12, top: 10, bottom: 26 },
    xAxis: { ...base.xAxis, axisLabel: { ...base.xAxis.axisLabel, margin: 8 } },
    yAxis: { ...base.yAxis, min: -limit, max: limit, interval: limit > 4 ? limit / 2 : 2 },
    series: [
      ...[-2, 2].map((at) =>
        lineOf(
          '',
          periods.map(() => at),
          colours.second,
          1,
          { type: 'dashed' },
        ),
      ),
      {
        name: 'error in standard deviations',
        type: 'scatter',
        symbolSize: 4,
        z: 5,
        data: errors,
        itemStyle: { color: colours.ink },
      },
    ],
  };
}

/** How the line of a year is drawn, so many years before the last one, which stands out. */
export function yearStyle(age: number, colours: Pick<Colours, 'ink' | 'second'>) {
  const style = age < 2 ? 'solid' : age === 2 ? 'dashed' : 'dotted';
  return { colour: age === 0 ? colours.ink : colours.second, width: age === 0 ? 2 : 1, style } as const;
}

/** One line per year over the places in the year. */
export function yearLines(
  years: { places: string[]; years: number[]; values: Value[][]; what: string },
  colours: Colours,
) {
  const columns = years.years.map((year, j) => ({
    year,
    values: years.values.map((row) => row[j] ?? null),
  }));
  const axis = roundAxis([0, ...columns.flatMap((one) => known(one.values))]);
  return {
    grid: { left: 52, right: 18, top: 10, bottom: 26 },
    tooltip: tooltip(colours, 1),
    xAxis: {
      type: 'category',
      data: years.places,
      boundaryGap: false,
      axisLine: { lineStyle: { color: colours.rule } },
      axisTick: { show: false },
      axisLabel: { color: colours.second, hideOverlap: true },
    },
    yAxis: {
      type: 'value',
      ...axis,
      axisLabel: { color: colours.second },
      splitLine: { lineStyle: { color: colours.rule } },
    },
    series: columns.map((one, j) => {
      const { colour, width, style } = yearStyle(columns.length - 1 - j, colours);
      return lineOf(String(one.year), one.values, colour, width, { type: style });
    }),
  };
}

const DASHES = ['solid', 'dashed', 'dotted', [8, 3, 2, 3]] as const;

/** History and the forecasts of several models in one picture, each named at its end. */
export function modelsOptions(
  periods: string[],
  history: Value[],
  models: { name: string; forecast: Value[]; colour?: string }[],
  from: number,
  colours: Colours,
) {
  const base = baseOptions(periods, from, colours);
  const past = history.length;
  const axis = roundAxis([
    0,
    ...known(history.slice(from)),
    ...models.flatMap((model) => known(model.forecast)),
  ]);
  return {
    ...base,
    grid: { left: 52, right: 84, top: 10, bottom: 26 },
    xAxis: { ...base.xAxis, axisLabel: { ...base.xAxis.axisLabel, margin: 8 } },
    yAxis: { ...base.yAxis, ...axis },
    series: [
      lineOf('sold', history, colours.ink, 1.5),
      ...models.map((model, i) =>
        lineOf(
          model.name,
          placed([history.at(-1) ?? null, ...model.forecast], past - 1, periods.length),
          model.colour ?? colours.forecast,
          1.8,
          { type: DASHES[i % DASHES.length] },
        ),
      ),
      endNames(
        models.map((model) => ({
          text: model.name,
          value: model.forecast.at(-1) ?? 0,
          colour: model.colour ?? colours.forecast,
        })),
        periods.length - 1,
        (axis.max - axis.min) / 12,
      ),
    ],
  };
}
