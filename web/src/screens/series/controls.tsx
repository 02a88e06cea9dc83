/** The controls of one try: form, constants, start. Every change is a new text of the method. */
import { fixed } from '../../ui/format';
import { halfLife, reach } from './explain';
import { type Controls, controlsOf, FAMILIES, rangeOf, textOf, type Weight, weightsOf } from './form';

const WEIGHTS: Record<Weight, string> = {
  alpha: 'level weight α',
  beta: 'trend weight β',
  gamma: 'season weight γ',
  phi: 'damping φ',
};

function Pick<T extends string>({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: T;
  options: readonly { value: T; label: string }[];
  onChange: (value: T) => void;
}) {
  return (
    <label className="block">
      <span className="text-second">{label}</span>
      <select
        aria-label={label}
        className="select select-sm w-full"
        value={value}
        onChange={(event) => onChange(event.target.value as T)}
      >
        {options.map((option) => (
          <option key={option.value} value={option.value}>
            {option.label}
          </option>
        ))}
      </select>
    </label>
  );
}

export function TryControls({
  text,
  estimates,
  noun,
  seasonal,
  onChange,
}: {
  text: string;
  /** What was estimated for this try, where weights are not given. */
  estimates: Partial<Record<string, number>>;
  noun: string;
  seasonal: boolean;
  onChange: (text: string) => void;
}) {
  const c = controlsOf(text);
  const set = (change: Partial<Controls>) => onChange(textOf({ ...c, ...change }));
  const smoothing = c.family === 'ets';
  return (
    <div className="space-y-2.5 text-[13px]">
      <Pick
        label="Method"
        value={c.family}
        options={FAMILIES}
        onChange={(family) =>
          set({ family, text: family === 'written' ? text : '', outside: '', pooled: '' })
        }
      />
      {smoothing && (
        <>
          <Pick
            label="Errors"
            value={c.error}
            options={[
              { value: 'A', label: 'A, of one size' },
              { value: 'M', label: 'M, in proportion' },
            ]}
            onChange={(error) => set({ error })}
          />
          <Pick
            label="Trend"
            value={c.trend}
            options={[
              { value: 'N', label: 'N, none' },
              { value: 'A', label: 'A, goes on' },
              { value: 'Ad', label: 'Ad, dies away' },
            ]}
            onChange={(trend) => set({ trend })}
          />
          {seasonal && (
            <Pick
              label="Season"
              value={c.season}
              options={[
                { value: 'N', label: 'N, none' },
                { value: 'A', label: 'A, added' },
                { value: 'M', label: 'M, multiplies' },
              ]}
              onChange={(season) =>
                set({
                  season,
                  outside: '',
                  ...(c.start === 'season' ? { start: 'estimated' as const, tune: '' as const } : {}),
                })
              }
            />
          )}
        </>
      )}
      {(smoothing || c.family === 'best') && c.season === 'N' && c.error === 'A' && (
        <Pick
          label="Yearly season beside it"
          value={c.outside}
          options={[
            { value: '', label: 'none' },
            { value: 'harmonics(best)', label: 'harmonics, number by AICc' },
            { value: 'harmonics(2)', label: '2 harmonics' },
            { value: 'harmonics(3)', label: '3 harmonics' },
            { value: 'shared-season', label: 'shared with its group' },
          ]}
          onChange={(outside) =>
            set({ outside, start: outside ? 'estimated' : c.start, tune: outside ? '' : c.tune })
          }
        />
      )}
      {c.pooled && (
        <label className="flex items-start justify-between gap-2">
          <span>
            Effects of drivers, shared by its group <span className="text-second">{c.pooled}</span>
          </span>
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked
            onChange={() => set({ pooled: '' })}
          />
        </label>
      )}
      {smoothing &&
        weightsOf(c).map((name) => (
          <Slider key={name} name={name} controls={c} estimate={estimates[name]} noun={noun} set={set} />
        ))}
      {smoothing && c.outside === '' && (
        <>
          <Pick
            label="Start"
            value={c.start}
            options={[
              { value: 'estimated', label: 'estimated' },
              { value: 'first', label: 'from the first value' },
              ...(c.season === 'N' ? [] : [{ value: 'season' as const, label: 'from the first season' }]),
              { value: 'level', label: 'a given level' },
            ]}
            onChange={(start) =>
              set({
                start,
                level: Number((estimates.level ?? c.level).toPrecision(4)),
                tune: start === 'level' ? '' : c.tune,
              })
            }
          />
          {c.start === 'level' && (
            <label className="block">
              <span className="text-second">Starting level</span>
              <input
                type="number"
                className="input input-sm w-full"
                value={c.level}
                onChange={(event) => set({ level: Number(event.target.value) })}
              />
            </label>
          )}
          {(c.start === 'first' || c.start === 'season') && (
            <Pick
              label="Constants not given"
              value={c.tune}
              options={[
                { value: '', label: 'likeliest' },
                { value: 'MSE', label: 'least MSE' },
                { value: 'MAE', label: 'least MAE' },
                { value: 'MAPE', label: 'least MAPE' },
              ]}
              onChange={(tune) => set({ tune })}
            />
          )}
        </>
      )}
      {c.family === 'moving-average' && (
        <label className="block">
          <span className="text-second">Window, {noun}s (empty: chosen by error)</span>
          <input
            type="number"
            min={1}
            className="input input-sm w-full"
            value={c.window ?? ''}
            onChange={(event) =>
              set({ window: event.target.value ? Math.max(1, Number(event.target.value)) : null })
            }
          />
        </label>
      )}
      {c.family === 'trend' && (
        <>
          <Pick
            label="Line"
            value={c.shape}
            options={[
              { value: 'linear', label: 'straight' },
              { value: 'quadratic', label: 'parabola' },
              { value: 'exponential', label: 'constant rate' },
            ]}
            onChange={(shape) => set({ shape })}
          />
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={c.indices}
              onChange={(event) => set({ indices: event.target.checked })}
            />
            times seasonal indices
          </label>
        </>
      )}
      <label className="block">
        <span className="text-second">In notation</span>
        <input
          key={text}
          className="input input-sm w-full"
          defaultValue={text}
          aria-label="Method in notation"
          onBlur={(event) => event.target.value !== text && onChange(event.target.value)}
          onKeyDown={(event) => event.key === 'Enter' && onChange(event.currentTarget.value)}
        />
      </label>
    </div>
  );
}

