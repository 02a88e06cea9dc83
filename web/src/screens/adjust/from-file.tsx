/** Adjustments from a file: seen before they are kept, all of them or none. */
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { type Schema, sendForm } from '../../api/client';
import { useReader } from '../../api/roles';
import { count, fixed, signed } from '../../ui/format';
import { forecastChanged } from './queries';

function hand(study: number, file: File, preview: boolean): Promise<Schema['Laid']> {
  const form = new FormData();
  form.append('file', file);
  form.append('preview', String(preview));
  return sendForm(`/api/studies/${study}/adjustments/file/`, form);
}

export function FromFile({ study }: { study: number }) {
  const client = useQueryClient();
  const reader = useReader();
  const chooser = useRef<HTMLInputElement>(null);
  const [file, setFile] = useState<File | null>(null);
  const look = useMutation({ mutationFn: (chosen: File) => hand(study, chosen, true) });
  const keep = useMutation({
    mutationFn: (chosen: File) => hand(study, chosen, false),
    onSuccess: () => {
      setFile(null);
      look.reset();
      forecastChanged(client);
    },
  });
  const problem = look.error ?? keep.error;
  const top = look.data?.movers[0];
  return (
    <div>
      <input
        ref={chooser}
        type="file"
        className="sr-only"
        tabIndex={-1}
        aria-label="File of adjustments"
        accept=".csv,.txt,.tsv,.xlsx,.parquet"
        onChange={(event) => {
          const chosen = event.target.files?.[0];
          event.target.value = '';
          if (!chosen) return;
          setFile(chosen);
          keep.reset();
          look.mutate(chosen);
        }}
      />
      <button
        type="button"
        className="btn btn-sm btn-ghost"
        title="Columns: keys or attributes, period or from and to, change, amount, reason"
        onClick={() => chooser.current?.click()}
      >
        {look.isPending ? 'Reading …' : 'From a file …'}
      </button>
      {file && (problem || look.data) && (
        <div className="my-2 border-y border-rule py-2 text-[13px]">
          {problem && (
            <p role="alert" className="text-error">
              {problem.message}
            </p>
          )}
          {look.data && !problem && (
            <p>
              <b>{file.name}</b>: {count(look.data.n_adjustments)}{' '}
              {look.data.n_adjustments === 1 ? 'adjustment' : 'adjustments'}, {count(look.data.n_changed)}{' '}
              series change.
              {top &&
                ` ${top.name}: ${fixed(top.before, 0)} → ${fixed(top.after, 0)} (${signed(top.change, 0)}).`}
            </p>
          )}
          <div className="mt-1 flex gap-2">
            {look.data && !problem && (
              <button
                type="button"
                className="btn btn-sm btn-primary"
                disabled={keep.isPending}
                {...reader}
                onClick={() => keep.mutate(file)}
              >
                {keep.isPending ? 'Keeping …' : 'Keep them'}
              </button>
            )}
            <button type="button" className="btn btn-sm btn-ghost" onClick={() => setFile(null)}>
              {problem ? 'Close' : 'Drop them'}
            </button>
          </div>
        </div>
      )}
    </div>
  );
}
