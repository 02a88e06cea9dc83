/** Which nodes reconciliation moved most, and whose evidence pulled them. */
import { Link } from 'react-router';
import type { Schema } from '../../api/client';
import { fixed, signed } from '../../ui/format';
import { TableOut } from '../../ui/table-out';

export function MovedNodes({
  moved,
  study,
  portfolio,
  leads,
}: {
  moved: Schema['MovedNode'][];
  study: number;
  portfolio: number;
  leads: number;
}) {
  if (moved.length === 0) return null;
  const to = (node: string) => `/p/${portfolio}/s/${study}/series/${node}`;
  return (
    <section aria-label="Moved most">
      <div className="mb-1 flex max-w-[1160px] items-center">
        <h2 className="mr-auto font-semibold">
          Moved most{' '}
          <span className="font-normal text-second">
            by reconciliation, over all {leads} leads, in the usual error of each node
          </span>
        </h2>
        <TableOut
          name="Moved most"
          head={['Node', 'Level', 'Before', 'After', 'Usual errors', 'Its series say', 'Pulled by']}
          rows={() =>
            moved.map((one) => [
              one.name,
              one.level,
              one.base,
              one.reconciled,
              one.moved_errors,
              one.of_series,
              one.pulls.map((pull) => `${pull.name} ${pull.amount}`).join('; '),
            ])
          }
        />
      </div>
      <table className="sheet max-w-[1160px]">
        <thead>
          <tr>
            <th>Node</th>
            <th>Level</th>
            <th className="num">Before</th>
            <th className="num">After</th>
            <th className="num">Usual errors</th>
            <th className="num">Its series say</th>
            <th>Pulled by</th>
          </tr>
        </thead>
        <tbody>
          {moved.slice(0, 15).map((one) => (
            <tr key={one.node}>
              <td>
                <Link className="link" to={to(one.node)}>
                  {one.name}
                </Link>
              </td>
              <td className="text-second">{one.level}</td>
              <td className="num">{fixed(one.base, 1)}</td>
              <td className="num">{fixed(one.reconciled, 1)}</td>
              <td className="num font-semibold">{signed(one.moved_errors, 1)}</td>
              <td className="num">{one.of_series === 0 ? '' : signed(one.of_series, 1)}</td>
              <td>
                {one.pulls.map((pull, i) => (
                  <span key={pull.node}>
                    {i > 0 && ', '}
                    {pull.node === one.node ? (
                      'its own forecast'
                    ) : (
                      <Link className="link" to={to(pull.node)}>
                        {pull.name}
                      </Link>
                    )}{' '}
                    {signed(pull.amount, 1)}
                  </span>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 max-w-[110ch] text-second">
        “Its series say” is by how much the forecasts of its series, added up, differ from its own. “Pulled
        by” are the totals whose forecasts moved it most, each by as much as the recipe weighs them.
      </p>
    </section>
  );
}
