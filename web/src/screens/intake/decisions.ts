/** What a planner decides about a file, and the words for it. */
import type { Schema } from '../../api/client';

export type Decisions = Required<
  Pick<
    Schema['OptionsRequest'],
    'gaps' | 'duplicates' | 'copies' | 'totals' | 'empty_keys' | 'negatives' | 'unfinished' | 'week_start'
  >
> & { frequency: Schema['FrequencyEnum'] | null; sheet: string | null; first_period: string };

export const GAPS = [
  { value: 'zero', label: 'zero: nothing was sold' },
  { value: 'unknown', label: 'unknown' },
  { value: 'interpolate', label: 'a line between its neighbours' },
] as const;
export const NEGATIVES = [
  { value: 'keep', label: 'stay, as returns' },
  { value: 'drop', label: 'are left out' },
  { value: 'positive', label: 'lose their sign' },
] as const;
export const UNFINISHED = [
  { value: 'leave-out', label: 'is left out' },
  { value: 'keep', label: 'stays' },
] as const;
export const COPIES = [
  { value: 'one', label: 'keep one' },
  { value: 'all', label: 'count all' },
] as const;
export const TOTALS = [
  { value: 'leave-out', label: 'are left out' },
  { value: 'keep', label: 'are series' },
] as const;
export const EMPTY_KEYS = [
  { value: 'leave-out', label: 'are left out' },
  { value: 'as-above', label: 'have that of the row above' },
] as const;
export const WEEK_STARTS = [
  { value: 'monday', label: 'Monday' },
  { value: 'sunday', label: 'Sunday' },
] as const;
export const COARSER: Record<string, { value: Schema['FrequencyEnum']; label: string }[]> = {
  D: [
    { value: 'D', label: 'days' },
    { value: 'W', label: 'weeks' },
    { value: '4W', label: 'four weeks' },
    { value: 'M', label: 'months' },
  ],
  W: [
    { value: 'W', label: 'weeks' },
    { value: '4W', label: 'four weeks' },
  ],
  M: [
    { value: 'M', label: 'months' },
    { value: 'Q', label: 'quarters' },
  ],
};
export const DUPLICATES = [
  { value: 'sum', label: 'add up' },
  { value: 'first', label: 'keep the first' },
  { value: 'last', label: 'keep the last' },
  { value: 'mean', label: 'average' },
] as const;
