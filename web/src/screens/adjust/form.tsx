/** The line in which a change is put together, what it would do, and keeping it. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo, useState } from 'react';
import { Link } from 'react-router';
import type { Schema } from '../../api/client';
import { sheet as sheetQuery } from '../../api/queries';
import { useReader } from '../../api/roles';
import { count, fixed, signed } from '../../ui/format';
import { typing } from '../../ui/typing';
import { CHANGES, type Change, type Draft, SPREADS, type Spread } from './draft';
import { type Asked, adjustments, forecastChanged, keep, preview, step } from './queries';
import { spansOf } from './spans';

const SUMS: Change[] = ['set', 'add', 'cap', 'floor'];

/** A value that has not changed for a moment. */
function useSettled<T>(value: T, wait = 200): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), wait);
    return () => clearTimeout(timer);
  }, [value, wait]);
  return settled;
}

/** What changes would do, asked for once they have not changed for a moment; nothing of none, or of ones that do not fit. */
export function usePreview(study: number, changes: Asked[]) {
  const settled = useSettled(JSON.stringify(changes));
  const asked = useMemo(() => JSON.parse(settled) as Asked[], [settled]);
  const found = useQuery({ ...preview(study, asked), placeholderData: keepPreviousData });
  const laid = changes.length && asked.length && !found.isError ? found.data : undefined;
  return { laid, problem: found.error };
}

