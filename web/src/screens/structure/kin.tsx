/** One node with what lies next above and next below it, to be followed through the structure. */
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import type { Schema } from '../../api/client';
import { count, fixed } from '../../ui/format';
import { Failed, Loading } from '../../ui/states';
import { kin } from './queries';

export function Kin({ study, portfolio, top }: { study: number; portfolio: number; top: string }) {
  const [search] = useSearchParams();
  const node = search.get('node') ?? top;
  const found = useQuery({ ...kin(study, node), placeholderData: keepPreviousData });
  return (
    <section aria-label="One node" id="one-node">
      <h2 className="mb-1 font-semibold">
        One node{' '}
        <span className="font-normal text-second">
          and what lies next above and below it; forecasts are over all leads
        </span>
      </h2>
      {found.isPending && <Loading what="the node" />}
      {found.isError && <Failed error={found.error} retry={() => void found.refetch()} />}
      {found.data && <Family kin={found.data} study={study} portfolio={portfolio} />}
    </section>
  );
}

function Family({ kin, study, portfolio }: { kin: Schema['Kin']; study: number; portfolio: number }) {
  const { itself, parents, children } = kin;
  return (
    <div className="max-w-[1160px] space-y-2">
      {parents.length > 0 && (
        <p>
          <span className="text-second">Above it </span>
          {parents.map((one, i) => (
            <span key={one.node}>
              {i > 0 && ', '}
              <Step node={one} />
            </span>
          ))}
        </p>
      )}
      <p className="border-base-content border-l-2 pl-3">
        <b>{itself.name}</b> <span className="text-second">{itself.level}</span>: {fixed(itself.base, 1)}{' '}
        before reconciliation, <b>{fixed(itself.forecast, 1)}</b> after.{' '}
        <Link className="link" to={`/p/${portfolio}/s/${study}/series/${itself.node}`}>
          Open it
        </Link>
      </p>
      {children.length === 0 && <p className="text-second">It is a series; nothing lies below it.</p>}
      <div className="grid items-start gap-x-10 gap-y-3 lg:grid-cols-2">
        {children.map((level) => (
          <Children key={level.level} level={level} of={itself.forecast} />
        ))}
      </div>
    </div>
  );
}

function Children({ level, of }: { level: Schema['KinChildren']; of: number }) {
  const most = level.nodes.slice(0, 20);
  return (
    <table className="sheet">
      <thead>
        <tr>
          <th>
            {count(level.n_nodes)} {level.level}
          </th>
          <th className="num">Before</th>
          <th className="num">After</th>
          <th className="num">% of it</th>
        </tr>
      </thead>
      <tbody>
        {most.map((one) => (
          <tr key={one.node}>
            <td>
              <Step node={one} />
            </td>
            <td className="num">{fixed(one.base, 1)}</td>
            <td className="num">{fixed(one.forecast, 1)}</td>
            <td className="num">{of > 0 ? fixed((100 * one.forecast) / of, 1) : ''}</td>
          </tr>
        ))}
        {level.n_nodes > most.length && (
          <tr>
            <td colSpan={4} className="text-second">
              and {count(level.n_nodes - most.length)} smaller ones
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

function Step({ node }: { node: Schema['KinNode'] }) {
  return (
    <Link className="link" to={{ search: `?node=${node.node}` }} preventScrollReset>
      {node.name}
    </Link>
  );
}
