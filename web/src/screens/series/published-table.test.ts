import { describe, expect, it } from 'vitest';
import type { Schema } from '../../api/client';
import { digitsOf, said } from '../../charts/series';
import { publishedHead, publishedRows, summedHead, summedRows } from './published-table';

const node = {
  frequency: 'Q',
  season_length: 4,
  n_past: 6,
  periods: ['2024-Q1', '2024-Q2', '2024-Q3', '2024-Q4', '2025-Q1', '2025-Q2', '2025-Q3', '2025-Q4'],
  history: [10, 20, 30, null, 50, 60],
  received: null,
  base: [33.5, 44],
  statistical: [33.5, 44],
  sums: [33.5, 77.5],
  sum_bands: [{ level: 80, low: [25, 61], high: [45, 97] }],
  forecast: [33.5, 44],
  bands: [
    { level: 95, low: [20, null], high: [50, null] },
    { level: 80, low: [25, 30], high: [45, 60] },
  ],
} as unknown as Schema['Node'];

describe('what would be published', () => {
  it('stands beside the same quarter a year ago, with its bands from wide to narrow', () => {
    expect(publishedHead(node)).toEqual([
      'Period',
      'A year ago',
      'Forecast',
      '95 % low',
      '95 % high',
      '80 % low',
      '80 % high',
    ]);
    expect(publishedRows(node)).toEqual([
      ['2025-Q3', 30, 33.5, 20, 50, 25, 45],
      ['2025-Q4', null, 44, null, null, 30, 60],
    ]);
  });

  it('adds up from the first period on, with the bands of the sums', () => {
    expect(summedHead(node)).toEqual(['Up to', 'Forecast', '80 % low', '80 % high']);
    expect(summedRows(node)).toEqual([
      ['2025-Q3', 33.5, 25, 45],
      ['2025-Q4', 77.5, 61, 97],
    ]);
  });

  it('stands beside the last release, and beside no year where periods have none', () => {
    const before = { release: 3, mean: [31, null] };
    expect(publishedHead(node, before).slice(0, 4)).toEqual([
      'Period',
      'A year ago',
      'Release 3',
      'Forecast',
    ]);
    expect(publishedRows(node, before).map((row) => row.slice(1, 4))).toEqual([
      [30, 31, 33.5],
      [null, null, 44],
    ]);
    const numbered = { ...node, frequency: 'N', season_length: 1 };
    expect(publishedHead(numbered).slice(0, 2)).toEqual(['Period', 'Forecast']);
    expect(said(numbered, 5)).toBe('<b>2025-Q2</b><br>sold 60');
    const seasonal = { ...numbered, season_length: 3 };
    expect(publishedHead(seasonal)[1]).toBe('A season ago');
    expect(said(seasonal, 5)).toBe('<b>2025-Q2</b><br>sold 60<br>a season before 30');
  });

  it('stands beside what the node itself forecast, where other levels moved it', () => {
    const moved = { ...node, base: [30, 44] };
    expect(publishedHead(moved).slice(1, 4)).toEqual(['A year ago', 'Before reconciliation', 'Forecast']);
    expect(publishedRows(moved).map((row) => row.slice(1, 4))).toEqual([
      [30, 30, 33.5],
      [null, 44, 44],
    ]);
  });

  it('is what the pointer says, with the year before', () => {
    expect(said(node, 6)).toBe(
      '<b>2025-Q3</b><br>forecast 34<br>95 %: 20 to 50<br>80 %: 25 to 45<br>a year before 30',
    );
    expect(said(node, 5)).toBe('<b>2025-Q2</b><br>sold 60<br>a year before 20');
  });

  it('shows whole units where whole units are sold, and many of them', () => {
    expect(digitsOf(node)).toBe(0);
    expect(digitsOf({ ...node, history: [1, 2.5, 90] })).toBe(1);
    expect(digitsOf({ ...node, history: [1, 2, 3] })).toBe(1);
  });
});
