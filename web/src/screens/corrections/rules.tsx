/** Which values count as suspicious. */
import type { Schema } from '../../api/client';
import { Choice } from '../../ui/page';

export type Rules = Schema['RulesRequest'];
export type Rule = Schema['FindEnum'];
type Threshold = 'spike' | 'zero_run' | 'fence' | 'same_week' | 'level_shift';

export const RULES: { rule: Rule; label: string; what: string; threshold?: Threshold; usual?: number }[] = [
  {
    rule: 'spike',
    label: 'Wild value',
    what: 'so many standard deviations from what time and siblings lead one to expect',
    threshold: 'spike',
    usual: 4.1,
  },
  {
    rule: 'zero-run',
    label: 'Nothing sold',
    what: 'zeros in a lively series, together as unlikely as so many standard deviations',
    threshold: 'zero_run',
    usual: 4.1,
  },
  { rule: 'out-of-stock', label: 'Out of stock', what: 'periods that began or ended without stock on hand' },
  {
    rule: 'fence',
    label: 'Beyond the fences',
    what: 'so many interquartile ranges outside the quartiles, season allowed for',
    threshold: 'fence',
    usual: 3,
  },
  {
    rule: 'same-week',
    label: 'Unlike other years',
    what: 'so many standard deviations from the same weeks of other years',
    threshold: 'same_week',
    usual: 4.1,
  },
  {
    rule: 'level-shift',
    label: 'New level',
    what: 'a quarter of a year differs from the one before, by so many standard deviations; told, not corrected',
    threshold: 'level_shift',
    usual: 6,
  },
];

export const RULE_LABELS: Record<string, string> = {
  ...Object.fromEntries(RULES.map((one) => [one.rule, one.label])),
  'stock-out': 'Stock-out',
  closure: 'Closure',
};

export const DEFAULT_RULES: Rules = { find: ['spike', 'zero-run', 'out-of-stock'], level: 'robust' };

export function RulesForm({ rules, onChange }: { rules: Rules; onChange: (rules: Rules) => void }) {
  const find = rules.find ?? [];
  return (
    <fieldset className="space-y-1">
      <legend className="sr-only">Rules</legend>
      {RULES.map((one) => (
        <div key={one.rule} className="flex items-center gap-3 text-[13px]">
          <label className="flex w-[170px] items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={find.includes(one.rule)}
              onChange={(event) =>
                onChange({
                  ...rules,
                  find: event.target.checked ? [...find, one.rule] : find.filter((rule) => rule !== one.rule),
                })
              }
            />
            {one.label}
          </label>
          {one.threshold ? (
            <input
              type="number"
              className="input input-xs w-[68px] text-right"
              aria-label={`Threshold of ${one.label}`}
              min="0.5"
              step="0.1"
              value={rules[one.threshold] ?? one.usual}
              onChange={(event) =>
                one.threshold && onChange({ ...rules, [one.threshold]: Number(event.target.value) })
              }
            />
          ) : (
            <span className="w-[68px]" />
          )}
          <span className="text-second">{one.what}</span>
        </div>
      ))}
      <div className="flex items-center gap-3 pt-1">
        <Choice
          label="Level and spread from"
          options={[
            { value: 'robust', label: 'medians' },
            { value: 'plain', label: 'plain means' },
          ]}
          value={rules.level ?? 'robust'}
          onChange={(level) => onChange({ ...rules, level })}
        />
        {rules.level === 'plain' && (
          <span className="text-[13px] text-second">
            One wild value inflates plain means and standard deviations, and then hides behind them.
          </span>
        )}
      </div>
    </fieldset>
  );
}