export function AdjustForm({
  portfolio,
  study,
  of,
  ahead,
  draft,
  setDraft,
  changes,
  laid,
  problem,
  close,
}: {
  portfolio: number;
  study: number;
  /** What is changed, in words. */
  of: string;
  ahead: string[];
  draft: Draft;
  setDraft: (draft: Draft | null) => void;
  changes: Asked[];
  laid: Schema['Laid'] | undefined;
  problem: Error | null;
  close: () => void;
}) {
  const client = useQueryClient();
  const reader = useReader();
  const listed = useQuery(adjustments(portfolio, study)).data;
  const [reason, setReason] = useState('');
  const set = (part: Partial<Draft>) => setDraft({ ...draft, ...part });
  const send = useMutation({
    mutationFn: () => keep(study, changes, reason),
    onSuccess: () => {
      setDraft(null);
      setReason('');
      forecastChanged(client);
    },
  });
  const back = useMutation({
    mutationFn: (undo: boolean) => step(portfolio, study, undo),
    onSuccess: () => {
      setDraft(null);
      forecastChanged(client);
    },
  });
  const { mutate } = back;
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (typing(event) || !(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== 'z') return;
      event.preventDefault();
      mutate(!event.shiftKey);
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [mutate]);
  const period = (name: 'first' | 'last', label: string) => (
    <label className="flex items-center gap-1.5">
      <span className="text-second">{label}</span>
      <select
        aria-label={name === 'first' ? 'First period' : 'Last period'}
        className="select select-sm w-[118px]"
        value={draft[name]}
        onChange={(event) => {
          const lead = Number(event.target.value);
          const other =
            name === 'first' ? { last: Math.max(lead, draft.last) } : { first: Math.min(lead, draft.first) };
          set({ [name]: lead, ...other });
        }}
      >
        {ahead.map((one, lead) => (
          <option key={one} value={lead}>
            {one}
          </option>
        ))}
      </select>
    </label>
  );
  return (
    <section aria-label="Adjust" className="mt-4 border-t-2 border-accent pt-2 text-[13px]">
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <h2 className="mr-auto text-sm font-semibold">Adjust {of}</h2>
        <button
          type="button"
          className="btn btn-xs btn-ghost"
          disabled={!listed?.can_undo || back.isPending}
          onClick={() => mutate(true)}
        >
          Undo
        </button>
        <button
          type="button"
          className="btn btn-xs btn-ghost"
          disabled={!listed?.can_redo || back.isPending}
          onClick={() => mutate(false)}
        >
          Redo
        </button>
        <button type="button" className="btn btn-xs btn-ghost" onClick={close}>
          Close
        </button>
      </div>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          send.mutate();
        }}
      >
        <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
          <Pick ahead={ahead} first={draft.first} last={draft.last} pick={set} />
          {period('first', 'From')}
          {period('last', 'to')}
          <select
            aria-label="Change"
            className="select select-sm w-[150px]"
            value={draft.change}
            onChange={(event) => {
              const change = event.target.value as Change;
              set({ change, over: SUMS.includes(change) ? draft.over : 'each' });
            }}
          >
            {CHANGES.map((one) => (
              <option key={one.value} value={one.value}>
                {one.label}
              </option>
            ))}
          </select>
          <input
            aria-label="Amount"
            className="input input-sm w-[96px] text-right"
            value={draft.amount}
            placeholder={draft.change === 'percent' ? '+10' : ''}
            onChange={(event) => set({ amount: event.target.value })}
          />
          {SUMS.includes(draft.change) && draft.first !== draft.last && (
            <select
              aria-label="Amount is for"
              className="select select-sm w-[132px]"
              value={draft.over}
              onChange={(event) => set({ over: event.target.value as Draft['over'] })}
            >
              <option value="each">in each period</option>
              <option value="sum">in all of them</option>
            </select>
          )}
          <label className="flex items-center gap-1.5">
            <span className="text-second">shared out</span>
            <select
              aria-label="Shared out"
              className="select select-sm w-[192px]"
              value={draft.spread}
              onChange={(event) => set({ spread: event.target.value as Spread })}
            >
              {SPREADS.map((one) => (
                <option key={one.value} value={one.value}>
                  {one.label}
                </option>
              ))}
            </select>
          </label>
        </div>
        <Locks study={study} draft={draft} set={set} />
        <div className="mt-2 flex flex-wrap items-center gap-2">
          <label className="flex items-center gap-1.5">
            <span className="text-second">Reason</span>
            <input
              className="input input-sm w-[300px]"
              list="adjust-reasons"
              maxLength={300}
              value={reason}
              onChange={(event) => setReason(event.target.value)}
            />
          </label>
          <datalist id="adjust-reasons">
            {listed?.reasons.map((one) => (
              <option key={one} value={one} />
            ))}
          </datalist>
          <button
            type="submit"
            className="btn btn-sm btn-primary"
            disabled={!changes.length || !reason.trim() || !laid || send.isPending}
            {...reader}
          >
            {send.isPending ? 'Keeping …' : 'Keep this change'}
          </button>
          <button
            type="button"
            className="btn btn-sm btn-ghost"
            disabled={!changes.length && !draft.locked.length}
            onClick={() => setDraft(null)}
          >
            Drop it
          </button>
          {changes.length > 0 && laid && !reason.trim() && (
            <span className="text-second">Say why, and it can be kept.</span>
          )}
        </div>
      </form>
      {(send.error ?? back.error ?? (changes.length ? problem : null)) && (
        <p role="alert" className="mt-2 text-error">
          {(send.error ?? back.error ?? problem)?.message}
        </p>
      )}
      {changes.length > 0 && laid && !problem && <Outcome laid={laid} portfolio={portfolio} study={study} />}
    </section>
  );
}

/** A month, quarter or year at once. */
function Pick({
  ahead,
  first,
  last,
  pick,
}: {
  ahead: string[];
  first: number;
  last: number;
  pick: (span: { first: number; last: number }) => void;
}) {
  const units = spansOf(ahead);
  if (units.length === 0) return null;
  const all = { first: 0, last: ahead.length - 1 };
  const value = (span: { first: number; last: number }) => `${span.first}-${span.last}`;
  const known = [all, ...units.flatMap((one) => one.spans)].map(value);
  const now = value({ first, last });
  return (
    <select
      aria-label="Month, quarter or year"
      className="select select-sm w-[150px]"
      value={known.includes(now) ? now : ''}
      onChange={(event) => {
        const [from, to] = event.target.value.split('-').map(Number);
        if (from !== undefined && to !== undefined) pick({ first: from, last: to });
      }}
    >
      <option value="" disabled>
        some periods
      </option>
      <option value={value(all)}>all that is ahead</option>
      {units.map(({ unit, spans }) => (
        <optgroup key={unit} label={unit}>
          {spans.map((span) => (
            <option key={span.label} value={value(span)}>
              {span.label}
            </option>
          ))}
        </optgroup>
      ))}
    </select>
  );
}

