import { describe, expect, it } from 'vitest';
import { above, nextOpen, replacements, type Suspicion, sentence } from './decide';

const one = (id: number, over: Partial<Suspicion> = {}): Suspicion => ({
  id,
  series: 's0',
  name: 'P1 × HC01',
  rule: 'spike',
  words: 'far from what one expects',
  period: '2025-W10',
  start: 10,
  length: 1,
  score: 5,
  received: 90,
  expected: 12,
  low: 5,
  high: 19,
  median: 11,
  interpolated: 13,
  ratio: null,
  state: 'open',
  ...over,
});

describe('deciding about suspicious values', () => {
  it('offers numbers for a single value, and only unknown for a run', () => {
    expect(replacements(one(1)).map((r) => [r.replace, r.value])).toEqual([
      ['expected', 12],
      ['median', 11],
      ['interpolated', 13],
      ['unknown', null],
    ]);
    expect(replacements(one(1, { rule: 'zero-run', length: 3 })).map((r) => r.replace)).toEqual(['unknown']);
  });

  it('goes on to the next open one, and back where none follows', () => {
    const list = [one(1), one(2, { state: 'accepted' }), one(3), one(4, { state: 'dismissed' })];
    expect(nextOpen(list, 1)).toBe(3);
    expect(nextOpen(list, 3)).toBe(1);
    expect(nextOpen([one(2, { state: 'accepted' })], 2)).toBeNull();
  });

  it('takes all open ones above a score, but never a shift of level', () => {
    const list = [
      one(1, { score: 8 }),
      one(2, { score: 7.9 }),
      one(3, { score: 20, rule: 'level-shift' }),
      one(4, { score: 9, state: 'dismissed' }),
    ];
    expect(above(list, 8)).toEqual([1]);
  });

  it('says it in a sentence', () => {
    expect(sentence(one(1))).toContain(
      '90 were received where about 12 were to be expected, usually 5 to 19',
    );
    expect(sentence(one(1, { rule: 'zero-run', length: 3 }))).toContain('Nothing was sold for 3 periods');
    expect(sentence(one(1, { rule: 'level-shift', ratio: 2.5 }))).toContain('2.50 times');
  });
});
