import { describe, expect, it } from 'vitest';
import {
  cellIndex,
  hasChildren,
  type Line,
  ofKind,
  type Sheet,
  sparkPaths,
  tint,
  unfoldedTo,
  visible,
  worst,
} from './tree';

const line = (name: string, depth: number, parent: number): Line => ({ name, depth, parent, series: 1 });
const rows = [
  line('All', 0, -1),
  line('Tools', 1, 0),
  line('Fork', 2, 1),
  line('Spade', 2, 1),
  line('Pots', 1, 0),
];
const sheet: Sheet = {
  rows,
  columns: [line('All', 0, -1), line('Coast', 1, 0)],
  adjusted: [],
  node: ['n0', 'n1', 'n2', 'n3'],
  row: [0, 1, 0, 4],
  column: [0, 0, 1, 1],
  kinds: ['seasonal, smooth', 'ended'],
  kind: [0, 0, 1, 1],
  gain: [10, -20, -40, null],
  wape: [10, 90, 50, null],
  rmsse: [0.5, 1.5, 1, null],
  spark: ['', '', '', ''],
  n_past: 2,
};

describe('the Field', () => {
  it('shows a line when all above it are unfolded', () => {
    expect(visible(rows, new Set())).toEqual([0]);
    expect(visible(rows, new Set([0]))).toEqual([0, 1, 4]);
    expect(visible(rows, new Set([1]))).toEqual([0]);
    expect(visible(rows, unfoldedTo(rows, 2))).toEqual([0, 1, 2, 3, 4]);
    expect(hasChildren(rows, 1)).toBe(true);
    expect(hasChildren(rows, 4)).toBe(false);
  });

  it('finds cells, and leaves empty what is not sold', () => {
    const at = cellIndex(sheet);
    expect(at(4, 1)).toBe(3);
    expect(at(2, 1)).toBeUndefined();
  });

  it('tints gain upwards and error downwards', () => {
    expect([-40, -3, 0, 30].map((v) => tint('gain', v))).toEqual([1, 3, 3, 6]);
    expect([90, 45, 10].map((v) => tint('wape', v))).toEqual([1, 4, 6]);
    expect(tint('rmsse', null)).toBe(0);
  });

  it('lists the worst cells that are shown, worst first', () => {
    expect(worst(sheet, 'gain', new Set([0, 1]), new Set([0, 1]), 5)).toEqual([2, 1]);
    expect(worst(sheet, 'gain', new Set([0]), new Set([0]), 5)).toEqual([]);
  });

  it('breaks the line where a value is missing', () => {
    const encoded = btoa(String.fromCharCode(0, 255, 254, 127));
    const paths = sparkPaths(encoded, 3, 30, 10);
    expect(paths.past).toBe('M0.0 10.0M20.0 0.0');
    expect(paths.ahead).toBe('M20.0 0.0L30.0 5.0');
  });
});

describe('the Field of one kind of demand', () => {
  it('keeps the finest cells of the kind and the rows that lead to them', () => {
    const finest: Sheet = { ...sheet, row: [0, 2, 3, 4], column: [0, 1, 1, 1], kind: [0, 1, 0, 1] };
    const found = ofKind(finest, 'ended');
    expect([...found.cells]).toEqual([1]); // the cell of Pots is no finest row here
    expect([...found.rows].sort()).toEqual([0, 1, 2]);
    expect(ofKind(finest, 'seasonal').cells).toEqual(new Set([2]));
    expect(ofKind(finest, 'new').rows.size).toBe(0);
  });
});
