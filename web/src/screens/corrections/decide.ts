/** What can be decided about a suspicious value. */
import type { Schema } from '../../api/client';
import { fixed } from '../../ui/format';

export type Suspicion = Schema['Suspicion'];
export type Replace = Schema['DecisionReplaceEnum'];

/** Only single values can be replaced by a number; a run of them becomes unknown. */
export function replacements(one: Suspicion): { replace: Replace; label: string; value: number | null }[] {
  const unknown = { replace: 'unknown' as const, label: 'unknown', value: null };
  if (!['spike', 'fence', 'same-week'].includes(one.rule)) return [unknown];
  return [
    { replace: 'expected' as const, label: `expected, ${fixed(one.expected, 0)}`, value: one.expected },
    { replace: 'median' as const, label: `local median, ${fixed(one.median, 0)}`, value: one.median },
    {
      replace: 'interpolated' as const,
      label: `neighbours, ${fixed(one.interpolated, 0)}`,
      value: one.interpolated,
    },
    unknown,
  ];
}

export function isChange(one: Suspicion): boolean {
  return one.rule !== 'level-shift';
}

/** The next open one after `id`, or the one before where none follows. */
export function nextOpen(list: Suspicion[], id: number): number | null {
  const at = list.findIndex((one) => one.id === id);
  const later = list.slice(at + 1).find((one) => one.state === 'open');
  const earlier = list.slice(0, Math.max(at, 0)).findLast((one) => one.state === 'open');
  return (later ?? earlier)?.id ?? null;
}

/** Ids of the open ones that can be corrected, at or above a score. */
export function above(list: Suspicion[], score: number): number[] {
  return list
    .filter((one) => one.state === 'open' && isChange(one) && one.score >= score)
    .map((one) => one.id);
}

export function sentence(one: Suspicion): string {
  if (one.rule === 'zero-run')
    return `Nothing was sold for ${one.length === 1 ? 'one period' : `${one.length} periods`}, where about ${fixed(one.expected, 0)} a period were to be expected.`;
  if (one.rule === 'out-of-stock')
    return 'The stock on hand was used up; what would have been sold is not known.';
  if (one.rule === 'level-shift')
    return `From here on the level is ${fixed(one.ratio, 2)} times what it was. This is told, not corrected.`;
  const range = `${fixed(one.low, 0)} to ${fixed(one.high, 0)}`;
  return `${fixed(one.received, 0)} were received where about ${fixed(one.expected, 0)} were to be expected, usually ${range}: ${one.words}.`;
}
