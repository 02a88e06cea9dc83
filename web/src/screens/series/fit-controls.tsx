/** Steppers and fields of one ARIMA model; every change is a new text of the method. */
import { useEffect, useState } from 'react';
import { MOST, NO_ORDERS, type Orders, ordersOf, textOf } from './orders';
import { Stepper } from './stepper';

const SCALES: { value: Orders['scale']; label: string }[] = [
  { value: '', label: 'as they are' },
  { value: 'log', label: 'logarithms' },
  { value: 'boxcox(0.5)', label: 'square roots' },
  { value: 'boxcox(best)', label: 'a power from the data' },
];

export function FitControls({
  text,
  season,
  known,
  onChange,
}: {
  text: string;
  season: number;
  /** Names of drivers. */
  known: string[];
  onChange: (text: string) => void;
}) {
  const orders = ordersOf(text, season);
  const o = orders ?? NO_ORDERS;
  const set = (change: Partial<Orders>) => onChange(textOf({ ...o, ...change }, season));
  const [written, setWritten] = useState(text);
  useEffect(() => setWritten(text), [text]);
  const differenced = o.d + o.D > 0;
  return (
    <div className="space-y-2.5 text-[13px]">
      {orders ? (
        <>
          <div className="space-y-0.5">
            <Stepper label="p, past values" value={o.p} most={MOST.p} onChange={(p) => set({ p })} />
            <Stepper label="d, differences" value={o.d} most={MOST.d} onChange={(d) => set({ d })} />
            <Stepper label="q, past errors" value={o.q} most={MOST.q} onChange={(q) => set({ q })} />
          </div>
          {season > 1 && (
            <div className="space-y-0.5 border-t border-rule pt-1.5">
              <p className="text-second">Whole seasons of {season} back</p>
              <Stepper label="P, past seasons" value={o.P} most={MOST.P} onChange={(P) => set({ P })} />
              <Stepper label="D, season differences" value={o.D} most={MOST.D} onChange={(D) => set({ D })} />
              <Stepper
                label="Q, errors of past seasons"
                value={o.Q}
                most={MOST.Q}
                onChange={(Q) => set({ Q })}
              />
            </div>
          )}
          <div className="space-y-1.5 border-t border-rule pt-1.5">
            <label className="flex items-center justify-between">
              <span>{differenced ? 'Drift' : 'Mean'}</span>
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                checked={o.constant}
                onChange={(event) => set({ constant: event.target.checked })}
              />
            </label>
            {season > 1 && (
              <Stepper
                label="Harmonics of the year"
                value={o.harmonics}
                most={MOST.harmonics}
                onChange={(harmonics) => set({ harmonics })}
              />
            )}
            <label className="block">
              <span className="text-second">Values</span>
              <select
                aria-label="Scale of the values"
                className="select select-sm w-full"
                value={o.scale}
                onChange={(event) => set({ scale: event.target.value as Orders['scale'] })}
              >
                {SCALES.map((one) => (
                  <option key={one.value} value={one.value}>
                    {one.label}
                  </option>
                ))}
              </select>
            </label>
            {known.length > 0 && <DriverTicks known={known} o={o} set={set} />}
          </div>
        </>
      ) : (
        <p className="text-second">
          This text says more than the steppers can.{' '}
          <button
            type="button"
            className="cursor-pointer underline"
            onClick={() => onChange(textOf(NO_ORDERS, season))}
          >
            Start from arima(1,0,1)
          </button>
        </p>
      )}
      <form
        className="border-t border-rule pt-2"
        onSubmit={(event) => {
          event.preventDefault();
          onChange(written.trim());
        }}
      >
        <label className="block">
          <span className="text-second">As text</span>
          <textarea
            aria-label="Method as text"
            className="textarea textarea-sm w-full"
            rows={2}
            value={written}
            onChange={(event) => setWritten(event.target.value)}
            onBlur={() => onChange(written.trim())}
          />
        </label>
      </form>
    </div>
  );
}

/** One tick for each driver; how one enters, as its logarithm or with the periods around, is kept as written. */
function DriverTicks({
  known,
  o,
  set,
}: {
  known: string[];
  o: Orders;
  set: (change: Partial<Orders>) => void;
}) {
  const entries = o.drivers
    .split(',')
    .map((entry) => entry.trim())
    .filter(Boolean);
  const nameOf = (entry: string) => entry.replace(/^log /, '').replace(/ -?\d+\.\.-?\d+$/, '');
  return (
    <fieldset>
      <legend className="text-second">Drivers</legend>
      {known.map((name) => (
        <label key={name} className="flex items-center justify-between">
          <span>{name}</span>
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={entries.some((entry) => nameOf(entry) === name)}
            onChange={(event) =>
              set({
                drivers: (event.target.checked
                  ? [...entries, name]
                  : entries.filter((entry) => nameOf(entry) !== name)
                ).join(', '),
              })
            }
          />
        </label>
      ))}
    </fieldset>
  );
}
