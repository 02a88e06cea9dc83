/** One control for each kind of field that a method has. */
import type { Schema } from '../../api/client';
import { fixed } from '../../ui/format';
import { halfLife, reach } from './explain';

type Field = Schema['Field'];
export type Value = string | number | boolean | null;
interface Of {
  field: Field;
  value: unknown;
  onChange: (value: Value) => void;
}

export function ChoiceField({ field, value, onChange }: Of) {
  return (
    <label className="block">
      <span className="text-second">{field.label}</span>
      <select
        aria-label={field.label}
        className="select select-sm w-full"
        value={String(value)}
        onChange={(event) => onChange(event.target.value)}
      >
        {field.options.map((option) => (
          <option key={option.value} value={option.value}>
            {option.label}
          </option>
        ))}
      </select>
    </label>
  );
}

export function FlagField({ field, value, onChange }: Of) {
  return (
    <label className="flex items-center justify-between gap-2">
      <span>{field.label}</span>
      <input
        type="checkbox"
        className="checkbox checkbox-sm"
        checked={value === true}
        onChange={(event) => onChange(event.target.checked)}
      />
    </label>
  );
}

/** One tick for each option; the value is those that are ticked, joined by commas. */
export function NamesField({ field, value, onChange }: Of) {
  const chosen = String(value).split(', ').filter(Boolean);
  return (
    <fieldset>
      <legend className="text-second">{field.label}</legend>
      {field.options.map((option) => (
        <label key={option.value} className="flex items-center justify-between">
          <span>{option.label}</span>
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={chosen.includes(option.value)}
            onChange={(event) =>
              onChange(
                (event.target.checked
                  ? [...chosen, option.value]
                  : chosen.filter((one) => one !== option.value)
                ).join(', '),
              )
            }
          />
        </label>
      ))}
    </fieldset>
  );
}

export function NumberField({ field, value, onChange }: Of) {
  return (
    <label className="block">
      <span className="text-second">{field.label}</span>
      <input
        type="number"
        min={field.least}
        className="input input-sm w-full"
        value={value === null ? '' : Number(value)}
        onChange={(event) => {
          const to = event.target.value;
          onChange(to === '' ? null : Math.max(field.least, Number(to)));
        }}
      />
    </label>
  );
}

export function ShareField({
  field,
  value,
  estimate,
  family,
  noun,
  onChange,
}: Of & { estimate: number | undefined; family: string; noun: string }) {
  const { name, label, least, most } = field;
  const given = typeof value === 'number' ? value : null;
  const now = given ?? estimate ?? (least + most) / 2;
  const give = (to: number) => onChange(Number(Math.min(most, Math.max(least, to)).toFixed(3)));
  return (
    <div>
      <div className="flex justify-between gap-2">
        <label htmlFor={`field-${name}`}>{label}</label>
        <label className="flex items-center gap-1 text-second">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={given === null}
            onChange={(event) => (event.target.checked ? onChange(null) : give(now))}
          />
          estimate
        </label>
      </div>
      <div className="flex items-center gap-2">
        <input
          id={`field-${name}`}
          type="range"
          className="range range-xs range-accent flex-1"
          min={least}
          max={most}
          step={0.001}
          value={now}
          onChange={(event) => give(Number(event.target.value))}
        />
        <input
          type="number"
          aria-label={`${label}, number`}
          className="input input-xs w-[62px] text-right"
          min={least}
          max={most}
          step={0.01}
          value={Number(now.toFixed(3))}
          onChange={(event) => give(Number(event.target.value))}
        />
      </div>
      <p className="text-xs text-second">{meaning(family, name, now, noun)}</p>
    </div>
  );
}

/** What a weight means; those of slow movers move at sales. */
function meaning(family: string, name: string, value: number, noun: string): string {
  if (family !== 'ets') return reach(value, name === 'beta' && family === 'tsb' ? noun : 'sale', 'it stays');
  if (name === 'phi') return `half of the slope is gone after ${halfLife(value)} ${noun}s`;
  if (name === 'alpha') return reach(value, noun, 'the level stays');
  if (value < 0.002) return name === 'beta' ? 'the trend stays' : 'the season stays';
  return `${fixed(100 * value, 1)} % of each error`;
}
