import { describe, expect, it } from 'vitest';
import {
  alsoChanged,
  keepRoles,
  keptRoles,
  optionsFrom,
  type Roles,
  signature,
  withPeriodsFrom,
  withRole,
} from './roles';

const roles: Roles = {
  week: { role: 'time', of: null },
  sku: { role: 'key', of: null },
  family: { role: 'attribute', of: 'sku' },
  units: { role: 'value', of: null },
  returns: { role: 'ignored', of: null },
};

describe('roles of columns', () => {
  it('become the options of a reading', () => {
    expect(optionsFrom(roles)).toEqual({
      time: 'week',
      value: 'units',
      keys: ['sku'],
      driver_columns: [],
      period_columns: [],
      attribute_columns: { family: 'sku' },
    });
  });

  it('say that columns are periods: one, or one and all after it', () => {
    const wide = withPeriodsFrom(roles, 'units', false);
    expect(optionsFrom(wide)).toMatchObject({
      period_columns: ['units', 'returns'],
      keys: ['sku'],
      time: '',
    });
    expect(optionsFrom(withPeriodsFrom(roles, 'units', true)).period_columns).toEqual(['units']);
    expect(optionsFrom(withRole(wide, 'returns', 'ignored', null)).period_columns).toEqual(['units']);
  });

  it('keep one column of sales', () => {
    const changed = withRole(roles, 'returns', 'value', null);
    expect(optionsFrom(changed).value).toBe('returns');
    expect(changed.units?.role).toBe('ignored');
  });

  it('say what else a choice has changed', () => {
    expect(alsoChanged(roles, withRole(roles, 'returns', 'value', null), 'returns')).toBe(
      'Ignored now: units, because there is one column of sales, now returns.',
    );
    expect(alsoChanged(roles, withRole(roles, 'sku', 'ignored', null), 'sku')).toBe(
      'Ignored now: family, because sku is no key any more.',
    );
    expect(alsoChanged(roles, withRole(roles, 'returns', 'driver', null), 'returns')).toBe('');
  });

  it('are kept for a reload, and for the next file with the same columns', () => {
    const columns = Object.keys(roles).map((name) => ({ name, role: 'key' as const, of: null, reason: '' }));
    expect(keptRoles(signature(columns))).toBeNull();
    keepRoles(signature(columns), roles);
    expect(keptRoles(signature(columns))).toEqual(roles);
    expect(keptRoles(signature(columns.slice(1)))).toBeNull();
    localStorage.setItem('tansy roles', '{"broken');
    expect(keptRoles(signature(columns))).toBeNull();
  });

  it('leave no attribute of a column that is a key no more', () => {
    expect(withRole(roles, 'sku', 'ignored', null).family?.role).toBe('ignored');
  });
});
