/** What planners know that history does not say: products to come and to go, codes that follow others, events, public
 * holidays, prices and promotions to come. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useParams } from 'react-router';
import { ApiError, api, body, type Schema } from '../../api/client';
import { portfolios } from '../../api/queries';
import { useReader } from '../../api/roles';
import { when } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { Empty, Failed, Loading, Refused } from '../../ui/states';
import { IntakeTabs } from '../intake/tabs';
import { Countries, DriverFields } from './driver-fields';
import { type Entries, type Kind, namesOf, planOf } from './entries';
import { Field } from './field';
import { plans } from './queries';

const KINDS: { value: Kind; label: string }[] = [
  { value: 'arrival', label: 'a product to come' },
  { value: 'succession', label: 'a new code' },
  { value: 'lifetime', label: 'a launch or end' },
  { value: 'event', label: 'an event' },
  { value: 'holidays', label: 'public holidays' },
  { value: 'driver', label: 'a price or promotion' },
];

export function PlansScreen() {
  const portfolio = Number(useParams().portfolio);
  const client = useQueryClient();
  const found = useQuery(plans(portfolio));
  const load = useQuery(portfolios).data?.find((one) => one.id === portfolio)?.load;
  const [kind, setKind] = useState<Kind>('arrival');
  const reader = useReader();
  const drop = useMutation({
    mutationFn: (id: number) => api.DELETE('/api/plans/{id}/', { params: { path: { id } } }),
    onSuccess: () => client.invalidateQueries({ queryKey: ['plans', portfolio] }),
  });
  if (found.isPending || !load) return <Loading what="plans" />;
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  return (
    <Page title="Intake › Plans" actions={<IntakeTabs portfolio={portfolio} />}>
      <div className="max-w-[1120px] space-y-5 p-[18px]">
        <p className="max-w-prose text-second">
          What history cannot know. The next study takes these plans into its recipe; history itself stays as
          it was received.
        </p>
        <Choice label="Add" options={KINDS} value={kind} onChange={setKind} />
        <PlanForm key={kind} portfolio={portfolio} kind={kind} load={load} />
        <Refused of={[drop]} />
        {found.data.length === 0 ? (
          <Empty title="No plans yet">Choose above what you know, and add it.</Empty>
        ) : (
          <table className="sheet">
            <thead>
              <tr>
                <th>Plan</th>
                <th>By</th>
                <th aria-label="Drop" />
              </tr>
            </thead>
            <tbody>
              {found.data.map((plan) => (
                <tr key={plan.id}>
                  <td>{plan.words}</td>
                  <td className="whitespace-nowrap text-second">
                    {plan.made_by}, {when(plan.made_at)}
                  </td>
                  <td>
                    <button
                      type="button"
                      className="btn btn-xs"
                      aria-label={`Drop: ${plan.words}`}
                      {...reader}
                      onClick={() => drop.mutate(plan.id)}
                    >
                      Drop
                    </button>
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

function PlanForm({ portfolio, kind, load }: { portfolio: number; kind: Kind; load: Schema['Load'] }) {
  const client = useQueryClient();
  const reader = useReader();
  const keys = load.key_names as string[];
  const names = namesOf(load);
  const [entries, setEntries] = useState<Entries>({ way: 'like', share: '100' });
  const add = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/portfolios/{id}/plans/', {
          params: { path: { id: portfolio } },
          body: planOf(kind, kind === 'driver' || kind === 'lifetime' ? names : keys, {
            driver: load.driver_names.find((name) => name !== 'stock'),
            ...entries,
          }),
        }),
      ),
    onSuccess: () => {
      setEntries({ way: entries.way, share: '100' });
      client.invalidateQueries({ queryKey: ['plans', portfolio] });
    },
  });
  const errors = add.error instanceof ApiError ? add.error.errors : {};
  const known = [
    'keys',
    'like',
    'share',
    'start',
    'low',
    'high',
    'old',
    'new',
    'key',
    'where',
    'first',
    'last',
    'name',
    'periods',
    'of',
    'amount',
    'change',
  ];
  const elsewhere = add.isError && !Object.keys(errors).some((field) => known.includes(field));
  const field = (name: string, label: string, placeholder = '', error?: string, list?: string) => (
    <Field
      list={list}
      label={label}
      placeholder={placeholder}
      value={entries[name] ?? ''}
      error={errors[error ?? name]}
      onChange={(value) => setEntries({ ...entries, [name]: value })}
    />
  );
  const period = load.last;
  return (
    <form
      className="space-y-3 border-y border-rule py-4"
      aria-label="New plan"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      {kind === 'arrival' && (
        <>
          <div className="flex flex-wrap items-start gap-4">
            {keys.map((name, i) => (
              <span key={name}>{field(`new ${name}`, `New ${name}`, '', i === 0 ? 'keys' : 'none')}</span>
            ))}
            {field('start', 'First period', period)}
          </div>
          <Choice
            label="It will sell"
            options={[
              { value: 'like', label: 'like another series' },
              { value: 'range', label: 'in a range that somebody knows' },
            ]}
            value={entries.way === 'range' ? 'range' : 'like'}
            onChange={(way) => setEntries({ ...entries, way })}
          />
          <div className="flex flex-wrap items-start gap-4">
            {entries.way === 'range' ? (
              <>
                {field('low', 'From, units a period')}
                {field('high', 'To, units a period')}
                <p className="max-w-[36ch] pt-5 text-[13px] text-second">
                  Four of five periods should lie in it; it becomes the 80 % band.
                </p>
              </>
            ) : (
              <>
                {keys.map((name, i) => (
                  <span key={name}>
                    {field(`like ${name}`, `Like ${name}`, '', i === 0 ? 'like' : 'none')}
                  </span>
                ))}
                {field('share', 'At % of it')}
              </>
            )}
          </div>
        </>
      )}
      {kind === 'succession' && (
        <div className="flex flex-wrap items-start gap-4">
          <label className="block text-[13px]">
            <span className="block pb-1">Codes of</span>
            <select
              className="select select-sm"
              value={entries.key ?? keys[0]}
              onChange={(event) => setEntries({ ...entries, key: event.target.value })}
            >
              {keys.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          </label>
          {field('old', 'Old code')}
          {field('new', 'New code')}
          {field('share', 'Continues, % of it')}
        </div>
      )}
      {kind === 'lifetime' && (
        <div className="flex flex-wrap items-start gap-4">
          {names.map((name, i) => (
            <span key={name}>{field(`where ${name}`, name, 'any', i === 0 ? 'where' : 'none')}</span>
          ))}
          {field('first', 'First period', 'open')}
          {field('last', 'Last period', 'open')}
        </div>
      )}
      {kind === 'event' && (
        <div className="flex flex-wrap items-start gap-4">
          {field('name', 'Name', 'Spring fair')}
          <span className="w-[420px]">
            {field('periods', 'Periods it touches, each year', `${period}, …`)}
          </span>
        </div>
      )}
      {kind === 'holidays' && (
        <div className="flex flex-wrap items-start gap-4">
          {field('of', 'Country, or country and region', 'DE-BY', 'of', 'calendars')}
          <Countries id="calendars" />
          {field('name', 'Name of the driver', 'holiday')}
          <p className="max-w-[52ch] pt-5 text-[13px] text-second">
            They become a driver: how many fall in a period. Of days, the one before and the one after count
            too.
          </p>
        </div>
      )}
      {kind === 'driver' && (
        <DriverFields
          load={load}
          names={names}
          entries={entries}
          onChange={setEntries}
          field={field}
          noDriver={errors.name}
        />
      )}
      <div className="flex items-center gap-4">
        <button
          type="submit"
          className="btn btn-sm btn-primary"
          disabled={add.isPending || (kind === 'driver' && load.driver_names.every((n) => n === 'stock'))}
          {...reader}
        >
          Add
        </button>
        {elsewhere && (
          <p role="alert" className="text-error">
            {add.error?.message}
          </p>
        )}
        {add.isSuccess && <output className="text-accent">Kept: {add.data.words}.</output>}
      </div>
    </form>
  );
}
