/** All adjustments of a portfolio, what became of them in a study, and those that wait for a decision. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Fragment, useState } from 'react';
import { Link } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { useReader } from '../../api/roles';
import { count, fixed, signed, when } from '../../ui/format';
import { Failed, Refused } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { FromFile } from './from-file';
import { adjustments, forecastChanged } from './queries';

type Adjustment = Schema['Adjustment'];

/** Of what was done at once, as in a file or from another study; the others are shown when asked for. */
const SHOWN_OF_ACT = 4;

const STATES: Record<string, string> = {
  laid: 'laid over the forecast',
  left: 'left out',
  undone: 'undone',
  withdrawn: 'withdrawn',
};

export function Adjustments({ portfolio, study }: { portfolio: number; study: number }) {
  const found = useQuery(adjustments(portfolio, study));
  const client = useQueryClient();
  const reader = useReader();
  const [open, setOpen] = useState<number[]>([]);
  const decide = useMutation({
    mutationFn: async ({ id, keep, act = false }: { id: number; keep: boolean; act?: boolean }) => {
      if (keep)
        await body(api.POST('/api/adjustments/{id}/decide/', { params: { path: { id }, query: { study } } }));
      else await body(api.DELETE('/api/adjustments/{id}/', { params: { path: { id }, query: { act } } }));
    },
    onSettled: () => forecastChanged(client),
  });
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  const rows = found.data?.adjustments ?? [];
  const sizes = new Map<number, number>();
  const shown = rows.filter((one) => {
    const place = (sizes.get(one.act) ?? 0) + 1;
    sizes.set(one.act, place);
    return place <= SHOWN_OF_ACT || one.state === 'left' || open.includes(one.act);
  });
  const waiting = rows.filter((one) => one.state === 'left');
  return (
    <section aria-labelledby="adjustments">
      <div className="mb-1 flex flex-wrap items-start">
        <h2 id="adjustments" className="mr-auto text-base font-semibold">
          Adjustments
        </h2>
        <FromFile study={study} />
        {rows.length > 0 && (
          <TableOut
            name="Adjustments"
            head={['Node', 'Change', 'From', 'To', 'Before', 'After', 'Reason', 'By', 'Made', 'State', 'Why']}
            rows={() =>
              rows.map((one) => [
                one.name,
                one.words,
                one.first,
                one.last,
                one.before,
                one.after,
                one.reason,
                one.made_by,
                one.made_at,
                one.state,
                one.problem,
              ])
            }
          />
        )}
      </div>
      <Refused of={[decide]} />
      {rows.length === 0 ? (
        <p className="text-second">
          Nobody has changed what is forecast. Adjust on a series, or mark several in the Field.
        </p>
      ) : (
        <>
          {waiting.length > 0 && (
            <p className="mb-1">
              {waiting.length === 1 ? 'One is' : `${waiting.length} are`} left out of this study; say what
              becomes of {waiting.length === 1 ? 'it' : 'them'}.
            </p>
          )}
          <div className="max-h-[320px] overflow-auto">
            <table className="sheet">
              <thead className="sticky top-0 bg-base-100">
                <tr>
                  <th>Node</th>
                  <th>Change</th>
                  <th className="num">Before</th>
                  <th className="num">Change</th>
                  <th>Reason</th>
                  <th>By</th>
                  <th>State</th>
                  <th> </th>
                </tr>
              </thead>
              <tbody>
                {shown.map((one, i) => (
                  <Fragment key={one.id}>
                    <tr className={one.state === 'laid' || one.state === 'left' ? '' : 'text-second'}>
                      <td>
                        {one.node ? (
                          <Link
                            className="hover:underline"
                            to={`/p/${portfolio}/s/${study}/series/${one.node}`}
                          >
                            {one.name}
                          </Link>
                        ) : (
                          one.name
                        )}
                      </td>
                      <td>{one.words}</td>
                      <td className="num">{fixed(one.before, 0)}</td>
                      <td className="num">{changeOf(one)}</td>
                      <td>{one.reason}</td>
                      <td className="whitespace-nowrap">
                        {one.made_by}, {when(one.made_at)}
                      </td>
                      <td>
                        {STATES[one.state] ?? one.state}
                        {one.problem && <span className="block text-xs text-error">{one.problem}</span>}
                      </td>
                      <td className="whitespace-nowrap">
                        {one.state === 'left' && one.node && (
                          <button
                            type="button"
                            className="btn btn-xs btn-ghost"
                            disabled={decide.isPending}
                            {...reader}
                            onClick={() => decide.mutate({ id: one.id, keep: true })}
                          >
                            Keep
                          </button>
                        )}
                        {(one.state === 'left' || one.state === 'laid') && (
                          <button
                            type="button"
                            className="btn btn-xs btn-ghost"
                            disabled={decide.isPending}
                            {...reader}
                            onClick={() => decide.mutate({ id: one.id, keep: false })}
                          >
                            Withdraw
                          </button>
                        )}
                      </td>
                    </tr>
                    {shown[i + 1]?.act !== one.act && (sizes.get(one.act) ?? 0) > SHOWN_OF_ACT && (
                      <tr className="text-second">
                        <td colSpan={8}>
                          {count(sizes.get(one.act) ?? 0)} were made at once.{' '}
                          {!open.includes(one.act) && (
                            <button
                              type="button"
                              className="btn btn-xs btn-ghost"
                              onClick={() => setOpen([...open, one.act])}
                            >
                              Show all
                            </button>
                          )}
                          <button
                            type="button"
                            className="btn btn-xs btn-ghost"
                            disabled={decide.isPending}
                            {...reader}
                            onClick={() => decide.mutate({ id: one.id, keep: false, act: true })}
                          >
                            Withdraw all
                          </button>
                        </td>
                      </tr>
                    )}
                  </Fragment>
                ))}
              </tbody>
            </table>
          </div>
        </>
      )}
    </section>
  );
}

const changeOf = (one: Adjustment) =>
  one.before === null || one.after === null ? '–' : signed(one.after - one.before, 0);
