import { describe, expect, it } from 'vitest';
import type { Schema } from '../api/client';
import { cloudOptions } from './cloud';
import type { Colours } from './colours';
import { linesOptions } from './lines';
import { errorsOptions, modelsOptions, oneLine, yearLines } from './over-time';
import { diagonal, pointsOptions } from './points';
import { boxOptions, stemOptions } from './stems';
import { totalOptions } from './total';
import { commonAxis, tryOptions } from './tries';

/** Every colour is its own name, so that a test reads as what is drawn. */
const colours = new Proxy({}, { get: (_, name) => name }) as Colours;

interface One {
  name?: string;
  type?: string;
  data?: unknown[];
  lineStyle?: { color?: string; width?: number; type?: unknown };
}
const series = (options: { series: unknown[] }) => options.series as One[];
const named = (options: { series: unknown[] }, name: string) =>
  series(options).find((one) => one.name === name);

describe('pictures of one thing over time', () => {
  it('holds zero where sizes are compared, and not where a trend is looked at', () => {
    const axis = (zero: boolean, beside: number[] = []) =>
      oneLine('shown', [100, 104], ['a', 'b'], 0, colours, zero, beside).yAxis as {
        min: number;
        max: number;
      };
    expect(axis(true).min).toBe(0);
    expect(axis(false).min).toBeGreaterThan(90);
    expect(axis(false, [-50]).min).toBeLessThanOrEqual(-50); // what stands beside it has to fit
    expect(axis(true).max).toBeGreaterThanOrEqual(104);
  });

  it('scales to what is in sight, not to a past that is scrolled away', () => {
    const options = oneLine('shown', [9000, 1, 2], ['a', 'b', 'c'], 1, colours, true);
    expect((options.yAxis as unknown as { max: number }).max).toBeLessThan(10);
  });

  it('draws two standard deviations, and widens for an error beyond three', () => {
    const axis = (errors: (number | null)[]) => errorsOptions(errors, ['a', 'b'], colours).yAxis;
    expect(axis([1, null])).toMatchObject({ min: -3, max: 3 });
    expect(axis([1, -6.2])).toMatchObject({ min: -7, max: 7 });
    const dashes = series(errorsOptions([1, 1], ['a', 'b'], colours)).slice(0, 2);
    expect(dashes.map((one) => one.data)).toEqual([
      [-2, -2],
      [2, 2],
    ]);
  });

  it('lets the last year stand out and older ones fade', () => {
    const years = {
      what: 'month',
      places: ['1', '2'],
      years: [2023, 2024, 2025, 2026],
      values: [
        [1, 2, 3, 4],
        [1, 2, 3, null],
      ],
    };
    const options = yearLines(years, colours);
    expect(named(options, '2026')?.lineStyle).toMatchObject({ color: 'ink', width: 2 });
    expect(named(options, '2026')?.data).toEqual([4, null]);
    expect([2025, 2024, 2023].map((year) => named(options, String(year))?.lineStyle?.type)).toEqual([
      'solid',
      'dashed',
      'dotted',
    ]);
  });

  it('joins the forecasts of models to the last value, each dashed in its own way', () => {
    const models = [
      { name: 'A', forecast: [5, 6] },
      { name: 'B', forecast: [7, 8], colour: 'teal' },
    ];
    const options = modelsOptions(['a', 'b', 'c', 'd'], [3, 4], models, 0, colours);
    expect(named(options, 'A')?.data).toEqual([null, 4, 5, 6]);
    expect(named(options, 'B')?.lineStyle).toMatchObject({ color: 'teal', type: 'dashed' });
  });
});

describe('stems', () => {
  const inks = (values: (number | null)[], season: number) =>
    series(stemOptions(values, 0.2, season, 'ACF', colours))
      .find((one) => one.type === 'bar')
      ?.data?.map((one) => (one as { itemStyle: { color: string } }).itemStyle.color);

  it('stand out beyond noise and at whole seasons', () => {
    expect(inks([0.5, 0.1, -0.3, 0.1], 4)).toEqual(['ink', 'second', 'ink', 'ink']);
    expect(inks([0.1, null], 1)).toEqual(['second', 'second']);
  });

  it('share a round scale that holds the longest and the band of noise', () => {
    expect(stemOptions([0.5, -0.31], 0.2, 1, 'ACF', colours).yAxis).toMatchObject({ min: -0.6, max: 0.6 });
    expect(stemOptions([0.99], 0.2, 1, 'ACF', colours).yAxis).toMatchObject({ max: 1 });
    expect(stemOptions([0.1], 0.4, 1, 'ACF', colours).yAxis).toMatchObject({ max: 0.5 });
  });

  it('label the lags in seasons where there are several of them', () => {
    const interval = (n: number, season: number) => {
      const { axisLabel } = stemOptions(Array(n).fill(0.1), null, season, 'ACF', colours).xAxis;
      return Array.from({ length: n }, (_, i) => i + 1).filter((lag) => axisLabel.interval(lag - 1));
    };
    expect(interval(36, 12)).toEqual([12, 24, 36]);
    expect(interval(12, 12)).toEqual([5, 10]);
    expect(series(stemOptions([0.1], null, 1, 'ACF', colours))).toHaveLength(1); // no band where none is known
  });

  it('redden p-values below one in twenty', () => {
    const points = series(boxOptions([0.5, 0.04, null], colours)).find((one) => one.type === 'scatter')?.data;
    expect(points?.map((one) => (one as { itemStyle: { color: string } }).itemStyle.color)).toEqual([
      'ink',
      'brick',
      'ink',
    ]);
  });
});

