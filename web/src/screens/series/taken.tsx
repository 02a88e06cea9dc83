/** A forecast taken apart: one picture for each part; all but the level on one axis, so that they can be compared. */
import { useMemo } from 'react';
import type { Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { oneLine } from '../../charts/over-time';
import { signed } from '../../ui/format';

const SEASONS = ['season', 'season of the year'];

/** What the parts are, as far as a reader may ask. */
export function explained(parts: Pick<Schema['Part'], 'name'>[]): string {
  const has = (start: string) => parts.some((part) => part.name.startsWith(start));
  const driven = parts.some(
    ({ name }) => !SEASONS.includes(name) && !/^(level and trend|rest|reconciliation)/.test(name),
  );
  return [
    'The parts add up to the forecast.',
    driven ? 'A driver counts from its usual value on, which belongs to the level.' : '',
    has('rest') ? 'The rest is what the mean gains when it is brought back from a transformed scale.' : '',
    has('reconciliation') ? 'Reconciliation is what the forecasts of the other levels change.' : '',
  ]
    .filter(Boolean)
    .join(' ');
}

export function Taken({ parts, periods }: { parts: Schema['Part'][]; periods: string[] }) {
  const colours = useColours();
  const pictures = useMemo(() => {
    const swings = parts.slice(1).flatMap((part) => part.values); // the level is of another size
    return parts.map((part, i) => ({
      name: part.name,
      total: part.values.reduce<number>((sum, value) => sum + (value ?? 0), 0),
      options: oneLine(
        part.name,
        part.values,
        periods,
        0,
        { ...colours, ink: colours.forecast },
        true,
        i > 0 ? swings : [],
      ),
    }));
  }, [parts, periods, colours]);
  return (
    <section aria-labelledby="parts" className="mt-5">
      <h2 id="parts" className="font-semibold">
        The forecast, taken apart
      </h2>
      <p className="mb-1 max-w-[90ch] text-[13px] text-second">{explained(parts)}</p>
      <div className="grid grid-cols-3 gap-x-4 gap-y-2">
        {pictures.map((one) => (
          <figure key={one.name}>
            <figcaption className="flex justify-between text-[13px]">
              <b>{one.name}</b>
              <span className="text-second">{signed(one.total, 0)} in all</span>
            </figcaption>
            <Chart
              options={one.options}
              label={`Part of the forecast: ${one.name}`}
              className="h-[130px] w-full"
            />
          </figure>
        ))}
      </div>
    </section>
  );
}