function Slider({
  name,
  controls,
  estimate,
  noun,
  set,
}: {
  name: Weight;
  controls: Controls;
  estimate: number | undefined;
  noun: string;
  set: (change: Partial<Controls>) => void;
}) {
  const given = controls.weights[name];
  const [low, high] = rangeOf(name, controls);
  const value = given ?? estimate ?? (low + high) / 2;
  const give = (to: number | undefined) => {
    const weights = { ...controls.weights };
    if (to === undefined) delete weights[name];
    else weights[name] = Number(Math.min(high, Math.max(low, to)).toFixed(3));
    // what alpha leaves open to the others moves with it
    if (name === 'alpha' && to !== undefined) {
      if (weights.beta !== undefined) weights.beta = Number(Math.min(weights.beta, to).toFixed(3));
      if (weights.gamma !== undefined) weights.gamma = Number(Math.min(weights.gamma, 1 - to).toFixed(3));
    }
    set({ weights });
  };
  return (
    <div>
      <div className="flex justify-between gap-2">
        <label htmlFor={`try-${name}`}>{WEIGHTS[name]}</label>
        <label className="flex items-center gap-1 text-second">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={given === undefined}
            onChange={(event) => give(event.target.checked ? undefined : value)}
          />
          estimate
        </label>
      </div>
      <div className="flex items-center gap-2">
        <input
          id={`try-${name}`}
          type="range"
          className="range range-xs range-accent flex-1"
          min={low}
          max={high}
          step={0.001}
          value={value}
          onChange={(event) => give(Number(event.target.value))}
        />
        <input
          type="number"
          aria-label={`${WEIGHTS[name]}, number`}
          className="input input-xs w-[62px] text-right"
          min={low}
          max={high}
          step={0.01}
          value={Number(value.toFixed(3))}
          onChange={(event) => give(Number(event.target.value))}
        />
      </div>
      <p className="text-xs text-second">{meaning(name, value, noun)}</p>
    </div>
  );
}

function meaning(name: Weight, value: number, noun: string): string {
  if (name === 'phi') return `half of the slope is gone after ${halfLife(value)} ${noun}s`;
  if (name === 'alpha') return reach(value, noun, 'the level stays');
  if (value < 0.002) return { beta: 'the trend stays', gamma: 'the season stays' }[name];
  return `${fixed(100 * value, 1)} % of each error`;
}
