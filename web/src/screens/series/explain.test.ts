import { describe, expect, it } from 'vitest';
import { explain, halfLife, periodsOfWeight } from './explain';

describe('parameters in words', () => {
  it('counts the periods that carry 90 % of the weight', () => {
    // 1 - (1 - 0.18)^n first reaches 0.9 at n = 12
    expect(periodsOfWeight(0.18)).toBe(12);
    expect(1 - (1 - 0.18) ** 11).toBeLessThan(0.9);
    expect(1 - (1 - 0.18) ** 12).toBeGreaterThanOrEqual(0.9);
  });

  it('counts the periods after which half of the slope is gone', () => {
    expect(halfLife(0.93)).toBe(10);
  });

  it('names harmonics and lags, and leaves 52 seasonal states out', () => {
    const found = explain(
      [
        { name: 'alpha', value: 0.001 },
        { name: 'ma1', value: -0.4 },
        { name: 'cos2', value: 3 },
        { name: 'season1', value: 4 },
      ],
      'week',
    );
    expect(found.map((one) => one.name)).toEqual(['level weight α', 'MA, lag 1', 'cos of 1/2 year']);
    expect(found[0]?.meaning).toBe('the level stays where it started');
  });
});
