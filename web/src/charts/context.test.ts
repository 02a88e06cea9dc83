import { describe, expect, it } from 'vitest';
import type { Colours } from './colours';
import { contextOptions } from './context';
import { rings } from './rings';

const colours = { teal: 'teal', brick: 'brick', ink: 'ink', second: 'second', rule: 'rule' } as Colours;
const history = {
  n_series: 9,
  series: 'a1',
  previous: null,
  next: 'a2',
  place: 1,
  name: 'P1 × HC01',
  labels: ['Lavender', 'Wrencote'],
  periods: Array.from({ length: 120 }, (_, t) => `W${t}`),
  season_length: 52,
  frequency: 'W',
  received: Array.from({ length: 120 }, (_, t) => (t === 60 ? 900 : t === 61 ? null : 10)),
  corrected: Array.from({ length: 120 }, (_, t) => (t === 60 ? 12 : t === 61 ? null : 10)),
  reasons: { '60': 'till error' },
  switches: { promotion: [5, 60], holiday: [5] },
};

function named(options: { series: { name?: string }[] }, name: string): { data: number[][] } {
  return options.series.find((one) => one.name === name) as unknown as { data: number[][] };
}

describe('a value in its context', () => {
  it('draws the line through the correction and a ring at what was received', () => {
    const options = contextOptions(history, null, colours);
    expect(named(options, 'as corrected').data[60]).toBe(12);
    expect(rings(history.received, history.corrected, colours).data).toEqual([[60, 900]]);
  });

  it('leaves out what cannot be seen where very many values are corrected a little', () => {
    const corrected = Array.from({ length: 40 }, () => 1000);
    const received = corrected.map((value, t) => (t === 7 ? 1300 : value + 1));
    expect(rings(received, corrected, colours).data).toEqual([[7, 1300]]);
    expect(rings(received.slice(0, 9), corrected.slice(0, 9), colours).data).toHaveLength(9);
  });

  it('shows a year before and half a year after, the proposal, and promotions once each', () => {
    const suspect = { start: 60, length: 2, low: 4, high: 16, proposal: 11 };
    const options = contextOptions(history, suspect, colours);
    expect(options.dataZoom[0]).toMatchObject({ startValue: 8, endValue: 88 });
    expect(named(options, 'would become').data).toEqual([[60, 11]]);
    expect(named(options, 'suspicious').data).toEqual([
      [60, 900],
      [61, 0],
    ]);
    expect(named(options, 'promotion or holiday').data).toEqual([
      [5, 0],
      [60, 0],
    ]);
    expect(
      named(contextOptions(history, { ...suspect, proposal: null }, colours), 'would become').data,
    ).toEqual([]);
  });
});
