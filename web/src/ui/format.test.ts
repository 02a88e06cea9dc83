import { describe, expect, it } from 'vitest';
import { count, fixed, megabytes, periods, seconds, share, signed } from './format';

describe('numbers as the screens write them', () => {
  it('separate thousands and keep decimals', () => {
    expect(count(1234567)).toBe('1,234,567');
    expect(fixed(1234.5, 2)).toBe('1,234.50');
    expect([fixed(-0.0004, 2), fixed(-0.2, 1)]).toEqual(['0.00', '−0.2']);
  });

  it('write what is unknown as a dash, never as zero', () => {
    expect([fixed(null, 1), signed(undefined, 1), share(null)]).toEqual(['–', '–', '–']);
  });

  it('sign a gain, but not zero', () => {
    expect([signed(3.14, 1), signed(-3.14, 1), signed(-0.04, 1)]).toEqual(['+3.1', '−3.1', '0.0']);
  });

  it('say times and sizes in the unit that is read', () => {
    expect([seconds(0.2), seconds(75), seconds(200)]).toEqual(['1 s', '75 s', '3 min']);
    expect([megabytes(900), megabytes(35_400_000)]).toEqual(['1 kB', '35.4 MB']);
    expect([periods('W'), periods('M', 1)]).toEqual(['weeks', 'month']);
  });
});
