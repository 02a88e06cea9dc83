/** Another structure, tried on the history of this study: what it would count, and what pruning would leave of it. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useNavigate } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { studies } from '../../api/queries';
import { useReader } from '../../api/roles';
import { Problem } from '../../ui/ask';
import { count, fixed } from '../../ui/format';
import { type Asked, tried } from './queries';
import { EMPTY, type Row, Rows, written } from './rows';

type Feature = Schema['LimitRequest']['feature'];

const FEATURES: { name: Feature; say: string; usual: string }[] = [
  { name: 'mean', say: 'Mean per period, at least', usual: '2' },
  { name: 'empty', say: 'Share of empty periods, at most', usual: '0.5' },
  { name: 'length', say: 'Periods since the first sale, at least', usual: '' },
  { name: 'season', say: 'Strength of season, at least', usual: '' },
  { name: 'trend', say: 'Strength of trend, at least', usual: '' },
  { name: 'entropy', say: 'Spectral entropy, at most', usual: '' },
];

/** How nodes are said to add up. */
type By = 'levels' | 'rows' | 'edges';

export interface Draft {
  way: By;
  formula: string;
  rows: Row[];
  times: string[];
  prune: boolean;
  limits: Record<string, string>;
  share: string;
  by: 'parts' | 'volume';
  lump: boolean;
}

export function draftOf({ formula, rows, edges, pruning, time_levels }: Schema['Structure']): Draft {
  const limits = Object.fromEntries((pruning?.limits ?? []).map((one) => [one.feature, String(one.limit)]));
  const usual = Object.fromEntries(FEATURES.map((one) => [one.name, one.usual]));
  return {
    way: rows.length > 0 ? 'rows' : formula === '' && edges !== '' ? 'edges' : 'levels',
    formula,
    rows: rows.length > 0 ? rows : [EMPTY],
    times: time_levels.filter((one) => one.used).map((one) => one.name),
    prune: pruning !== null,
    limits: pruning ? limits : usual,
    share: String(pruning?.share ?? 50),
    by: pruning?.by ?? 'parts',
    lump: pruning?.lump ?? true,
  };
}

/** What the draft asks for; undefined while a number is none. */
export function asked(draft: Draft): Asked | undefined {
  const { way, formula, times, prune, limits, share, by, lump } = draft;
  const rows = written(draft.rows);
  if ((way === 'levels' && formula.trim() === '') || (way === 'rows' && rows.length === 0)) return undefined;
  const what = way === 'levels' ? { formula } : way === 'rows' ? { rows } : {};
  if (!prune) return { ...what, time_levels: times, pruning: null };
  const set = FEATURES.filter((one) => (limits[one.name] ?? '').trim() !== '').map((one) => ({
    feature: one.name,
    limit: Number((limits[one.name] ?? '').replace(',', '.')),
  }));
  const own = Number(share.replace(',', '.'));
  if (set.length === 0 || set.some((one) => Number.isNaN(one.limit)) || Number.isNaN(own)) return undefined;
  return { ...what, time_levels: times, pruning: { limits: set, share: own, by, lump } };
}

function ways({ edges }: Schema['Structure']): [By, string][] {
  const found: [By, string][] = [
    ['levels', 'by levels'],
    ['rows', 'drawn by hand'],
  ];
  return edges === '' ? found : [...found, ['edges', `as ${edges} says`]];
}

