import { describe, expect, it } from 'vitest';
import { roundAxis, spread } from './scale';

describe('a round axis', () => {
  it('holds all values on round steps', () => {
    const axis = roundAxis([0.63, 0.985]);
    expect(axis.interval).toBeCloseTo(0.1);
    expect(axis.min).toBe(0.6);
    expect(axis.max).toBeCloseTo(1);
  });

  it('has room for a single value', () => {
    const axis = roundAxis([5]);
    expect(axis.min).toBeLessThan(5);
    expect(axis.max).toBeGreaterThan(5);
  });
});

describe('names at the ends of lines', () => {
  it('stay where there is room', () => {
    expect(spread([1, 5, 3], 1)).toEqual([1, 5, 3]);
  });

  it('move apart around their mean and keep their order', () => {
    const placed = spread([2, 2.1, 9], 1);
    expect(placed[0]).toBeCloseTo(1.55);
    expect(placed[1]).toBeCloseTo(2.55);
    expect(placed[2]).toBe(9);
  });

  it('have the first of equals on top', () => {
    expect(spread([0, 0, 0], 1)).toEqual([1, 0, -1]);
  });

  it('stay above the floor, and push those above them up', () => {
    expect(spread([0, 0, 1.5, 9], 1, 0)).toEqual([1, 0, 2, 9]);
  });

  it('push on to the next when a group has grown into it', () => {
    const placed = [...spread([1, 1, 1.9], 1)].sort((a, b) => a - b);
    expect((placed[1] ?? 0) - (placed[0] ?? 0)).toBeCloseTo(1);
    expect((placed[2] ?? 0) - (placed[1] ?? 0)).toBeCloseTo(1);
  });
});
