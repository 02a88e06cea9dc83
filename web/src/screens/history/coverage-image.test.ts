import { describe, expect, it } from 'vitest';
import { decode, lookup, pixels } from './coverage-image';

const palette = { missing: '#ffffff', zero: '#aabbcc', negative: '#ff0000', low: '#000000', high: '#64c832' };

describe('the pixels of the coverage picture', () => {
  it('follow the order of the series and tell missing, zero and levels apart', () => {
    const cells = new Uint8Array([0, 1, 2, 3, 8, 0]); // two series of three periods
    const table = lookup(palette);
    const found = pixels(cells, [1, 0], 3, 0, 2, table);
    const hex = [...found].map((p) => [p & 255, (p >> 8) & 255, (p >> 16) & 255, p >>> 24]);
    expect(hex).toEqual([
      [0, 0, 0, 255],
      [0x64, 0xc8, 0x32, 255],
      [255, 255, 255, 255],
      [255, 255, 255, 255],
      [0xaa, 0xbb, 0xcc, 255],
      [255, 0, 0, 255],
    ]);
  });

  it('grow evenly from low to high sales', () => {
    const reds = [3, 4, 5, 6, 7, 8].map((k) => (lookup(palette)[k] ?? 0) & 255);
    expect(reds).toEqual([0, 20, 40, 60, 80, 100]);
  });

  it('come out of base64', () => {
    expect([...decode(btoa('\x00\x01\xff'))]).toEqual([0, 1, 255]);
  });
});
