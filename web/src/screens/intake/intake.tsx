/** Handing in a file, and what has been loaded so far. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import type { Schema } from '../../api/client';
import { portfolios } from '../../api/queries';
import { count, periods, when } from '../../ui/format';
import { Page } from '../../ui/page';
import { useHere } from '../../ui/shell';
import { Failed, Loading } from '../../ui/states';
import { Findings } from './findings';
import { upload } from './upload';

export function Intake() {
  const all = useQuery(portfolios);
  const { portfolio } = useHere();
  const current = all.data?.find((one) => one.id === portfolio);
  return (
    <Page title="Intake">
      <div className="max-w-[980px] p-[18px]">
        <HandIn first={all.data?.length === 0} />
        {all.isPending && <Loading what="portfolios" />}
        {all.isError && <Failed error={all.error} retry={() => void all.refetch()} />}
        {current && <Loaded portfolio={current} />}
      </div>
    </Page>
  );
}

function HandIn({ first }: { first: boolean }) {
  const navigate = useNavigate();
  const [sales, setSales] = useState<File>();
  const [attributes, setAttributes] = useState<File[]>([]);
  const handIn = useMutation({
    mutationFn: () => {
      if (!sales) throw new Error('Choose a file of sales first.');
      return upload(sales, attributes);
    },
    onSuccess: (made) => navigate(`/intake/${made.id}`),
  });
  return (
    <section aria-labelledby="hand-in" className="mb-8">
      <h2 id="hand-in" className="mb-1 text-base font-semibold">
        {first ? 'Bring in your sales to begin' : 'Bring in another file'}
      </h2>
      <p className="mb-3 max-w-prose text-second">
        One row per product, store and period, as CSV, XLSX or Parquet, with a header row. Nothing is loaded
        before you have seen what was understood.
      </p>
      <div className="flex flex-wrap items-end gap-4">
        <label>
          <span className="block pb-1">Sales file</span>
          <input
            type="file"
            className="file-input file-input-sm"
            accept=".csv,.txt,.tsv,.xlsx,.parquet"
            onChange={(event) => setSales(event.target.files?.[0])}
          />
        </label>
        <label>
          <span className="block pb-1">
            Attributes of products or stores <span className="text-second">(optional, several)</span>
          </span>
          <input
            type="file"
            multiple
            className="file-input file-input-sm"
            accept=".csv,.txt,.tsv,.xlsx,.parquet"
            onChange={(event) => setAttributes([...(event.target.files ?? [])])}
          />
        </label>
        <button
          type="button"
          className="btn btn-sm btn-primary"
          disabled={!sales || handIn.isPending}
          onClick={() => handIn.mutate()}
        >
          {handIn.isPending ? 'Reading …' : 'Look at it'}
        </button>
      </div>
      {handIn.isError && (
        <p role="alert" className="mt-3 text-error">
          {handIn.error.message}
        </p>
      )}
    </section>
  );
}

function Loaded({ portfolio }: { portfolio: Schema['Portfolio'] }) {
  const { load } = portfolio;
  return (
    <section aria-labelledby="loaded">
      <h2 id="loaded" className="mb-2 text-base font-semibold">
        {portfolio.name}
      </h2>
      <p className="mb-3">
        {count(load.n_series)} series of {count(load.n_periods)} {periods(load.frequency)}, {load.first} to{' '}
        {load.last}; {count(load.total)} units in all.
        <span className="block text-second">
          From {load.file_name}, {count(load.n_rows)} rows, loaded by {load.loaded_by} on{' '}
          {when(load.loaded_at)}.
        </span>
      </p>
      <Findings findings={load.findings} />
    </section>
  );
}
