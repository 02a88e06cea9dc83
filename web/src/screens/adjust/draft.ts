/** What a planner has filled in, and the changes that it asks for. Pure: tested without a browser. */
import type { Schema } from '../../api/client';
import type { Asked } from './queries';

export type Change = Schema['ChangeEnum'];
export type Spread = Schema['SpreadEnum'];

/** typed: numbers typed or dragged for single periods. first, last: leads. */
export interface Draft {
  typed: Record<number, string>;
  first: number;
  last: number;
  change: Change;
  amount: string;
  over: Schema['OverEnum'];
  spread: Spread;
  locked: { node: string; name: string }[];
}

export const CHANGES: { value: Change; label: string }[] = [
  { value: 'percent', label: 'more or less, %' },
  { value: 'add', label: 'more or less, units' },
  { value: 'set', label: 'set to' },
  { value: 'cap', label: 'no more than' },
  { value: 'floor', label: 'no less than' },
  { value: 'shift', label: 'later by periods' },
];

export const SPREADS: { value: Spread; label: string }[] = [
  { value: 'forecast', label: 'as they are forecast' },
  { value: 'history', label: 'as they sold last season' },
  { value: 'even', label: 'evenly' },
  { value: 'reconcile', label: 'by reconciling all levels' },
];

export const begun = (leads: number): Draft => ({
  typed: {},
  first: 0,
  last: Math.max(0, leads - 1),
  change: 'percent',
  amount: '',
  over: 'each',
  spread: 'forecast',
  locked: [],
});

/** A number as people write it: 1,250 or 1 250.5 or −3; null where it is none. */
export function numberIn(text: string): number | null {
  const plain = text
    .trim()
    .replace(/[\s']/g, '')
    .replace(/−/g, '-')
    .replace(/,(?=\d{3}(\D|$))/g, '')
    .replace(',', '.');
  return /^[+-]?(\d+\.?\d*|\.\d+)$/.test(plain) ? Number(plain) : null;
}

/** Single periods that were typed come after what is done to all of them, and so stand as they were typed. */
export function changesOf(draft: Draft, nodes: string[], ahead: string[]): Asked[] {
  const shared = { nodes, spread: draft.spread, locked: draft.locked.map((one) => one.node) };
  const found: Asked[] = [];
  const amount = numberIn(draft.amount);
  if (amount !== null)
    found.push({
      ...shared,
      first: ahead[draft.first] ?? '',
      last: ahead[draft.last] ?? '',
      change: draft.change,
      amount,
      over: draft.over,
    });
  for (const [lead, text] of Object.entries(draft.typed)) {
    const value = numberIn(text);
    const period = ahead[Number(lead)];
    if (value !== null && period !== undefined)
      found.push({ ...shared, first: period, last: period, change: 'set', amount: value, over: 'each' });
  }
  return found;
}

/** Numbers that were copied from a sheet, one below the other or side by side, from a lead on. */
export function pasted(text: string, from: number, leads: number): Record<number, string> {
  const cells = text
    .replace(/\r/g, '')
    .split(/[\n\t]/)
    .map((cell) => cell.trim());
  while (cells.at(-1) === '') cells.pop();
  return Object.fromEntries(
    cells
      .map((cell, i) => [from + i, cell] as const)
      .filter(([lead, cell]) => lead < leads && numberIn(cell) !== null),
  );
}
