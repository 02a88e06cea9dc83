/** All corrections ever made: what stands, what was reverted, and the volume that they moved. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useParams, useSearchParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { useReader } from '../../api/roles';
import { count, fixed, when } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { Empty, Failed, Loading, Refused } from '../../ui/states';
import { IntakeTabs } from '../intake/tabs';
import { type LedgerAsk, ledger } from './queries';
import { RULE_LABELS } from './rules';

const STATES = [
  { value: 'standing', label: 'in force' },
  { value: 'reverted', label: 'reverted' },
  { value: 'all', label: 'all' },
] as const;

export function Ledger() {
  const portfolio = Number(useParams().portfolio);
  const client = useQueryClient();
  const reader = useReader();
  const [search, setSearch] = useSearchParams();
  const [state, setState] = useState<LedgerAsk['state']>('standing');
  const [level, setLevel] = useState('');
  const [chosen, setChosen] = useState<Set<number>>(new Set());
  const key = search.get('key') ?? '';
  const ask = { state, ...(key ? { key } : {}), ...(level ? { level } : {}) };
  const found = useQuery({ ...ledger(portfolio, ask), placeholderData: keepPreviousData });
  const revert = useMutation({
    mutationFn: (ids: number[]) =>
      body(
        api.POST('/api/portfolios/{id}/corrections/revert/', {
          params: { path: { id: portfolio } },
          body: { ids },
        }),
      ),
    onSuccess: () => {
      setChosen(new Set());
      for (const name of ['ledger', 'series', 'search', 'kinds'])
        client.invalidateQueries({ queryKey: [name, portfolio] });
    },
  });
  if (found.isPending) return <Loading what="the ledger" />;
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  const data = found.data;
  const standing = data.corrections.filter((one) => one.reverted_at === null);
  return (
    <Page title="Intake › Ledger" actions={<IntakeTabs portfolio={portfolio} />}>
      <div className="space-y-5 p-[18px]">
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
          <Choice label="Corrections" options={STATES} value={state} onChange={setState} />
          <label className="flex items-center gap-2 text-[13px] text-second">
            Series
            <input
              className="input input-xs w-[160px] text-base-content"
              value={key}
              placeholder="part of a name or code"
              onChange={(event) => setSearch(event.target.value ? { key: event.target.value } : {})}
            />
          </label>
          <span className="text-second">
            {count(data.n_standing)} {data.n_standing === 1 ? 'value' : 'values'} in force,{' '}
            {count(data.n_reverted)} reverted
          </span>
          <a
            className="btn btn-sm ml-auto"
            href={`/api/portfolios/${portfolio}/corrections/file/?state=${state}&key=${encodeURIComponent(key)}`}
          >
            Download as CSV
          </a>
          <button
            type="button"
            className="btn btn-sm"
            disabled={chosen.size === 0 || revert.isPending}
            {...reader}
            onClick={() => revert.mutate([...chosen])}
          >
            Revert {chosen.size > 0 ? count(chosen.size) : ''}
          </button>
        </div>
        <Refused of={[revert]} also="Nothing was reverted." />
        {data.moved.length > 0 && <Moved data={data} onLevel={setLevel} />}
        {data.corrections.length === 0 ? (
          <Empty title="No corrections here">
            Accept a suspicious value, or mark a stock-out or closure, under Corrections.
          </Empty>
        ) : (
          <table className="sheet">
            <thead>
              <tr>
                <th>
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs"
                    aria-label="All in force"
                    disabled={standing.length === 0}
                    checked={standing.length > 0 && chosen.size === standing.length}
                    onChange={(event) =>
                      setChosen(new Set(event.target.checked ? standing.map((one) => one.id) : []))
                    }
                  />
                </th>
                <th>Series</th>
                <th>Period</th>
                <th className="num">Received</th>
                <th className="num">Corrected to</th>
                <th>Rule</th>
                <th className="num">Score</th>
                <th>Reason</th>
                <th>By</th>
              </tr>
            </thead>
            <tbody>
              {data.corrections.map((one) => (
                <tr key={one.id} className={one.reverted_at ? 'text-second' : ''}>
                  <td>
                    {one.reverted_at === null && (
                      <input
                        type="checkbox"
                        className="checkbox checkbox-xs"
                        aria-label={`Choose ${one.name}, ${one.period}`}
                        checked={chosen.has(one.id)}
                        onChange={() => {
                          const next = new Set(chosen);
                          if (!next.delete(one.id)) next.add(one.id);
                          setChosen(next);
                        }}
                      />
                    )}
                  </td>
                  <td title={one.key.join(' × ')}>{one.name}</td>
                  <td className="whitespace-nowrap">{one.period}</td>
                  <td className="num">{fixed(one.received, 0)}</td>
                  <td className="num">{one.value === null ? 'unknown' : fixed(one.value, 0)}</td>
                  <td>{RULE_LABELS[one.rule] ?? one.rule}</td>
                  <td className="num">{fixed(one.score, 1)}</td>
                  <td>{RULE_LABELS[one.reason] ?? one.reason}</td>
                  <td className="whitespace-nowrap">
                    {one.made_by}, {when(one.made_at)}
                    {one.reverted_at === null && !one.holds && (
                      <span className="block text-second">not in force: the value was revised since</span>
                    )}
                    {one.reverted_at && (
                      <span className="block">
                        reverted by {one.reverted_by}, {when(one.reverted_at)}
                      </span>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </Page>
  );
}

function Moved({ data, onLevel }: { data: Schema['Ledger']; onLevel: (level: string) => void }) {
  const total = (name: 'added' | 'removed' | 'unknown' | 'count') =>
    data.moved.reduce((sum, one) => sum + one[name], 0);
  return (
    <section aria-labelledby="moved">
      <div className="mb-1 flex items-center gap-4">
        <h2 id="moved" className="text-base font-semibold">
          Volume moved
        </h2>
        <label className="flex items-center gap-2 text-[13px] text-second">
          by
          <select
            className="select select-xs w-auto text-base-content"
            value={data.level}
            onChange={(event) => onLevel(event.target.value)}
          >
            {data.levels.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      </div>
      <table className="sheet max-w-[760px]">
        <thead>
          <tr>
            <th>{data.level}</th>
            <th className="num">Values</th>
            <th className="num">Added, units</th>
            <th className="num">Taken away, units</th>
            <th className="num">Made unknown, units</th>
          </tr>
        </thead>
        <tbody>
          {data.moved.slice(0, 8).map((one) => (
            <tr key={one.name}>
              <td>{one.name}</td>
              <td className="num">{count(one.count)}</td>
              <td className="num">{count(one.added)}</td>
              <td className="num">{count(one.removed)}</td>
              <td className="num">{count(one.unknown)}</td>
            </tr>
          ))}
          <tr className="font-semibold">
            <td>all</td>
            <td className="num">{count(total('count'))}</td>
            <td className="num">{count(total('added'))}</td>
            <td className="num">{count(total('removed'))}</td>
            <td className="num">{count(total('unknown'))}</td>
          </tr>
        </tbody>
      </table>
    </section>
  );
}
