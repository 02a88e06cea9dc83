import { describe, expect, it } from 'vitest';
import { explained } from './taken';

const parts = (...names: string[]) => explained(names.map((name) => ({ name })));

describe('the words under the parts of a forecast', () => {
  it('explains only what is there', () => {
    expect(parts('level and trend', 'season')).toBe('The parts add up to the forecast.');
    expect(parts('level and trend', 'season of the year', 'promotion')).toContain('A driver counts from');
    expect(parts('level and trend', 'rest')).not.toContain('driver');
    expect(parts('level and trend', 'rest')).toContain('transformed scale');
    expect(parts('level and trend', 'reconciliation and rounding')).toContain('other levels');
  });
});
