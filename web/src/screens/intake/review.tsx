/** What was understood of a file, to be corrected before it is loaded. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { portfolios } from '../../api/queries';
import { count, periods } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { Findings } from './findings';
import { optionsFrom, type Role, type Roles, rolesOf, withRole } from './roles';

type Decisions = Pick<Schema['OptionsRequest'], 'gaps' | 'duplicates' | 'day_first'>;

const GAPS = [
  { value: 'zero', label: 'zero: nothing was sold' },
  { value: 'unknown', label: 'unknown' },
] as const;
const DUPLICATES = [
  { value: 'sum', label: 'add up' },
  { value: 'first', label: 'keep the first' },
  { value: 'last', label: 'keep the last' },
  { value: 'mean', label: 'average' },
] as const;

export function Review() {
  const id = Number(useParams().upload);
  const navigate = useNavigate();
  const client = useQueryClient();
  const [roles, setRoles] = useState<Roles | null>(null);
  const [decisions, setDecisions] = useState<Required<Pick<Decisions, 'gaps' | 'duplicates'>>>({
    gaps: 'zero',
    duplicates: 'sum',
  });
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
  if (file.isError) return <Failed error={file.error} />;
  if (preview.isError) return <Failed error={preview.error} retry={() => void preview.refetch()} />;
  if (preview.isPending || file.isPending) return <Loading what="the file" />;
  const { columns, rows, understood, problem, n_rows } = preview.data;
  const ambiguous = understood?.findings.some((finding) => finding.kind === 'ambiguous-date');
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
        {load.isError && (
          <p role="alert" className="text-error">
            {load.error.message} Nothing was loaded.
          </p>
        )}
        {problem && (
          <p role="alert" className="max-w-prose border-l-[3px] border-error pl-3 text-error">
            {problem} Set the roles of the columns below, or hand in another file.
          </p>
        )}
        {understood && (
          <section aria-label="What was understood">
            <p className="text-base">
              <b>{count(understood.n_series)} series</b> of {count(understood.n_periods)}{' '}
              {periods(understood.frequency)}, {understood.first} to {understood.last};{' '}
              {count(understood.total)} units in all.
            </p>
            <p className="text-second">
              {count(understood.n_rows)} rows read, {count(understood.n_refused)} left out.{' '}
              {understood.keys
                .map(
                  (key) =>
                    `${count(key.count)} different values of ${key.name}${key.levels.length ? `, grouped by ${key.levels.join(' and ')}` : ''}`,
                )
                .join('; ')}
              .
            </p>
          </section>
        )}
        <section aria-label="Decisions" className="space-y-2">
          <Choice
            label="A missing period between the first and last row of a series means"
            options={GAPS}
            value={decisions.gaps}
            onChange={(gaps) => setDecisions({ ...decisions, gaps })}
          />
          <Choice
            label="Rows for the same series and period"
            options={DUPLICATES}
            value={decisions.duplicates}
            onChange={(duplicates) => setDecisions({ ...decisions, duplicates })}
          />
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
        <section aria-labelledby="columns">
          <h2 id="columns" className="mb-1 font-semibold">
            Columns and first rows <span className="font-normal text-second">of {count(n_rows)}</span>
          </h2>
          <div className="overflow-x-auto">
            <table className="sheet w-auto!">
              <thead>
                <tr>
                  {columns.map((column) => (
                    <th key={column.name} scope="col" className="min-w-[120px] align-top">
                      <span className="block pb-1 font-semibold text-base-content">{column.name}</span>
                      <RoleSelect
                        column={column}
                        columns={columns}
                        onChange={(role, of) => setRoles(withRole(rolesOf(columns), column.name, role, of))}
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

function RoleSelect({
  column,
  columns,
  onChange,
}: {
  column: Schema['Column'];
  columns: Schema['Column'][];
  onChange: (role: Role, of: string | null) => void;
}) {
  if (column.role === 'period') return <span>period</span>;
  const keys = columns.filter((one) => one.role === 'key' && one.name !== column.name);
  return (
    <select
      className="select select-xs w-auto text-base-content"
      aria-label={`Role of ${column.name}`}
      value={column.role === 'attribute' ? `attribute ${column.of}` : column.role}
      onChange={(event) => {
        const [role, ...of] = event.target.value.split(' ');
        onChange(role as Role, of.join(' ') || null);
      }}
    >
      <option value="time">period</option>
      <option value="value">sales</option>
      <option value="key">key of a series</option>
      {keys.map((key) => (
        <option key={key.name} value={`attribute ${key.name}`}>
          describes {key.name}
        </option>
      ))}
      <option value="ignored">not used</option>
    </select>
  );
}
