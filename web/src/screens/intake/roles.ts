/** The roles of a file's columns, and the options that they make. */
import type { Schema } from '../../api/client';

export type Role = Schema['RoleEnum'];
export type Roles = Record<string, { role: Role; of: string | null }>;

export function rolesOf(columns: Schema['Column'][]): Roles {
  return Object.fromEntries(columns.map((column) => [column.name, { role: column.role, of: column.of }]));
}

/** Give a column a role. There is one column of periods and one of sales: the one before is not used any more. */
export function withRole(roles: Roles, name: string, role: Role, of: string | null): Roles {
  const freed = Object.entries(roles).map(([other, one]) => {
    const taken = (role === 'time' || role === 'value') && one.role === role;
    const orphaned = one.role === 'attribute' && one.of === name && role !== 'key';
    return [other, taken || orphaned ? { role: 'ignored' as const, of: null } : one] as const;
  });
  return { ...Object.fromEntries(freed), [name]: { role, of } };
}

export function optionsFrom(roles: Roles): Schema['OptionsRequest'] {
  const named = (role: Role) => Object.keys(roles).filter((name) => roles[name]?.role === role);
  const attributes = Object.entries(roles).flatMap(([name, one]) =>
    one.role === 'attribute' && one.of ? [[name, one.of] as const] : [],
  );
  return {
    time: named('time')[0] ?? '',
    value: named('value')[0] ?? '',
    keys: named('key'),
    driver_columns: named('driver'),
    attribute_columns: Object.fromEntries(attributes),
  };
}
