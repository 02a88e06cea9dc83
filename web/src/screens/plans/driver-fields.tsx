/** Fields of plans that bring or change a driver. */
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import type { Schema } from '../../api/client';
import type { Entries } from './entries';
import { calendars } from './queries';

/** What a field of a country offers: codes, and the country's name in the reader's language. */
export function Countries({ id }: { id: string }) {
  const known = useQuery(calendars).data ?? [];
  const names = new Intl.DisplayNames(undefined, { type: 'region' });
  return (
    <datalist id={id}>
      {known.flatMap(({ country, regions }) => {
        const name = names.of(country) ?? country;
        return [
          <option key={country} value={country} label={name} />,
          ...regions.map((region) => (
            <option key={region} value={`${country}-${region}`} label={`${name}, ${region}`} />
          )),
        ];
      })}
    </datalist>
  );
}

const CHANGES: { value: Schema['DriverChangeEnum']; label: string }[] = [
  { value: 'set', label: 'is' },
  { value: 'add', label: 'changes by' },
  { value: 'percent', label: 'changes by %' },
];

/** What a plan of a driver says, as it was typed. */
export function driverWords(plan: Schema['PlanRequest']): string {
  const how = CHANGES.find((one) => one.value === plan.change)?.label.replace(' %', '') ?? '';
  const unit = plan.change === 'percent' ? ' %' : '';
  const of = Object.values(plan.where ?? {}).join(' × ') || 'all series';
  const since = plan.first ? `${plan.first} to ` : 'until ';
  return `${plan.name} of ${of} ${how} ${plan.amount}${unit}, ${since}${plan.last}`;
}

export function DriverFields({
  load,
  names,
  entries,
  onChange,
  field,
  noDriver,
}: {
  load: Schema['Load'];
  names: string[];
  entries: Entries;
  onChange: (entries: Entries) => void;
  field: (name: string, label: string, placeholder?: string, error?: string) => ReactNode;
  noDriver: string[] | string | undefined;
}) {
  const drivers = load.driver_names.filter((name) => name !== 'stock');
  if (drivers.length === 0)
    return (
      <p className="max-w-prose text-second">
        This history has no driver: load prices or promotions beside the sales first. Dates alone are an
        event.
      </p>
    );
  return (
    <>
      <div className="flex flex-wrap items-start gap-4">
        <label className="block text-[13px]">
          <span className="block pb-1">Driver</span>
          <select
            className="select select-sm w-[150px]"
            value={entries.driver ?? drivers[0]}
            onChange={(event) => onChange({ ...entries, driver: event.target.value })}
          >
            {drivers.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
          {noDriver && (
            <span role="alert" className="block pt-1 text-error">
              {noDriver}
            </span>
          )}
        </label>
        <label className="block text-[13px]">
          <span className="block pb-1">How</span>
          <select
            className="select select-sm w-[150px]"
            value={entries.change ?? 'set'}
            onChange={(event) => onChange({ ...entries, change: event.target.value })}
          >
            {CHANGES.map(({ value, label }) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </select>
        </label>
        {field('amount', 'Amount', '1 is on, 0 is off')}
        {field('first', 'First period', 'first ahead')}
        {field('last', 'Last period')}
      </div>
      <div className="flex flex-wrap items-start gap-4">
        {names.map((name, i) => (
          <span key={name}>{field(`where ${name}`, name, 'any', i === 0 ? 'where' : 'none')}</span>
        ))}
      </div>
    </>
  );
}
