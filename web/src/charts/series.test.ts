import { describe, expect, it } from 'vitest';
import type { Schema } from '../api/client';
import type { Colours } from './colours';
import { firstShown, hits, placed, said, seriesOptions, spansOf } from './series';

const colours = new Proxy({}, { get: (_, name) => String(name) }) as Colours;
const origin: Schema['Origin'] = {
  period: '2025-02',
  at: 1,
  method: 'naive',
  brief: 'naive',
  missed: [],
  held: [],
  forecast: [10, 10],
  bands: [{ level: 95, low: [8, 8], high: [12, 12] }],
  wape: 10,
};
const node: Schema['Node'] = {
  node: 'a0',
  name: 'All',
  level: 'all',
  trail: [],
  previous: null,
  next: null,
  place: 1,
  n_on_level: 1,
  frequency: 'M',
  season_length: 12,
  periods: ['2025-01', '2025-02', '2025-03', '2025-04', '2025-05', '2025-06'],
  n_past: 4,
  received: null,
  history: [9, null, 11, 20],
  base: [10, 10],
  statistical: [10, 11],
  statistical_bands: [],
  adjusted_by: [],
  forecast: [10, 11],
  sums: [10, 21],
  sum_bands: [],
  bands: [
    { level: 95, low: [5, 4], high: [15, 16] },
    { level: 80, low: [7, 6], high: [13, 14] },
  ],
  method: 'naive',
  family: 'mean',
  searched: false,
  reason: '',
  brief: '',
  parts: [],
  usual_error: 1,
  plan: '',
  kept: '',
  kind: { words: 'smooth', interval: 1, variation: 0.1, empty: 0, window: null },
  parameters: [],
  scores: [],
  published: { method: 'published', mae: 1, wape: 1, rmsse: 1, gain: 1, origins: 1 },
  hits: [],
  origins: [origin],
};

describe('the picture of a series', () => {
  it('draws what planners changed over the forecast, a tick where it differs, and the band as it was', () => {
    const changed = {
      ...node,
      forecast: [10, 14],
      statistical_bands: [{ level: 95, low: [5, 4], high: [15, 16] }],
    };
    const { series } = seriesOptions(changed, null, 'all', colours);
    const data = (name: string) =>
      (series.find((one) => 'name' in one && one.name === name) as { data: unknown[] } | undefined)?.data;
    expect(data('forecast')).toEqual([null, null, null, 20, 10, 11]);
    expect(data('adjusted')).toEqual([null, null, null, null, 10, 14]);
    expect(data('changed')).toEqual([[5, 14]]);
    expect(data('band before 1')).toEqual([null, null, null, null, 15, 16]);
    expect(said(changed, 5)).toContain('adjusted 14<br>statistical 11');
    expect(
      seriesOptions(node, null, 'all', colours).series.some(
        (one) => 'name' in one && one.name === 'adjusted',
      ),
    ).toBe(false);
  });

  it('leaves a missing value as a gap', () => {
    const sold = seriesOptions(node, null, 'all', colours).series.find(
      (one) => 'name' in one && one.name === 'sold',
    );
    expect((sold as { data: unknown[] }).data).toEqual([9, null, 11, 20, null, null]);
  });

  it('joins the forecast to the last value and labels each band at its end', () => {
    const { series } = seriesOptions(node, null, 'all', colours);
    const forecast = series.find((one) => 'name' in one && one.name === 'forecast') as { data: unknown[] };
    expect(forecast.data).toEqual([null, null, null, 20, 10, 11]);
    const labels = series.at(-1) as { data: { label: { formatter: string } }[] };
    expect(labels.data.map((one) => one.label.formatter)).toEqual(['95 %', '80 %']);
  });

  it('reaches as high as its widest band', () => {
    const edges = seriesOptions(node, null, 'all', colours).series[0] as unknown as {
      data: [number, number][];
    };
    expect(Math.max(...edges.data.map(([, value]) => value))).toBe(16);
    expect(edges.data).toContainEqual([5, 4]);
  });

  it('names a band that closes at its end, and none that never has a width', () => {
    const named = (bands: Schema['Node']['bands']) => {
      const labels = seriesOptions({ ...node, bands }, null, 'all', colours).series.at(-1);
      return (labels as { data: { label: { formatter: string } }[] }).data.map((one) => one.label.formatter);
    };
    expect(named([{ level: 50, low: [1, 0], high: [2, 0] }])).toEqual(['50 %']);
    expect(named([{ level: 95, low: [0, 0], high: [0, 0] }])).toEqual([]);
  });

  it('counts hits of the widest band of an origin', () => {
    expect(hits(node, origin)).toEqual({ hit: 1, of: 2 });
  });

  it('draws a miss hollow', () => {
    const { series } = seriesOptions(node, origin, 'all', colours);
    const came = series.find((one) => 'name' in one && one.name === 'what came') as {
      data: { itemStyle: { color: string } }[];
    };
    expect(came.data.map((one) => one.itemStyle.color)).toEqual(['plum', 'paper']);
  });

  it('shows whole seasons before the end', () => {
    const weekly = { n_past: 182, season_length: 52, origins: [{ at: 100 }] } as unknown as Schema['Node'];
    expect(firstShown(weekly, '2')).toBe(78);
    expect(firstShown({ ...weekly, n_past: 20 }, '1')).toBe(0);
    expect(spansOf(weekly)).toEqual({ spans: ['near', '1', '2', 'all'], first: '2' });
    expect(firstShown({ ...weekly, periods: Array(195).fill('') }, 'near')).toBe(169);
    // two weeks of days do not reach back to the origins
    const daily = {
      n_past: 900,
      season_length: 7,
      origins: [{ at: 850 }, { at: 820 }],
    } as unknown as Schema['Node'];
    expect(spansOf(daily).first).toBe('origins');
    expect(firstShown(daily, 'origins')).toBe(808);
    expect(placed([1, 2], 1, 4)).toEqual([null, 1, 2, null]);
  });
});
