/** Errors by origin and lead: where a method went wrong, and a way to look at it. */
import type { Schema } from '../../api/client';
import { signed } from '../../ui/format';
import { TableOut } from '../../ui/table-out';

type Node = Schema['Node'];

/** Digits that the usual error has. */
const digitsOf = (usual: number | null) => (usual === null || usual >= 10 ? 0 : usual >= 1 ? 1 : 2);

export function ErrorMap({
  node,
  chosen,
  onOrigin,
}: {
  node: Node;
  chosen: number | null;
  onOrigin: (index: number) => void;
}) {
  const usual = node.usual_error;
  if (usual === null) return null;
  const digits = digitsOf(usual);
  const leads = node.forecast.map((_, lead) => lead + 1);
  return (
    <section aria-labelledby="error-map" className="mt-5">
      <div className="mb-1 flex items-center">
        <h2 id="error-map" className="mr-auto font-semibold">
          Errors by origin and lead{' '}
          <span className="font-normal text-second">
            what came less the forecast; ○ outside the widest band; a row shows its origin above
          </span>
        </h2>
        <TableOut
          name="Errors by origin and lead"
          head={['Origin', ...leads.map(String)]}
          rows={() => node.origins.map((one) => [one.period, ...one.missed])}
        />
      </div>
      <div className="overflow-x-auto">
        <table className="sheet">
          <thead>
            <tr>
              <th>Origin</th>
              {leads.map((lead) => (
                <th key={lead} className="num">
                  {lead}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {node.origins.map((one, o) => (
              <tr key={one.period} aria-selected={o === chosen}>
                <td className={o === chosen ? 'font-semibold' : ''}>
                  <button
                    type="button"
                    className="cursor-pointer hover:underline"
                    aria-pressed={o === chosen}
                    onClick={() => onOrigin(o)}
                  >
                    {one.period}
                  </button>
                </td>
                {one.missed.map((error, lead) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: a lead is its place
                  <td key={lead} className="num p-0!" style={tint(error, usual)}>
                    {error === null ? (
                      ''
                    ) : (
                      <button
                        type="button"
                        tabIndex={-1}
                        className="w-full cursor-pointer px-1.5 py-1 text-right"
                        onClick={() => onOrigin(o)}
                      >
                        {one.held[lead] === 0 && <span title="outside the widest band">○ </span>}
                        {signed(error, digits)}
                      </button>
                    )}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** The larger the error beside the usual one, the deeper; three times as much is the deepest. */
function tint(error: number | null, usual: number) {
  if (error === null || usual === 0) return undefined;
  const share = Math.min(Math.abs(error) / usual, 3) / 3;
  return {
    backgroundColor: `color-mix(in oklab, var(--color-secondary) ${Math.round(30 * share)}%, transparent)`,
  };
}
