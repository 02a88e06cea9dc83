/** The roles of a file's columns, and the options that they make. */
import type { Schema } from '../../api/client';

export type Role = Schema['ColumnRoleEnum'];
export type Roles = Record<string, { role: Role; of: string | null }>;

export function rolesOf(columns: Schema['Column'][]): Roles {
  return Object.fromEntries(columns.map((column) => [column.name, { role: column.role, of: column.of }]));
}

/** Say that a column, and all to the right of it that are not known to be otherwise, hold the sales of one period each. */
export function withPeriodsFrom(roles: Roles, name: string, alone: boolean): Roles {
  const names = Object.keys(roles);
  const from = names.indexOf(name);
  return Object.fromEntries(
    Object.entries(roles).map(([other, one], i) => {
      if (other === name || (!alone && i > from)) return [other, { role: 'period' as const, of: null }];
      // laid under each other, the periods are the time and their cells the sales
      return [
        other,
        one.role === 'time' || one.role === 'value' ? { role: 'ignored' as const, of: null } : one,
      ];
    }),
  );
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

/** What else a choice of role has changed, in words: nothing changes in silence. */
export function alsoChanged(before: Roles, after: Roles, column: string): string {
  const names = Object.keys(after).filter(
    (name) => name !== column && before[name]?.role !== after[name]?.role,
  );
  if (names.length === 0) return '';
  const why = ['time', 'value'].includes(after[column]?.role ?? '')
    ? `there is one column of ${after[column]?.role === 'time' ? 'periods' : 'sales'}, now ${column}`
    : `${column} is no key any more`;
  return `Ignored now: ${names.join(', ')}, because ${why}.`;
}

/** Files with the same columns start from the roles that were chosen for the last one. */
export const signature = (columns: Schema['Column'][]) =>
  `columns ${columns.map((column) => column.name).join('\u0000')}`;

const MOST_KEPT = 50;

export function keptRoles(of: string): Roles | null {
  try {
    const all = JSON.parse(localStorage.getItem('tansy roles') ?? '[]') as [string, Roles][];
    return all.find(([name]) => name === of)?.[1] ?? null;
  } catch {
    return null;
  }
}

export function keepRoles(of: string, roles: Roles) {
  try {
    const all = JSON.parse(localStorage.getItem('tansy roles') ?? '[]') as [string, Roles][];
    const others = all.filter(([name]) => name !== of);
    localStorage.setItem('tansy roles', JSON.stringify([[of, roles], ...others].slice(0, MOST_KEPT)));
  } catch {
    // a browser that keeps nothing: roles last as long as the page
  }
}

export function forgetRoles(...of: string[]) {
  try {
    const all = JSON.parse(localStorage.getItem('tansy roles') ?? '[]') as [string, Roles][];
    localStorage.setItem('tansy roles', JSON.stringify(all.filter(([name]) => !of.includes(name))));
  } catch {
    // nothing is kept
  }
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
    period_columns: named('period'),
    attribute_columns: Object.fromEntries(attributes),
  };
}
