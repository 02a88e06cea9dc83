/** What is typed into the form of a plan -> the plan as the server takes it. */
import type { Schema } from '../../api/client';

export type Kind = Schema['KindEnum'];
export type Entries = Record<string, string | undefined>;

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
  const arrival = { kind, keys: map(keys, entries, 'new'), start: text('start') };
  return entries.way === 'range'
    ? { ...arrival, low: number(entries.low), high: number(entries.high) }
    : { ...arrival, like: map(keys, entries, 'like'), share };
}
