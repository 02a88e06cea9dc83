/** The forecast of a try in figures: of each period, or of all up to it, which is what an order has to cover. */
import { useState } from 'react';
import type { Schema } from '../../api/client';
import { fixed } from '../../ui/format';
import { Choice } from '../../ui/page';
import { TableOut } from '../../ui/table-out';
import { NAMES } from './chips';

export function Ahead({
  one,
  index,
  periods,
  noun,
}: {
  one: Schema['Try'];
  index: number;
  /** Of the leads. */
  periods: string[];
  noun: string;
}) {
  const [together, setTogether] = useState<'each' | 'sum'>('each');
  const name = NAMES[index] ?? '';
  const mean = (together === 'sum' ? one.total_forecast : one.forecast) ?? [];
  const bands = [...((together === 'sum' ? one.totals : one.bands) ?? [])].reverse();
  const digits = Math.max(...mean.map((value) => Math.abs(value ?? 0))) < 1000 ? 1 : 0;
  const upTo = (h: number) => (together === 'sum' && h > 0 ? `${periods[0]} to ${periods[h]}` : periods[h]);
  const head = ['Period', 'Forecast', ...bands.flatMap((b) => [`${b.level} % from`, `${b.level} % to`])];
  const row = (h: number) => [mean[h], ...bands.flatMap((b) => [b.low[h], b.high[h]])];
  return (
    <section aria-labelledby="ahead" className="mt-5">
      <div className="mb-1 flex flex-wrap items-center gap-x-4 gap-y-1">
        <h2 id="ahead" className="font-semibold">
          Forecast of {name}
        </h2>
        <Choice
          label="Units of"
          options={[
            { value: 'each', label: `each ${noun}` },
            { value: 'sum', label: `all ${noun}s up to it` },
          ]}
          value={together}
          onChange={setTogether}
        />
        <span className="ml-auto flex">
          <TableOut
            name={`Forecast of ${one.model ?? one.text}`}
            head={head}
            rows={() => mean.map((_, h) => [upTo(h), ...row(h)])}
          />
        </span>
      </div>
      <table className="sheet">
        <thead>
          <tr>
            {head.map((title, i) => (
              <th key={title} className={i ? 'num' : ''}>
                {title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {mean.map((_, h) => (
            <tr key={periods[h]}>
              <td>{upTo(h)}</td>
              {row(h).map((value, i) => (
                <td key={head[i + 1]} className={`num ${i ? 'text-second' : ''}`}>
                  {fixed(value, digits)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {together === 'sum' && (
        <p className="mt-1 max-w-[80ch] text-[13px] text-second">
          What an order that has to last so long must cover. The bands are those of the sum, not the sums of
          the bands: a good {noun} makes up for a bad one, but an error of the level stays.
        </p>
      )}
    </section>
  );
}