/** Nodes that are to stay as they are, picked by name. */
function Locks({ study, draft, set }: { study: number; draft: Draft; set: (part: Partial<Draft>) => void }) {
  const data = useQuery(sheetQuery(study)).data;
  const [text, setText] = useState('');
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const found =
    !words.length || !data
      ? []
      : data.node
          .flatMap((node, i) => {
            const row = data.rows[data.row[i] ?? 0];
            const column = data.columns[data.column[i] ?? 0];
            const name = [row?.name, ...(data.columns.length > 1 ? [column?.name] : [])].join(' × ');
            const codes = `${name} ${row?.code ?? ''} ${column?.code ?? ''}`.toLowerCase();
            return words.every((word) => codes.includes(word)) ? [{ node, name }] : [];
          })
          .slice(0, 6);
  return (
    <div className="mt-2 flex flex-wrap items-center gap-2">
      <label className="flex items-center gap-1.5">
        <span className="text-second">Leave alone</span>
        <input
          className="input input-sm w-[190px]"
          placeholder="part of a name"
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => {
            const hit = found[0];
            if (event.key !== 'Enter') return;
            event.preventDefault();
            if (hit) set({ locked: [...draft.locked.filter((one) => one.node !== hit.node), hit] });
            setText('');
          }}
        />
      </label>
      {found.map((one) => (
        <button
          key={one.node}
          type="button"
          className="btn btn-xs btn-ghost"
          onClick={() => {
            set({ locked: [...draft.locked.filter((other) => other.node !== one.node), one] });
            setText('');
          }}
        >
          + {one.name}
        </button>
      ))}
      {draft.locked.map((one) => (
        <button
          key={one.node}
          type="button"
          className="btn btn-xs"
          title="May change again"
          onClick={() => set({ locked: draft.locked.filter((other) => other.node !== one.node) })}
        >
          {one.name} ✕
        </button>
      ))}
    </div>
  );
}

function Outcome({ laid, portfolio, study }: { laid: Schema['Laid']; portfolio: number; study: number }) {
  const { before, after, change, percent } = laid.total;
  return (
    <output className="mt-3 block">
      <p>
        <b>
          {laid.name}: {fixed(before, 0)} → {fixed(after, 0)}
        </b>{' '}
        in all ({signed(change, 0)}
        {percent !== null && `, ${signed(percent, 1)} %`}).{' '}
        {laid.n_changed
          ? `${count(laid.n_changed)} of ${count(laid.n_series)} series change with it, and ${count(laid.n_above)} above them.`
          : 'Nothing changes.'}
      </p>
      {laid.movers.length > 1 && (
        <details className="mt-1">
          <summary className="cursor-pointer text-second">The nodes that change most</summary>
          <table className="sheet mt-1 w-auto!">
            <thead>
              <tr>
                <th>Node</th>
                <th>Level</th>
                <th className="num">Before</th>
                <th className="num">After</th>
                <th className="num">Change</th>
              </tr>
            </thead>
            <tbody>
              {laid.movers.map((one) => (
                <tr key={one.node}>
                  <td>
                    <Link className="hover:underline" to={`/p/${portfolio}/s/${study}/series/${one.node}`}>
                      {one.name}
                    </Link>
                  </td>
                  <td className="text-second">{one.level}</td>
                  <td className="num">{fixed(one.before, 0)}</td>
                  <td className="num">{fixed(one.after, 0)}</td>
                  <td className="num">{signed(one.change, 0)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </details>
      )}
    </output>
  );
}
