/** What the learner goes by: which sort of knowledge it needs, and what it expects of a driver set otherwise. */
import type { Schema } from '../../api/client';
import { fixed, signed } from '../../ui/format';
import { TableOut } from '../../ui/table-out';

type Drives = NonNullable<Schema['Report']['drives']>;
type Effect = Schema['LearnedEffect'];

const WIDE = 240;
const HALF = 90;

export function Learner({ drives }: { drives: Drives }) {
  return (
    <>
      <Groups drives={drives} />
      {drives.effects.length > 0 && (
        <section aria-labelledby="effects">
          <h2 id="effects" className="mb-1 font-semibold">
            What a driver does{' '}
            <span className="font-normal text-second">
              how much more the learner expects of the same series and weeks, all else as it was
            </span>
          </h2>
          <div className="flex flex-wrap items-start gap-x-10 gap-y-5">
            {drives.effects.map((effect) => (
              <EffectTable key={effect.driver} effect={effect} />
            ))}
          </div>
        </section>
      )}
      <p className="max-w-[90ch] text-second">
        Asked of series that it did not learn from. What goes together in the past, such as a low price and a
        promotion, it cannot quite tell apart.
      </p>
    </>
  );
}

function Groups({ drives }: { drives: Drives }) {
  const most = Math.max(1, ...drives.groups.map((one) => one.worse));
  return (
    <section aria-labelledby="drives">
      <div className="mb-1 flex max-w-[760px] items-center">
        <h2 id="drives" className="mr-auto font-semibold">
          What the learner goes by{' '}
          <span className="font-normal text-second">how much its error grows without it</span>
        </h2>
        <TableOut
          name="what the learner goes by"
          head={['Knowledge', 'Error grows by, %']}
          rows={() => drives.groups.map((one) => [one.name, one.worse])}
        />
      </div>
      <table className="sheet w-auto!">
        <thead>
          <tr>
            <th>Without knowing</th>
            <th className="num">Error</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {drives.groups.map((one) => (
            <tr key={one.name}>
              <td>{one.name}</td>
              <td className="num">{signed(one.worse, 1)} %</td>
              <td style={{ width: WIDE + 20 }} aria-hidden="true">
                <div className="h-3 bg-secondary" style={{ width: Math.max(0, (WIDE * one.worse) / most) }} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** What a driver was set to, as it is read. */
export function setTo(effect: Effect, at: number): string {
  if (!effect.relative) return fixed(at, Number.isInteger(at) ? 0 : 2);
  return at === 0 ? 'as usual' : `${fixed(Math.abs(at), 0)} % ${at < 0 ? 'lower' : 'higher'}`;
}

function EffectTable({ effect }: { effect: Effect }) {
  const most = Math.max(1, ...effect.points.map((point) => Math.abs(point.change)));
  return (
    <table className="sheet w-auto!">
      <thead>
        <tr>
          <th>{effect.driver}</th>
          <th className="num">Expected</th>
          <td />
        </tr>
      </thead>
      <tbody>
        {effect.points.map((point) => {
          const long = (HALF * Math.abs(point.change)) / most;
          return (
            <tr key={point.at}>
              <td className="whitespace-nowrap">{setTo(effect, point.at)}</td>
              <td className="num whitespace-nowrap">{signed(point.change, 1)} %</td>
              <td style={{ width: 2 * HALF + 20 }} aria-hidden="true">
                <div
                  className="h-3 bg-secondary"
                  style={{ width: long, marginLeft: point.change < 0 ? HALF - long : HALF }}
                />
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
