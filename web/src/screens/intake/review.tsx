/** What was understood of a file, to be corrected before it is loaded. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { portfolios } from '../../api/queries';
import { count, periods } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { saveFile } from '../../ui/save';
import { Failed, Loading, Refused } from '../../ui/states';
import {
  COARSER,
  COPIES,
  type Decisions,
  DUPLICATES,
  EMPTY_KEYS,
  GAPS,
  NEGATIVES,
  TOTALS,
  UNFINISHED,
  WEEK_STARTS,
} from './decisions';
import { Findings } from './findings';
import {
  alsoChanged,
  forgetRoles,
  keepRoles,
  keptRoles,
  optionsFrom,
  type Role,
  type Roles,
  rolesOf,
  signature,
  withPeriodsFrom,
  withRole,
} from './roles';
import { AsUnderstood, FirstPeriod, RoleSelect } from './understood';

export function Review() {
  const id = Number(useParams().upload);
  const navigate = useNavigate();
  const client = useQueryClient();
  const [roles, setRoles] = useState<Roles | null>(() => keptRoles(`upload ${id}`));
  const [moved, setMoved] = useState('');
  const [decisions, setDecisions] = useState<Decisions>({
    gaps: 'zero',
    duplicates: 'sum',
    copies: 'one',
    totals: 'leave-out',
    empty_keys: 'leave-out',
    negatives: 'keep',
    unfinished: 'leave-out',
    week_start: 'monday',
    frequency: null,
    sheet: null,
    first_period: '',
  });
  const [native, setNative] = useState<string | null>(null);
  const [dayFirst, setDayFirst] = useState<boolean | null>(null);
  const [name, setName] = useState('');
  const options = { ...(roles ? optionsFrom(roles) : {}), ...decisions, day_first: dayFirst };
  const file = useQuery({
    queryKey: ['upload', id],
    queryFn: () => body(api.GET('/api/uploads/{id}/', { params: { path: { id } } })),
  });
  const preview = useQuery({
    queryKey: ['preview', id, options],
    queryFn: () => body(api.POST('/api/uploads/{id}/preview/', { params: { path: { id } }, body: options })),
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const load = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/uploads/{id}/load/', {
          params: { path: { id } },
          body: { name: name.trim(), options },
        }),
      ),
    onSuccess: (made) => {
      client.invalidateQueries({ queryKey: portfolios.queryKey });
      navigate(`/p/${made.id}/study`);
    },
  });
  const discard = useMutation({
    mutationFn: () => api.DELETE('/api/uploads/{id}/', { params: { path: { id } } }),
    onSuccess: () => navigate('/intake'),
  });
  const refused = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/uploads/{id}/refused/', {
          params: { path: { id } },
          body: options,
          parseAs: 'text',
        }),
      ),
    onSuccess: (text) => saveFile('rows-left-out.csv', text as unknown as string),
  });
  const found = preview.data?.columns;
  useEffect(() => {
    const before = found && roles === null ? keptRoles(signature(found)) : null;
    if (before) setRoles(before); // a file with these columns was reviewed before
  }, [found, roles]);
  const frequency = preview.data?.understood?.frequency;
  useEffect(() => {
    if (frequency && decisions.frequency === null) setNative(frequency);
  }, [frequency, decisions.frequency]);
  if (file.isError) return <Failed error={file.error} />;
  if (preview.isError) return <Failed error={preview.error} retry={() => void preview.refetch()} />;
  if (preview.isPending || file.isPending) return <Loading what="the file" />;
  const { columns, rows, understood, problem, n_rows, sheets, layout } = preview.data;
  const has = (kind: string) => understood?.findings.some((finding) => finding.kind === kind) === true;
  const ambiguous = has('ambiguous-date');
  // dates that follow no frequency are not taken for days until somebody says so
  const asked = columns.some((one) => one.role === 'time') && (problem || decisions.frequency);
  const written = native ?? (asked ? 'D' : '');
  const coarser = COARSER[written] ?? [];
  const sums = decisions.frequency !== null && decisions.frequency !== native;
  const said = roles !== null && Object.values(roles).some((one) => one.role === 'period');
  const change = (after: Roles, moved: string) => {
    setRoles(after);
    setMoved(moved);
    keepRoles(`upload ${id}`, after);
    keepRoles(signature(columns), after);
  };
  const choose = (column: string, role: Role, of: string | null) => {
    const before = rolesOf(columns.filter((one) => said || one.role !== 'period')); // guessed ones stay guessed
    const after = withRole(before, column, role, of);
    change(after, alsoChanged(before, after, column));
  };
  const choosePeriods = (column: string, alone: boolean) =>
    change(withPeriodsFrom(rolesOf(columns), column, alone), '');
  const set = (change: Partial<Decisions>) => setDecisions({ ...decisions, ...change });
  return (
    <Page
      title={`Intake › ${file.data.file_name}`}
      actions={
        <form
          className="flex items-center gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            load.mutate();
          }}
        >
          <button type="button" className="btn btn-sm btn-ghost" onClick={() => discard.mutate()}>
            Discard the file
          </button>
          <label className="flex items-center gap-2 text-[13px] text-second">
            Portfolio name
            <input
              className="input input-sm w-[210px] text-base-content"
              required
              value={name}
              onChange={(event) => setName(event.target.value)}
            />
          </label>
          <button
            type="submit"
            className="btn btn-sm btn-primary"
            disabled={!understood || !name.trim() || load.isPending || preview.isFetching}
          >
            {load.isPending ? 'Loading …' : understood ? `Load ${count(understood.n_series)} series` : 'Load'}
          </button>
        </form>
      }
    >
      <div className="space-y-6 p-[18px]">
        <Refused of={[load, discard, refused]} also="Nothing was loaded." />
        {problem && (
          <p role="alert" className="max-w-prose border-l-[3px] border-error pl-3 text-error">
            {problem} Set the roles of the columns below, or hand in another file.
          </p>
        )}
        {understood && (
          <section aria-label="What was understood">
            <p className="text-base">
              <b>{count(understood.n_series)} series</b> of {count(understood.n_periods)}{' '}
              {periods(understood.frequency, understood.n_periods)}, {understood.first} to {understood.last};{' '}
              {count(understood.total)} units in all.
            </p>
            <p className="text-second">
              {layout === 'wide' ? 'Wide layout' : 'Long layout'}; {count(understood.n_rows)}{' '}
              {layout === 'wide' ? 'cells' : 'rows'} read, {count(understood.n_refused)} left out
              {understood.n_refused > 0 && (
                <>
                  {' ('}
                  <button
                    type="button"
                    className="link cursor-pointer"
                    disabled={refused.isPending}
                    onClick={() => refused.mutate()}
                  >
                    download them with the reason
                  </button>
                  )
                </>
              )}
              .{' '}
              {understood.decimal !== '' &&
                `Texts are read with a decimal ${understood.decimal}: ${understood.decimal === 'comma' ? '10,5' : '10.5'} is ten and a half. `}
              {understood.keys
                .map(
                  (key) =>
                    `${count(key.count)} different ${key.count === 1 ? 'value' : 'values'} of ${key.name}${key.named_by ? `, called by their ${key.named_by}` : ''}${key.levels.length ? `, grouped by ${key.levels.join(' and ')}` : ''}`,
                )
                .join('; ')}
              .
              {understood.drivers.length > 0 &&
                ` Drivers: ${understood.drivers.map((one) => one.name).join(', ')}, known ${count(understood.drivers[0]?.ahead ?? 0)} ${periods(understood.frequency)} ahead.`}
              {understood.edges &&
                ` They add up as ${understood.edges.file} says, to ${count(understood.edges.n_totals)} totals${understood.edges.n_tops === 1 ? '' : ` with ${count(understood.edges.n_tops)} tops`}.`}
            </p>
          </section>
        )}
        <section aria-label="Decisions" className="space-y-2">
          {sheets.length > 1 && (
            <label className="flex items-center gap-2 text-[13px] text-second">
              Sheet
              <select
                className="select select-xs w-auto text-base-content"
                value={decisions.sheet ?? preview.data.sheet ?? ''}
                onChange={(event) => {
                  setRoles(null);
                  set({ sheet: event.target.value, frequency: null });
                }}
              >
                {sheets.map((one) => (
                  <option key={one}>{one}</option>
                ))}
              </select>
            </label>
          )}
          {said && (
            <FirstPeriod value={decisions.first_period} onChange={(first_period) => set({ first_period })} />
          )}
          {coarser.length > 0 && (
            <Choice
              label="Add the rows up to"
              options={coarser}
              value={decisions.frequency ?? (native as Schema['FrequencyEnum'])}
              onChange={(value) => set({ frequency: value === native ? null : value })}
            />
          )}
          {sums && written === 'D' && (decisions.frequency === 'W' || decisions.frequency === '4W') && (
            <Choice
              label="Weeks start on"
              options={WEEK_STARTS}
              value={decisions.week_start}
              onChange={(week_start) => set({ week_start })}
            />
          )}
          {has('copy') && (
            <Choice
              label="Of rows that are the same in every column"
              options={COPIES}
              value={decisions.copies}
              onChange={(copies) => set({ copies })}
            />
          )}
          {(has('missing-key') || has('off-calendar') || decisions.empty_keys === 'as-above') && (
            <Choice
              label="Rows with an empty key or period"
              options={EMPTY_KEYS}
              value={decisions.empty_keys}
              onChange={(empty_keys) => set({ empty_keys })}
            />
          )}
          {has('total-row') && (
            <Choice
              label="Rows that are totals of others"
              options={TOTALS}
              value={decisions.totals}
              onChange={(totals) => set({ totals })}
            />
          )}
          {has('unfinished-period') && (
            <Choice
              label="A period that is not complete"
              options={UNFINISHED}
              value={decisions.unfinished}
              onChange={(unfinished) => set({ unfinished })}
            />
          )}
          <Choice
            label="A missing period between the first and last row of a series means"
            options={GAPS}
            value={decisions.gaps}
            onChange={(gaps) => set({ gaps })}
          />
          <Choice
            label="Rows for the same series and period"
            options={DUPLICATES}
            value={decisions.duplicates}
            onChange={(duplicates) => set({ duplicates })}
          />
          {has('negative') && (
            <Choice
              label="Negative values"
              options={NEGATIVES}
              value={decisions.negatives}
              onChange={(negatives) => set({ negatives })}
            />
          )}
          {(ambiguous || dayFirst !== null) && (
            <Choice
              label="Dates such as 03/04/2025 have"
              options={[
                { value: 'day', label: 'the day first' },
                { value: 'month', label: 'the month first' },
              ]}
              value={dayFirst === false ? 'month' : 'day'}
              onChange={(value) => setDayFirst(value === 'day')}
            />
          )}
        </section>
        <p role="status" className={moved ? 'max-w-prose border-l-[3px] border-base-content pl-3' : 'hidden'}>
          {moved}
        </p>
        <section aria-labelledby="columns">
          <h2 id="columns" className="mb-1 font-semibold">
            Columns and first rows as written{' '}
            <span className="font-normal text-second">of {count(n_rows)}</span>
            {roles !== null && (
              <button
                type="button"
                className="btn btn-xs btn-ghost ml-3"
                onClick={() => {
                  forgetRoles(`upload ${id}`, signature(columns));
                  setRoles(null);
                  setMoved('');
                  set({ first_period: '' });
                }}
              >
                Guess the roles again
              </button>
            )}
          </h2>
          <div className="flex items-end gap-8 overflow-x-auto">
            <table className="sheet w-auto!">
              <thead>
                <tr>
                  {columns.map((column) => (
                    <th key={column.name} scope="col" className="min-w-[120px] align-top">
                      <span className="block pb-1 font-semibold text-base-content">{column.name}</span>
                      <RoleSelect
                        column={column}
                        columns={columns}
                        said={said}
                        onChange={(role, of) => choose(column.name, role, of)}
                        onPeriods={(alone) => choosePeriods(column.name, alone)}
                      />
                      <span className="block max-w-[190px] pt-1 text-xs whitespace-normal">
                        {column.reason}
                      </span>
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {rows.map((row, i) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: rows of a file have no other name than their place
                  <tr key={i}>
                    {row.map((cell, j) => (
                      <td
                        key={columns[j]?.name}
                        className={
                          columns[j]?.role === 'value'
                            ? 'num'
                            : columns[j]?.role === 'ignored'
                              ? 'text-second'
                              : ''
                        }
                      >
                        {cell}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {understood && <AsUnderstood rows={understood.first_rows} />}
          </div>
        </section>
        {understood && (
          <section aria-labelledby="findings">
            <h2 id="findings" className="mb-1 font-semibold">
              Findings
            </h2>
            <Findings findings={understood.findings} />
          </section>
        )}
      </div>
    </Page>
  );
}
