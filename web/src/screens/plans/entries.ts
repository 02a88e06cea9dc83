/** What is typed into the form of a plan -> the plan as the server takes it. */
import type { Schema } from '../../api/client';

export type Kind = Schema['KindEnum'];
export type Entries = Record<string, string | undefined>;

/** The fields by which series are named: keys, and the levels above each. */
export function namesOf(load: Pick<Schema['Load'], 'key_names' | 'levels'>): string[] {
  const levels = load.levels as Record<string, string[]> | undefined;
  return (load.key_names as string[]).flatMap((key) => [key, ...(levels?.[key] ?? [])]);
}

function map(keys: string[], entries: Entries, prefix: string): Record<string, string> {
  return Object.fromEntries(
    keys.flatMap((key) => {
      const text = entries[`${prefix} ${key}`]?.trim();
      return text ? [[key, text]] : [];
    }),
  );
}

function number(text: string | undefined): number | null {
  const clean = text?.trim().replace(',', '.');
  return clean ? Number(clean) : null;
}

export function planOf(kind: Kind, keys: string[], entries: Entries): Schema['PlanRequest'] {
  const text = (name: string) => entries[name]?.trim() ?? '';
  const share = (number(entries.share) ?? 100) / 100;
  if (kind === 'succession')
    return { kind, key: entries.key ?? keys[0] ?? '', old: text('old'), new: text('new'), share };
  if (kind === 'lifetime')
    return {
      kind,
      where: map(keys, entries, 'where'),
      first: text('first') || null,
      last: text('last') || null,
    };
  if (kind === 'event')
    return {
      kind,
      name: text('name'),
      periods: text('periods')
        .split(/[,;\s]+/)
        .filter(Boolean),
    };
  if (kind === 'holidays') return { kind, of: text('of').toUpperCase(), name: text('name') || 'holiday' };
  if (kind === 'driver')
    return {
      kind,
      name: text('driver'),
      where: map(keys, entries, 'where'),
      first: text('first') || null,
      last: text('last') || null,
      change: (text('change') || 'set') as Schema['DriverChangeEnum'],
      amount: number(entries.amount),
    };
  const arrival = { kind, keys: map(keys, entries, 'new'), start: text('start') };
  return entries.way === 'range'
    ? { ...arrival, low: number(entries.low), high: number(entries.high) }
    : { ...arrival, like: map(keys, entries, 'like'), share };
}
