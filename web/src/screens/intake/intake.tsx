/** Handing in a file, and what has been loaded so far. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { portfolios, studies } from '../../api/queries';
import { covers, useReader, useRole } from '../../api/roles';
import { count, periods, signed, when } from '../../ui/format';
import { useHere } from '../../ui/here';
import { Choice, Page } from '../../ui/page';
import { Failed, Loading, Refused } from '../../ui/states';
import { Brought } from './brought';
import { Findings } from './findings';
import { loads } from './queries';
import { IntakeTabs } from './tabs';
import { upload } from './upload';

export function Intake() {
  const all = useQuery(portfolios);
  const { portfolio } = useHere();
  const current = all.data?.find((one) => one.id === portfolio);
  return (
    <Page title="Intake" actions={current && <IntakeTabs portfolio={current.id} />}>
      <div className="max-w-[1060px] p-[18px]">
        <HandIn first={all.data?.length === 0} current={current} />
        {all.isPending && <Loading what="portfolios" />}
        {all.isError && <Failed error={all.error} retry={() => void all.refetch()} />}
        {current && <Loaded portfolio={current} />}
      </div>
    </Page>
  );
}

type Way = 'file' | 'paste';

/** Letters of pasted cells that are shown; all of them are read. */
const MOST_SHOWN = 4000;

function HandIn({ first, current }: { first: boolean; current: Schema['Portfolio'] | undefined }) {
  const navigate = useNavigate();
  const [way, setWay] = useState<Way>('file');
  const [sales, setSales] = useState<File>();
  const [beside, setBeside] = useState<File[]>([]);
  const [cells, setCells] = useState('');
  const file = way === 'file' ? sales : pasted(cells);
  const reader = useReader();
  const handIn = useMutation({
    mutationFn: (to: 'new' | 'append') => {
      if (!file) throw new Error('Choose a file of sales first.');
      return upload(file, beside).then((made) => ({ made, to }));
    },
    onSuccess: ({ made, to }) =>
      navigate(to === 'append' && current ? `/p/${current.id}/append/${made.id}` : `/intake/${made.id}`),
  });
  return (
    <section aria-labelledby="hand-in" className="mb-8">
      <div className="mb-1 flex items-center gap-6">
        <h2 id="hand-in" className="text-base font-semibold">
          {first ? 'Bring in your sales to begin' : 'Bring in another file'}
        </h2>
        <Choice
          label="From"
          options={[
            { value: 'file', label: 'a file' },
            { value: 'paste', label: 'cells of a spreadsheet' },
          ]}
          value={way}
          onChange={setWay}
        />
      </div>
      <p className="mb-3 max-w-prose text-second">
        A row per product, store and period, or a row per series and a column per period; with a header row.
        Nothing is loaded before you have seen what was understood.
      </p>
      <div className="flex flex-wrap items-end gap-4">
        {way === 'file' ? (
          <label>
            <span className="block pb-1">
              Sales <span className="text-second">(CSV, XLSX or Parquet)</span>
            </span>
            <input
              type="file"
              className="file-input file-input-sm"
              accept=".csv,.txt,.tsv,.xlsx,.parquet"
              onChange={(event) => setSales(event.target.files?.[0])}
            />
          </label>
        ) : (
          <label className="w-full">
            <span className="block pb-1">
              Cells, pasted with their header row
              {cells && (
                <span className="text-second">
                  {' '}
                  ({count(cells.trim().split('\n').length - 1)} rows below it)
                </span>
              )}
            </span>
            <textarea
              className="textarea h-[130px] w-full [field-sizing:fixed] font-mono text-[12px]"
              wrap="off"
              spellCheck={false}
              value={cells.length > MOST_SHOWN ? `${cells.slice(0, MOST_SHOWN)} …` : cells}
              readOnly={cells.length > MOST_SHOWN}
              onPaste={(event) => {
                // taken as a whole: an editor would lay out a hundred thousand cells one by one
                event.preventDefault();
                setCells(event.clipboardData.getData('text/plain'));
              }}
              onChange={(event) => setCells(event.target.value)}
            />
          </label>
        )}
        <label>
          <span className="block pb-1">
            Attributes, drivers and edges <span className="text-second">(optional, several files)</span>
          </span>
          <input
            type="file"
            multiple
            className="file-input file-input-sm"
            accept=".csv,.txt,.tsv,.xlsx,.parquet"
            onChange={(event) => setBeside([...(event.target.files ?? [])])}
          />
        </label>
        {current && (
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={!file || handIn.isPending}
            {...reader}
            onClick={() => handIn.mutate('append')}
          >
            {handIn.isPending ? 'Reading …' : `Add to ${current.name}`}
          </button>
        )}
        <button
          type="button"
          className={`btn btn-sm ${current ? '' : 'btn-primary'}`}
          disabled={!file || handIn.isPending}
          onClick={() => handIn.mutate('new')}
        >
          {handIn.isPending ? 'Reading …' : current ? 'Make a new portfolio' : 'Look at it'}
        </button>
      </div>
      <Refused of={[handIn]} className="mt-3" />
    </section>
  );
}