describe('points', () => {
  it('leave out pairs of which one is missing, and draw the line from left to right', () => {
    const line: [number, number][] = [
      [3, 30],
      [1, 10],
    ];
    const options = pointsOptions([1, null, 3], [10, 20, null], line, { x: 'price', y: '' }, colours);
    expect(series(options)[0]?.data).toEqual([[1, 10]]);
    expect(series(options)[1]?.data).toEqual([
      [1, 10],
      [3, 30],
    ]);
    expect(line[0]).toEqual([3, 30]); // what was given is not sorted in place
  });

  it('lie on the diagonal where errors are normal', () => {
    expect(diagonal([-2, 2], [-1, 3])).toEqual([
      [-2, -2],
      [2, 2],
    ]);
    expect(diagonal([], [])).toEqual([]);
  });

  it('keep the cloud of kinds inside its picture', () => {
    const data = series(cloudOptions({ interval: [0.5, 400], variation: [0, 90] }, colours))[0]?.data;
    expect(data).toEqual([
      [1, 0.03],
      [12, 4],
    ]);
  });
});

describe('methods by lead', () => {
  it('names each line at its end, cut where it is long, and lets what is published stand out', () => {
    const long = 'ets(A,N,N) + shared-season + pooled(log price, promotion)';
    const options = linesOptions(
      [
        { name: long, values: [1, 0.9] },
        { name: 'seasonal-naive', values: [1.2, null], dashed: true },
        { name: 'published', values: [0.8, 0.7], strong: true },
      ],
      ['1', '2'],
      'RMSSE',
      colours,
    );
    expect(named(options, long)?.lineStyle).toMatchObject({ color: 'second', width: 1, type: 'solid' });
    expect(named(options, 'seasonal-naive')?.lineStyle?.type).toBe('dashed');
    expect(named(options, 'published')?.lineStyle).toMatchObject({ color: 'plum', width: 2.2 });
    expect(JSON.stringify(options)).toContain('ets(A,N,N) + shared-season + po…');
  });
});

describe('the total that would go out', () => {
  const draft = {
    past_periods: ['a', 'b'],
    periods: ['c', 'd'],
    total: { history: [9, 10], mean: [11, 12], bands: [{ level: 80, low: [8, 8], high: [14, 15] }] },
    last_release: { number: 3, first: 'b', total: [10, 10] },
  } as unknown as Schema['Draft'];

  it('goes on from the last value, with the last release beside it from where that began', () => {
    const options = totalOptions(draft, colours);
    expect(named(options, 'forecast')?.data).toEqual([null, 10, 11, 12]);
    expect(named(options, 'R3')?.data?.slice(0, 3)).toEqual([null, 10, 10]);
  });

  it('leaves out a last release of other periods', () => {
    const last = { ...draft.last_release, first: 'long ago' } as Schema['Release'];
    expect(named(totalOptions({ ...draft, last_release: last }, colours), 'R3')).toBeUndefined();
  });
});

describe('tries', () => {
  const one = (forecast: number[], high: number[]): Schema['Try'] => ({
    text: 'naive',
    problem: '',
    forecast,
    fitted: [null, 5],
    bands: [
      { level: 95, low: [-900, -900], high: [900, 900] },
      { level: 80, low: [0, 0], high },
    ],
    measures: {},
  });
  const found: Schema['Tries'] = {
    periods: ['a', 'b', 'c', 'd'],
    n_past: 2,
    history: [5, 6],
    tries: [one([6, 6], [8, 9]), one([20, 41], [30, 60])],
    best: {},
  };

  it('share one axis that holds every forecast and its 80 % band, and zero', () => {
    const axis = commonAxis(found, 0);
    expect(axis.min).toBe(0);
    expect(axis.max).toBeGreaterThanOrEqual(60);
    expect(axis.max).toBeLessThan(900); // a far tail would flatten all else
  });

  it('place fitted values in the past and the forecast after it', () => {
    const options = tryOptions(
      found.periods,
      found.history,
      found.tries[0] as Schema['Try'],
      0,
      commonAxis(found, 0),
      colours,
    );
    expect(named(options, 'sold')?.data).toEqual([5, 6, null, null]);
    expect(named(options, 'fitted')?.data?.slice(0, 2)).toEqual([null, 5]);
    expect(named(options, 'forecast')?.data).toEqual([null, null, 6, 6]);
  });
});
