import { describe, expect, it } from 'vitest';
import type { Schema } from '../api/client';
import type { Colours } from './colours';
import { extremesOptions, spreadOptions } from './spread';

const colours = { ink: 'ink', second: 'second', spreadOuter: 'outer', spreadInner: 'inner' } as Colours;
const row = (k: number) => [k, k + 1, null];
const found = {
  periods: ['a', 'b', 'c'],
  n_series: 9,
  shares: [0, 0.1, 0.25, 0.5, 0.75, 0.9, 1],
  units: [0, 1, 2, 3, 4, 5, 6].map((k) => row(10 * k)),
  scaled: [0, 1, 2, 3, 4, 5, 6].map(row),
} as unknown as Schema['Overview'];

type Named = { name?: string; data: unknown };

describe('the spread of all series', () => {
  it('draws the middle line between its bands, in the scale that is asked for', () => {
    const lines = (scaled: boolean) =>
      Object.fromEntries(
        (spreadOptions(found, scaled, colours).series as Named[]).map((s) => [s.name, s.data]),
      );
    expect(lines(false)['middle series']).toEqual([30, 31, null]);
    expect(lines(true)['middle series']).toEqual([3, 4, null]);
    expect(lines(false)['90 % of series below']).toEqual([50, 51, null]);
  });

  it('keeps the extremes to a picture of their own, so that they do not hide the rest', () => {
    const names = (spreadOptions(found, true, colours).series as Named[]).map((s) => s.name);
    expect(names).not.toContain('largest');
    expect((extremesOptions(found, true, colours).series as Named[])[0]).toMatchObject({
      name: 'largest',
      data: [6, 7, null],
    });
  });
});
