/** Workings: every period's arithmetic, each cell opening its formula with the numbers in it. */
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import type { Schema } from '../../api/client';
import { fixed } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { fittedMethod } from './fitted';
import { workings as workingsQuery } from './queries';

type Found = Schema['Workings'];

export function WorkingsPage({
  study,
  node,
  title,
  actions,
}: {
  study: number;
  node: Schema['Node'];
  title: React.ReactNode;
  actions: React.ReactNode;
}) {
  const [method, setMethod] = useState(fittedMethod(node) ?? 'mean');
  const found = useQuery(workingsQuery(study, node.node, method));
  const methods = [...new Set([method, ...node.parts, ...node.scores.map((one) => one.method)])];
  return (
    <Page title={title} actions={actions}>
      <div className="flex h-full min-h-0 flex-col p-[18px]">
        <div className="mb-2 flex flex-wrap items-center gap-3">
          <label className="flex items-center gap-2 text-[13px]">
            <span className="text-second">Method</span>
            <select
              className="select select-sm w-[430px]"
              value={method}
              onChange={(event) => setMethod(event.target.value)}
            >
              {methods.map((text) => (
                <option key={text}>{text}</option>
              ))}
            </select>
          </label>
          <label className="flex items-center gap-2 text-[13px]">
            <span className="text-second">or written</span>
            <input
              className="input input-sm w-[210px]"
              placeholder="ets(A,A,N; start=first, alpha=0.3)"
              onKeyDown={(event) => {
                if (event.key === 'Enter' && event.currentTarget.value) setMethod(event.currentTarget.value);
              }}
            />
          </label>
          {found.data && <Files study={study} node={node.node} method={method} found={found.data} />}
        </div>
        {node.parts.length > 0 && (
          <p className="mb-2 text-[13px] text-second">
            {method === node.method
              ? 'What its parts say of a period, and how that is put together; each part has workings of its own under Method.'
              : `The method of this series is the ${node.brief}${node.parts.includes(method) ? '; this is one of its parts.' : '.'}`}
          </p>
        )}
        {found.isPending && <Loading what="the workings" />}
        {found.isError && <Failed error={found.error} retry={() => void found.refetch()} />}
        {found.data && <Grid found={found.data} />}
      </div>
    </Page>
  );
}

function Files({
  study,
  node,
  method,
  found,
}: {
  study: number;
  node: string;
  method: string;
  found: Found;
}) {
  const address = (form: string) =>
    `/api/studies/${study}/nodes/${node}/workings.${form}?method=${encodeURIComponent(method)}`;
  return (
    <span className="ml-auto flex gap-2">
      <TableOut
        name="Workings"
        head={['Period', ...found.columns.map((one) => one.title)]}
        rows={() => found.rows.map((row, t) => [found.labels[t], ...row.map((cell) => cell.value)])}
        csv={address('csv')}
      />
      <a className="btn btn-sm btn-ghost" href={address('xlsx')} download>
        XLSX with formulas
      </a>
    </span>
  );
}

const PAST = 6;

