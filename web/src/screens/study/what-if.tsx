/** What if: a copy of a study with another recipe; and what else can be done with a study. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { api, body, type Schema } from '../../api/client';
import { portfolios, studies } from '../../api/queries';
import { useReader } from '../../api/roles';
import { Ask, Line, Problem } from '../../ui/ask';
import { Dialog } from '../../ui/dialog';
import { Failed, Loading } from '../../ui/states';
import { DriverFields, driverWords } from '../plans/driver-fields';
import { type Entries, namesOf, planOf } from '../plans/entries';
import { Field } from '../plans/field';

type Study = Schema['Study'];
type Plan = Schema['PlanRequest'];

export function WhatIf({ study, portfolio, close }: { study: Study; portfolio: number; close: () => void }) {
  const client = useQueryClient();
  const recipe = useQuery({
    queryKey: ['recipe', study.id],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/recipe/', {
          params: { path: { id: study.id }, query: { as_made: true } },
          parseAs: 'text',
        }),
      ),
  });
  const [text, setText] = useState<string>();
  const [name, setName] = useState(`${study.name}, what if`);
  useEffect(() => {
    if (recipe.data !== undefined) setText((before) => before ?? String(recipe.data));
  }, [recipe.data]);
  const [plans, setPlans] = useState<Plan[]>([]);
  const run = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/portfolios/{id}/studies/', {
          params: { path: { id: portfolio } },
          body: { recipe: text ?? '', name, plans },
        }),
      ),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: studies(portfolio).queryKey });
      close();
    },
  });
  return (
    <Dialog title={`What if, from ${study.name} #${study.id}`} close={close}>
      {recipe.isPending && <Loading what="the recipe" />}
      {recipe.isError && <Failed error={recipe.error} retry={() => void recipe.refetch()} />}
      {text !== undefined && (
        <Ask
          act={() => run.mutate()}
          say="Run it"
          ready={!run.isPending && name.trim() !== ''}
          error={run.error}
          close={close}
        >
          <p className="text-second">
            Change what you like; only what is touched is fitted again. History, corrections and adjustments
            are those of the portfolio.
          </p>
          <Line label="Name" most={120} value={name} onChange={setName} />
          <label className="block">
            <span className="text-second">Recipe</span>
            <textarea
              className="textarea w-full font-mono text-xs leading-snug"
              rows={14}
              spellCheck={false}
              value={text}
              onChange={(event) => setText(event.target.value)}
            />
          </label>
          <Drivers portfolio={portfolio} plans={plans} setPlans={setPlans} />
        </Ask>
      )}
    </Dialog>
  );
}

/** Prices and promotions as they would be in this study alone. */
function Drivers({
  portfolio,
  plans,
  setPlans,
}: {
  portfolio: number;
  plans: Plan[];
  setPlans: (plans: Plan[]) => void;
}) {
  const load = useQuery(portfolios).data?.find((one) => one.id === portfolio)?.load;
  const [entries, setEntries] = useState<Entries>({});
  const drivers = load?.driver_names.filter((name) => name !== 'stock') ?? [];
  if (!load || drivers.length === 0) return null;
  const names = namesOf(load);
  const whole = entries.amount?.trim() && entries.last?.trim();
  return (
    <details>
      <summary className="cursor-pointer text-second">
        Other prices or promotions, in this study alone
      </summary>
      <div className="mt-2 space-y-2">
        <DriverFields
          load={load}
          names={names}
          entries={entries}
          onChange={setEntries}
          noDriver={undefined}
          field={(name, label, placeholder = '') => (
            <Field
              label={label}
              placeholder={placeholder}
              value={entries[name] ?? ''}
              error={undefined}
              onChange={(value) => setEntries({ ...entries, [name]: value })}
            />
          )}
        />
        <button
          type="button"
          className="btn btn-sm"
          disabled={!whole}
          onClick={() => {
            setPlans([...plans, planOf('driver', names, { driver: drivers[0], ...entries })]);
            setEntries({ driver: entries.driver });
          }}
        >
          Put it in
        </button>
        <ul>
          {plans.map((plan, k) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: the order is all that tells equal ones apart
            <li key={k} className="flex items-center gap-2">
              {driverWords(plan)}
              <button
                type="button"
                className="btn btn-xs"
                aria-label={`Leave out: ${driverWords(plan)}`}
                onClick={() => setPlans(plans.filter((_, j) => j !== k))}
              >
                Leave out
              </button>
            </li>
          ))}
        </ul>
      </div>
    </details>
  );
}

export function ChangeStudy({
  study,
  portfolio,
  close,
}: {
  study: Study;
  portfolio: number;
  close: () => void;
}) {
  const client = useQueryClient();
  const reader = useReader();
  const [name, setName] = useState(study.name);
  const [sure, setSure] = useState(false);
  const path = { params: { path: { id: study.id } } };
  const change = useMutation({
    mutationFn: async (what: { name?: string; archived?: boolean } | 'delete') => {
      if (what === 'delete') await body(api.DELETE('/api/studies/{id}/', path));
      else await body(api.PATCH('/api/studies/{id}/', { ...path, body: what }));
    },
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: studies(portfolio).queryKey });
      close();
    },
  });
  return (
    <Dialog title={`${study.name} #${study.id}`} close={close}>
      <form
        className="space-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          change.mutate({ name });
        }}
      >
        <Line label="Name" most={120} value={name} onChange={setName} />
        <p>
          <a className="link" href={`/api/studies/${study.id}/corrections/`} download>
            Corrections it was made with
          </a>{' '}
          <span className="text-second">
            as a file beside its recipe, for <code>tansy run --corrections</code>
          </span>
        </p>
        <Problem error={change.error} />
        {sure && (
          <p>
            What it found is lost: its backtest, choices and forecasts. Adjustments stay with the portfolio,
            and what was fitted stays for other studies. It cannot be undone.
          </p>
        )}
        <div className="flex flex-wrap gap-2">
          <button
            type="submit"
            className="btn btn-sm btn-primary"
            disabled={change.isPending || !name.trim()}
            {...reader}
          >
            Rename
          </button>
          <button
            type="button"
            className="btn btn-sm"
            disabled={change.isPending}
            {...reader}
            onClick={() => change.mutate({ archived: study.archived_at === null })}
          >
            {study.archived_at === null ? 'Archive' : 'Bring back'}
          </button>
          <button
            type="button"
            className="btn btn-sm btn-ghost text-error"
            disabled={change.isPending}
            onClick={() => (sure ? change.mutate('delete') : setSure(true))}
          >
            {sure ? 'Delete it for good' : 'Delete …'}
          </button>
        </div>
      </form>
    </Dialog>
  );
}
