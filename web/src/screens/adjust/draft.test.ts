import { describe, expect, it } from 'vitest';
import { begun, changesOf, numberIn, pasted } from './draft';

const AHEAD = ['2026-W44', '2026-W45', '2026-W46'];

describe('a change that is being put together', () => {
  it('reads numbers as people write them, and nothing else', () => {
    expect(['1,250', '1 250.5', '−3', '+10', '12,5', '.5', '1,250,000'].map(numberIn)).toEqual([
      1250, 1250.5, -3, 10, 12.5, 0.5, 1250000,
    ]);
    expect(['', 'ten', '1-2', '5 %', '1e5'].map(numberIn)).toEqual([null, null, null, null, null]);
  });

  it('asks for nothing before there is a number, and lays typed periods over the rest', () => {
    const draft = { ...begun(3), locked: [{ node: 'b', name: 'Herbs' }] };
    expect(changesOf(draft, ['a'], AHEAD)).toEqual([]);
    const both = changesOf({ ...draft, amount: '10', typed: { 1: '40', 2: 'x' } }, ['a'], AHEAD);
    const shared = { nodes: ['a'], spread: 'forecast', locked: ['b'] };
    expect(both).toEqual([
      { ...shared, first: '2026-W44', last: '2026-W46', change: 'percent', amount: 10, over: 'each' },
      { ...shared, first: '2026-W45', last: '2026-W45', change: 'set', amount: 40, over: 'each' },
    ]);
  });

  it('takes numbers from a sheet, down or across, and no more than there are periods', () => {
    expect(pasted('1\r\n2\r\n', 0, 3)).toEqual({ 0: '1', 1: '2' });
    expect(pasted('7\t8\t9', 1, 3)).toEqual({ 1: '7', 2: '8' });
    expect(pasted('a\n5', 0, 3)).toEqual({ 1: '5' });
  });
});