/** A value once it has stood still for a moment. */
function useSettled<T>(value: T, ms: number): T {
  const [settled, settle] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => settle(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return settled;
}

export function Other({
  study,
  portfolio,
  structure,
}: {
  study: number;
  portfolio: number;
  structure: Schema['Structure'];
}) {
  const [draft, setDraft] = useState(() => draftOf(structure));
  const text = JSON.stringify(asked(draft) ?? null);
  const settled = useSettled(text, 250);
  const ask = JSON.parse(settled) as Asked | null;
  const found = useQuery({
    ...tried(study, ask ?? {}),
    enabled: ask !== null,
    placeholderData: keepPreviousData,
  });
  const navigate = useNavigate();
  const client = useQueryClient();
  const reader = useReader();
  const run = useMutation({
    mutationFn: (own: Asked) =>
      body(api.POST('/api/studies/{id}/structure/study/', { params: { path: { id: study } }, body: own })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: studies(portfolio).queryKey });
      void navigate(`/p/${portfolio}/study`);
    },
  });
  const set = (change: Partial<Draft>) => setDraft((before) => ({ ...before, ...change }));
  return (
    <section aria-label="Another structure">
      <h2 className="mb-1 font-semibold">
        Another structure{' '}
        <span className="font-normal text-second">
          and which of its nodes are worth a forecast; counted as you type, run as a study of its own
        </span>
      </h2>
      <div className="grid max-w-[1160px] gap-x-8 gap-y-3 lg:grid-cols-[minmax(0,1fr)_minmax(0,1.2fr)]">
        <form
          className="space-y-2"
          onSubmit={(event) => {
            event.preventDefault();
            const own = asked(draft);
            if (own) run.mutate(own);
          }}
        >
          <div role="radiogroup" aria-label="How nodes add up" className="flex flex-wrap gap-x-4">
            {ways(structure).map(([way, label]) => (
              <label key={way} className="flex items-center gap-2">
                <input
                  type="radio"
                  className="radio radio-xs"
                  checked={draft.way === way}
                  onChange={() => set({ way })}
                />
                {label}
              </label>
            ))}
          </div>
          {draft.way === 'levels' && (
            <>
              <label className="block">
                <span className="text-second">Levels: {'>'} nests, * crosses, + sets side by side</span>
                <input
                  className="input input-sm w-full font-mono"
                  spellCheck={false}
                  value={draft.formula}
                  onChange={(event) => set({ formula: event.target.value })}
                />
              </label>
              <p className="text-second">Of {structure.names.join(', ')}</p>
            </>
          )}
          {draft.way === 'rows' && (
            <Rows rows={draft.rows} values={structure.values} set={(rows) => set({ rows })} />
          )}
          {structure.time_levels.length > 0 && (
            <fieldset className="flex flex-wrap items-center gap-x-4 gap-y-1">
              <legend className="float-left mr-4">Forecast over longer periods too</legend>
              {structure.time_levels.map((one) => (
                <label key={one.name} className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-sm"
                    checked={draft.times.includes(one.name)}
                    onChange={(event) =>
                      set({
                        times: event.target.checked
                          ? [...draft.times, one.name]
                          : draft.times.filter((name) => name !== one.name),
                      })
                    }
                  />
                  {one.name}
                </label>
              ))}
            </fieldset>
          )}
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={draft.prune}
              onChange={(event) => set({ prune: event.target.checked })}
            />
            Prune: forecast only what is worth it
          </label>
          {draft.prune && (
            <fieldset className="space-y-1.5">
              <legend className="text-second">A part qualifies with</legend>
              {FEATURES.map((one) => (
                <label key={one.name} className="flex items-center gap-2">
                  <span className="mr-auto">{one.say}</span>
                  <input
                    className="input input-xs w-20 text-right"
                    inputMode="decimal"
                    value={draft.limits[one.name] ?? ''}
                    onChange={(event) => set({ limits: { ...draft.limits, [one.name]: event.target.value } })}
                  />
                </label>
              ))}
              <div className="flex items-center gap-2">
                <span className="mr-auto">A split is taken where more than</span>
                <input
                  aria-label="Percent that must qualify"
                  className="input input-xs w-20 text-right"
                  inputMode="decimal"
                  value={draft.share}
                  onChange={(event) => set({ share: event.target.value })}
                />
                <span>% of its</span>
                <select
                  aria-label="Parts or volume"
                  className="select select-xs w-24"
                  value={draft.by}
                  onChange={(event) => set({ by: event.target.value === 'volume' ? 'volume' : 'parts' })}
                >
                  <option value="parts">parts</option>
                  <option value="volume">volume</option>
                </select>
                <span>qualify</span>
              </div>
              <label className="flex items-center gap-2">
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  checked={draft.lump}
                  onChange={(event) => set({ lump: event.target.checked })}
                />
                Lump the rest of a split into one node, “other”
              </label>
            </fieldset>
          )}
          <button
            type="submit"
            className="btn btn-primary btn-sm"
            disabled={run.isPending || asked(draft) === undefined || found.isError}
            {...reader}
          >
            Run a study with it
          </button>
          {run.isError && <Problem error={run.error} />}
        </form>
        <div aria-live="polite">
          {found.isError && <Problem error={found.error} />}
          {found.data && !found.isError && <Counts found={found.data} pruned={ask?.pruning != null} />}
        </div>
      </div>
    </section>
  );
}

function Counts({ found, pruned }: { found: Schema['Tried']; pruned: boolean }) {
  return (
    <>
      <p className="mb-2">
        <b>{count(found.n_nodes)}</b> nodes, of {count(found.possible)} combinations.
        {pruned && (
          <>
            {' '}
            <b>{count(found.n_fitted)}</b> are worth a forecast, {count(found.lumps)} of them lumps
            {found.n_longer > 0 && <> and {count(found.n_longer)} in longer periods only</>}; of the series,
            those forecast themselves hold <b>{fixed(found.own_volume, 1)} %</b> of the volume, and{' '}
            {count(found.n_shared)} get a share. {count(found.splits_taken)} of {count(found.splits)} splits
            are taken, <b>{fixed(found.saved, 0)} %</b> of the fitting is saved.
          </>
        )}
      </p>
      {found.findings.map((text) => (
        <p key={text} role="status" className="mb-2">
          {text}
        </p>
      ))}
      <table className="sheet">
        <thead>
          <tr>
            <th>Level</th>
            <th className="num">Combinations</th>
            <th className="num">Empty</th>
            <th className="num">Nodes</th>
            <th className="num">Of one series</th>
            <th className="num">The same as one above</th>
            {pruned && <th className="num">Kept</th>}
          </tr>
        </thead>
        <tbody>
          {found.levels.slice(0, 40).map((level) => (
            <tr key={level.name}>
              <td>
                {level.name}
                {level.same_as && <span className="text-second"> the same as {level.same_as}</span>}
              </td>
              <td className="num">{count(level.possible)}</td>
              <td className="num">{count(level.empty)}</td>
              <td className="num">{count(level.occurring)}</td>
              <td className="num">{count(level.single)}</td>
              <td className="num" title={level.example ? `such as ${level.example}` : undefined}>
                {count(level.equal)}
              </td>
              {pruned && <td className="num font-semibold">{count(level.kept ?? 0)}</td>}
            </tr>
          ))}
        </tbody>
      </table>
      {found.levels.length > 40 && (
        <p className="mt-1 text-second">and {count(found.levels.length - 40)} more levels</p>
      )}
    </>
  );
}