function Grid({ found }: { found: Found }) {
  const [at, setAt] = useState<[number, number] | null>(null);
  const box = useRef<HTMLDivElement>(null);
  const cell = at ? found.rows[at[0]]?.[at[1]] : undefined;
  const column = at ? found.columns[at[1]] : undefined;
  useEffect(() => {
    if (at) box.current?.querySelector<HTMLElement>(`[data-at="${at[0]}-${at[1]}"]`)?.focus();
  }, [at]);
  const end = found.rows.length - found.n_ahead;
  useEffect(() => {
    // leads are what is looked for where there are some; a few periods of the past stay in sight above them
    if (end < found.rows.length)
      box.current
        ?.querySelector(`[data-at="${Math.max(0, end - PAST)}-0"]`)
        ?.scrollIntoView({ block: 'start' });
  }, [end, found.rows.length]);
  const move = (row: number, col: number) => {
    const r = Math.max(0, Math.min(found.rows.length - 1, row));
    setAt([r, Math.max(0, Math.min(found.columns.length - 1, col))]);
  };
  const largest = Math.max(...found.rows.flat().map((one) => Math.abs(one.value ?? 0)));
  const digits = largest < 1000 ? 3 : 1;
  return (
    <>
      <p className="mb-1 text-[13px]">
        <b>{found.model}</b>
        {found.parameters.map((one) => (
          <span key={one.name} className="ml-3 text-second">
            {one.name} {fixed(one.value, 4)}
          </span>
        ))}
        {found.equation && <span className="ml-3">fitted = {found.equation}</span>}
      </p>
      <output aria-live="polite" className="mb-2 block min-h-[44px] border-y border-rule py-1.5 text-[13px]">
        {!cell && (
          <span className="text-second">
            Pick a cell to see its formula with the numbers in it; arrow keys move from cell to cell.
          </span>
        )}
        {cell && at && (
          <>
            <b>
              {column?.title}, {found.labels[at[0]]}
            </b>{' '}
            <span className="text-second">({column?.means})</span>
            <br />
            {cell.value === null
              ? `empty: ${cell.why || 'no value'}`
              : cell.formula
                ? `${cell.formula} = ${fixed(cell.value, 6)}`
                : `${fixed(cell.value, 6)}, given`}
          </>
        )}
      </output>
      <div ref={box} className="min-h-0 flex-1 overflow-auto">
        <table className="sheet w-full">
          <thead className="sticky top-0 z-10 bg-base-100">
            <tr>
              <th>Period</th>
              {found.columns.map((one) => (
                <th
                  key={one.name}
                  className="num max-w-[210px] whitespace-normal! align-bottom"
                  title={one.means}
                >
                  {one.title}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {found.rows.map((row, r) => (
              <tr key={`${found.labels[r]}-${r < found.n_start ? r : ''}`}>
                <td className={`whitespace-nowrap ${r < found.n_start || r >= end ? 'text-second' : ''}`}>
                  {found.labels[r]}
                </td>
                {row.map((one, c) => (
                  <td key={found.columns[c]?.name} className="num p-0">
                    <button
                      type="button"
                      data-at={`${r}-${c}`}
                      tabIndex={(at ? at[0] === r && at[1] === c : r === found.n_start && c === 0) ? 0 : -1}
                      aria-pressed={at?.[0] === r && at[1] === c}
                      className={`w-full cursor-pointer px-1.5 text-right ${
                        at?.[0] === r && at[1] === c ? 'bg-raised font-semibold' : ''
                      }`}
                      title={one.why || undefined}
                      aria-label={one.value === null ? `empty${one.why && `: ${one.why}`}` : undefined}
                      onClick={() => setAt([r, c])}
                      onKeyDown={(event) => {
                        const by = {
                          ArrowUp: [-1, 0],
                          ArrowDown: [1, 0],
                          ArrowLeft: [0, -1],
                          ArrowRight: [0, 1],
                        }[event.key];
                        if (!by) return;
                        event.preventDefault();
                        move(r + (by[0] ?? 0), c + (by[1] ?? 0));
                      }}
                    >
                      {one.value === null ? (
                        <span className="text-second">{one.why ? '·' : ' '}</span>
                      ) : (
                        fixed(one.value, found.columns[c]?.name === 'factor' ? 3 : digits)
                      )}
                    </button>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
          {Object.keys(found.sums).length > 0 && (
            <tfoot className="sticky bottom-0 bg-base-100">
              <tr>
                <th scope="row">sum</th>
                {found.columns.map((one) => (
                  <td key={one.name} className="num px-1.5 font-semibold">
                    {one.name in found.sums ? fixed(found.sums[one.name], digits) : ''}
                  </td>
                ))}
              </tr>
            </tfoot>
          )}
        </table>
      </div>
    </>
  );
}
