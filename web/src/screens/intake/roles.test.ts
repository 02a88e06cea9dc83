import { describe, expect, it } from 'vitest';
import { optionsFrom, type Roles, withRole } from './roles';

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
      attribute_columns: { family: 'sku' },
    });
  });

  it('keep one column of sales', () => {
    const changed = withRole(roles, 'returns', 'value', null);
    expect(optionsFrom(changed).value).toBe('returns');
    expect(changed.units?.role).toBe('ignored');
  });

  it('leave no attribute of a column that is a key no more', () => {
    expect(withRole(roles, 'sku', 'ignored', null).family?.role).toBe('ignored');
  });
});