/** Pasted cells as a file, nothing where there are none. */
export function pasted(cells: string): File | undefined {
  return cells.trim()
    ? new File([cells], 'pasted-cells.tsv', { type: 'text/tab-separated-values' })
    : undefined;
}

function Loaded({ portfolio }: { portfolio: Schema['Portfolio'] }) {
  const { load } = portfolio;
  const role = useRole();
  const all = useQuery(loads(portfolio.id));
  return (
    <section aria-labelledby="loaded">
      <h2 id="loaded" className="mb-2 text-base font-semibold">
        {portfolio.name}
      </h2>
      <p className="mb-3">
        {count(load.n_series)} series of {count(load.n_periods)} {periods(load.frequency, load.n_periods)},{' '}
        {load.first} to {load.last}; {count(load.total)} units in all.
        {load.driver_names.length > 0 && (
          <span className="block text-second">
            Drivers: {load.driver_names.join(', ')}, known {count(load.n_ahead)}{' '}
            {periods(load.frequency, load.n_ahead)} ahead.
          </span>
        )}
        {role && covers(role, 'keeper') && (
          <span className="block text-second">
            <a className="link" href={`/api/portfolios/${portfolio.id}/archive/`} download>
              All of it as one archive
            </a>{' '}
            (ZIP of Parquet, TOML and JSON; whoever runs a server takes it in there).
          </span>
        )}
      </p>
      {all.isError && <Failed error={all.error} />}
      {all.data && <Loads portfolio={portfolio} all={all.data} />}
      <h3 className="mt-6 mb-1 font-semibold">Findings of the newest load</h3>
      <Findings findings={load.findings} />
    </section>
  );
}

function Loads({ portfolio, all }: { portfolio: Schema['Portfolio']; all: Schema['Load'][] }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const list = useQuery(studies(portfolio.id)).data;
  const newest = list?.find((study) => study.run.state === 'done');
  const renew = () =>
    Promise.all(
      ['portfolios', 'loads', 'coverage', 'overview', 'series', 'search', 'kinds', 'ledger'].map((name) =>
        client.invalidateQueries({ queryKey: [name] }),
      ),
    );
  const reader = useReader();
  const undo = useMutation({
    mutationFn: (id: number) => api.DELETE('/api/loads/{id}/', { params: { path: { id } } }),
    onSuccess: renew,
  });
  const again = useMutation({
    mutationFn: (id: number) => body(api.POST('/api/studies/{id}/again/', { params: { path: { id } } })),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: studies(portfolio.id).queryKey });
      navigate(`/p/${portfolio.id}/study`);
    },
  });
  const latest = all[0];
  return (
    <>
      <table className="sheet">
        <thead>
          <tr>
            <th>Load</th>
            <th>By</th>
            <th className="num">Rows read</th>
            <th className="num">Left out</th>
            <th>Until</th>
            <th>Brought</th>
            <th>SHA-256</th>
            <th aria-label="Undo" />
          </tr>
        </thead>
        <tbody>
          {all.map((load, i) => (
            <tr key={load.id}>
              <td>{load.file_name}</td>
              <td className="whitespace-nowrap">
                {load.loaded_by}, {when(load.loaded_at)}
              </td>
              <td className="num">{count(load.n_rows)}</td>
              <td className="num">{count(load.n_refused)}</td>
              <td>{load.last}</td>
              <td>
                {load.appended
                  ? `${count(load.appended.n_new)} new values, ${count(load.appended.n_revised)} revised by ${signed(load.appended.revised_by, 0)}`
                  : 'all history'}
              </td>
              <td className="font-mono text-xs" title={load.sha256}>
                {load.sha256.slice(0, 8)}
              </td>
              <td>
                {i === 0 && load.appended !== null && (
                  <button
                    type="button"
                    className="btn btn-xs"
                    disabled={load.is_used || undo.isPending}
                    title={load.is_used ? 'A study has used this load, so it stays.' : ''}
                    {...reader}
                    onClick={() => undo.mutate(load.id)}
                  >
                    Undo
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Refused of={[undo, again]} className="mt-2" />
      {newest && latest && newest.last_period !== latest.last && (
        <p className="mt-3 flex items-center gap-4">
          <span>
            The newest study, {newest.name}, has seen {newest.last_period}; history goes to {latest.last}.
          </span>
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={again.isPending}
            {...reader}
            onClick={() => again.mutate(newest.id)}
          >
            Run it again from {latest.last}
          </button>
        </p>
      )}
      {latest?.appended && (
        <details className="mt-4">
          <summary className="cursor-pointer font-semibold">What the newest load brought</summary>
          <Brought appended={latest.appended} />
        </details>
      )}
    </>
  );
}
