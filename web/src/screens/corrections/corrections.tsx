/** Suspicious values, each in its context: accept, change or dismiss, one by one or many at once. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo, useRef, useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { oneSeries, search } from '../../api/queries';
import { useReader } from '../../api/roles';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { contextOptions } from '../../charts/context';
import { count, fixed, when } from '../../ui/format';
import { Page } from '../../ui/page';
import { Empty, Failed, Loading, Refused } from '../../ui/states';
import { typing } from '../../ui/typing';
import { IntakeTabs } from '../intake/tabs';
import { above, isChange, nextOpen, type Replace, replacements, type Suspicion, sentence } from './decide';
import { MarkForm } from './mark';
import { DEFAULT_RULES, RULE_LABELS, type Rules, RulesForm } from './rules';

const STATES = { open: '', accepted: 'corrected', dismissed: 'left as it is' } as const;

export interface Decision {
  decision: Schema['DecisionEnum'];
  ids: number[];
  replace?: Replace;
  value?: number | null;
  reason?: string;
}

export function Corrections() {
  const portfolio = Number(useParams().portfolio);
  const client = useQueryClient();
  const reader = useReader();
  const found = useQuery(search(portfolio));
  const [rules, setRules] = useState<Rules | null>(null);
  const look = useMutation({
    mutationFn: (chosen: Rules) =>
      body(api.POST('/api/portfolios/{id}/searches/', { params: { path: { id: portfolio } }, body: chosen })),
    onSuccess: (made) => client.setQueryData(search(portfolio).queryKey, made),
  });
  if (found.isPending) return <Loading what="suspicious values" />;
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  const kept = found.data;
  const chosen = rules ?? kept?.rules ?? DEFAULT_RULES;
  return (
    <Page title="Intake › Corrections" actions={<IntakeTabs portfolio={portfolio} />}>
      <div className="flex h-full flex-col">
        <details className="border-b border-rule px-[18px] py-2" open={kept === null}>
          <summary className="cursor-pointer text-[13px]">
            <b>Rules</b>{' '}
            <span className="text-second">
              {kept
                ? `${count(kept.n_found)} found by ${kept.made_by}, ${when(kept.made_at)}${kept.is_current ? '' : '; history has grown since, look again'}`
                : 'nothing has been looked for yet'}
            </span>
          </summary>
          <div className="flex items-end gap-6 pt-2">
            <RulesForm rules={chosen} onChange={setRules} />
            <button
              type="button"
              className="btn btn-sm btn-primary"
              disabled={look.isPending || (chosen.find ?? []).length === 0}
              {...reader}
              onClick={() => look.mutate(chosen)}
            >
              {look.isPending ? 'Looking …' : 'Look for them'}
            </button>
          </div>
          <Refused of={[look]} />
        </details>
        <MarkForm portfolio={portfolio} />
        {kept && kept.found.length > 0 && <Desk key={kept.id} portfolio={portfolio} kept={kept} />}
        {kept?.found.length === 0 && (
          <Empty title="Nothing suspicious">These rules find nothing in the history as it is.</Empty>
        )}
      </div>
    </Page>
  );
}

/** How many values a state holds, where runs among them make these more than what is counted; the Ledger counts values. */
function inValues(kept: Schema['Search'], state: Schema['Suspicion']['state']): string {
  const n = kept.values[state] ?? 0;
  return n > (kept.counts[state] ?? 0) ? ` (${count(n)} values)` : '';
}

function Desk({ portfolio, kept }: { portfolio: number; kept: Schema['Search'] }) {
  const client = useQueryClient();
  const reader = useReader();
  const [at, setAt] = useState(kept.found[0]?.id ?? 0);
  const [replace, setReplace] = useState<Replace | null>(null);
  const [value, setValue] = useState('');
  const [reason, setReason] = useState('');
  const [bulk, setBulk] = useState('8');
  const [asked, setAsked] = useState(false);
  const current = kept.found.find((one) => one.id === at) ?? kept.found[0];
  const decide = useMutation({
    mutationFn: (decision: Decision) =>
      body(
        api.POST('/api/searches/{id}/decisions/', {
          params: { path: { id: kept.id } },
          body: { replace: 'expected', ...decision },
        }),
      ),
    onSuccess: (_, decision) => {
      const state = { accept: 'accepted', dismiss: 'dismissed', reopen: 'open' } as const;
      const ids = new Set(decision.ids);
      client.setQueryData(search(portfolio).queryKey, (old: Schema['Search'] | null | undefined) => {
        if (!old) return old;
        const list = old.found.map((one) =>
          ids.has(one.id) ? { ...one, state: state[decision.decision] } : one,
        );
        // the list is cut off at the first thousands: what has changed moves the counts, which are of all
        const counts = { ...old.counts };
        const values = { ...old.values };
        for (const one of old.found) {
          if (!ids.has(one.id)) continue;
          counts[one.state] = (counts[one.state] ?? 0) - 1;
          const to = state[decision.decision];
          counts[to] = (counts[to] ?? 0) + 1;
          values[one.state] = (values[one.state] ?? 0) - one.length;
          values[to] = (values[to] ?? 0) + one.length;
        }
        return { ...old, found: list, counts, values };
      });
      for (const key of ['series', 'ledger', 'kinds'])
        client.invalidateQueries({ queryKey: [key, portfolio] });
      setReplace(null);
      setValue('');
      if (decision.decision !== 'reopen' && decision.ids.length === 1) {
        const next = nextOpen(kept.found, decision.ids[0] ?? 0);
        if (next !== null) setAt(next);
      }
    },
  });
  const offers = current ? replacements(current) : [];
  const picked: Replace = replace ?? offers[0]?.replace ?? 'unknown';
  const accept = (ids: number[]) => {
    if (value.trim() !== '' && ids.length === 1)
      decide.mutate({ decision: 'accept', ids, replace: 'value', value: Number(value), reason });
    else decide.mutate({ decision: 'accept', ids, replace: picked, reason });
  };
  const press = useRef<(event: KeyboardEvent) => void>(() => {});
  press.current = (event) => {
    if (!current || typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    const place = kept.found.indexOf(current);
    const go = (step: number) => {
      const to = kept.found[place + step];
      if (to) setAt(to.id);
    };
    const offer = offers[Number(event.key) - 1];
    if (event.key === 'j' || event.key === 'ArrowDown') go(1);
    else if (event.key === 'k' || event.key === 'ArrowUp') go(-1);
    else if (event.key === 'a' && current.state === 'open' && isChange(current)) accept([current.id]);
    else if (event.key === 'd' && current.state === 'open')
      decide.mutate({ decision: 'dismiss', ids: [current.id] });
    else if (event.key === 'o' && current.state === 'dismissed')
      decide.mutate({ decision: 'reopen', ids: [current.id] });
    else if (offer) setReplace(offer.replace);
    else return;
    event.preventDefault();
  };
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => press.current(event);
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
  const many = above(kept.found, Number(bulk) || 0);
  const mine = current
    ? above(
        kept.found.filter((one) => one.series === current.series),
        0,
      )
    : [];
  return (
    <div className="flex min-h-0 flex-1">
      <div className="flex w-[560px] shrink-0 flex-col border-r border-rule">
        <div className="flex items-center gap-3 border-b border-rule px-3 py-1.5 text-[13px]">
          <span>
            <b>{count(kept.counts.open ?? 0)}</b> open
            {inValues(kept, 'open')}, {count(kept.counts.accepted ?? 0)} corrected
            {inValues(kept, 'accepted')}, {count(kept.counts.dismissed ?? 0)} left
          </span>
          <label className="ml-auto flex items-center gap-1.5">
            score from
            <input
              type="number"
              className="input input-xs w-[58px] text-right"
              value={bulk}
              step="0.5"
              onChange={(event) => setBulk(event.target.value)}
            />
          </label>
          <button
            type="button"
            className="btn btn-xs"
            disabled={many.length === 0 || decide.isPending}
            onClick={() => setAsked(true)}
          >
            Accept {count(many.length)} …
          </button>
        </div>
        {asked && (
          <p role="alert" className="flex items-center gap-3 border-b border-rule px-3 py-1.5 text-[13px]">
            Replace {count(many.length)} {many.length === 1 ? 'value or run' : 'values or runs'} by what was
            expected? Each can be reverted in the Ledger.
            <button
              type="button"
              className="btn btn-xs btn-primary ml-auto"
              {...reader}
              onClick={() => {
                setAsked(false);
                decide.mutate({ decision: 'accept', ids: many, replace: 'expected', reason });
              }}
            >
              Yes, accept {count(many.length)}
            </button>
            <button type="button" className="btn btn-xs" onClick={() => setAsked(false)}>
              Cancel
            </button>
          </p>
        )}
        <List list={kept.found} at={current?.id ?? 0} onPick={setAt} />
      </div>
      {current && (
        <section
          aria-label="The value in its context"
          className="min-w-0 flex-1 space-y-3 overflow-auto p-[18px]"
        >
          <div className="flex items-baseline gap-4">
            <h2 className="text-base font-semibold">
              <Link className="hover:underline" to={`/p/${portfolio}/intake/series/${current.series}`}>
                {current.name}
              </Link>
              , {current.period}
            </h2>
            <span className="text-second">score {fixed(current.score, 1)}</span>
            {current.state !== 'open' && <span className="text-accent">{STATES[current.state]}</span>}
          </div>
          <p className="max-w-prose">{sentence(current)}</p>
          <Context
            portfolio={portfolio}
            current={current}
            proposal={offers.find((o) => o.replace === picked)?.value ?? null}
          />
          {isChange(current) && current.state === 'open' && (
            <fieldset className="flex flex-wrap items-center gap-x-4 gap-y-2 text-[13px]">
              <legend className="float-left mr-2 text-second">Replace by</legend>
              {offers.map((offer, i) => (
                <label key={offer.replace} className="flex items-center gap-1.5">
                  <input
                    type="radio"
                    name="replace"
                    className="radio radio-xs"
                    checked={picked === offer.replace && value.trim() === ''}
                    onChange={() => {
                      setReplace(offer.replace);
                      setValue('');
                    }}
                  />
                  {offer.label} <kbd className="kbd kbd-xs">{i + 1}</kbd>
                </label>
              ))}
              {offers.length > 1 && (
                <label className="flex items-center gap-1.5">
                  or a value
                  <input
                    className="input input-xs w-[80px] text-right"
                    inputMode="decimal"
                    value={value}
                    onChange={(event) => setValue(event.target.value)}
                  />
                </label>
              )}
              <label className="flex items-center gap-1.5">
                reason
                <input
                  className="input input-xs w-[220px]"
                  placeholder={RULE_LABELS[current.rule]}
                  value={reason}
                  onChange={(event) => setReason(event.target.value)}
                />
              </label>
            </fieldset>
          )}
          <div className="flex items-center gap-3">
            {current.state === 'open' && isChange(current) && (
              <button
                type="button"
                className="btn btn-sm btn-primary"
                disabled={decide.isPending}
                {...reader}
                onClick={() => accept([current.id])}
              >
                Accept <kbd className="kbd kbd-xs">a</kbd>
              </button>
            )}
            {current.state === 'open' && (
              <button
                type="button"
                className="btn btn-sm"
                disabled={decide.isPending}
                {...reader}
                onClick={() => decide.mutate({ decision: 'dismiss', ids: [current.id] })}
              >
                Leave it as it is <kbd className="kbd kbd-xs">d</kbd>
              </button>
            )}
            {current.state === 'dismissed' && (
              <button
                type="button"
                className="btn btn-sm"
                onClick={() => decide.mutate({ decision: 'reopen', ids: [current.id] })}
              >
                Open again <kbd className="kbd kbd-xs">o</kbd>
              </button>
            )}
            {current.state === 'accepted' && (
              <Link
                className="link text-[13px]"
                to={`/p/${portfolio}/intake/ledger?key=${encodeURIComponent(current.name)}`}
              >
                in the ledger, where it can be reverted
              </Link>
            )}
            {mine.length > 1 && (
              <button
                type="button"
                className="btn btn-sm btn-ghost"
                disabled={decide.isPending}
                {...reader}
                onClick={() => decide.mutate({ decision: 'accept', ids: mine, replace: 'expected', reason })}
              >
                Accept all {mine.length} of this series
              </button>
            )}
          </div>
          <Refused of={[decide]} also="Nothing was changed." />
        </section>
      )}
    </div>
  );
}

function List({ list, at, onPick }: { list: Suspicion[]; at: number; onPick: (id: number) => void }) {
  const row = useRef<HTMLTableRowElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the row follows the choice
  useEffect(() => {
    row.current?.scrollIntoView?.({ block: 'nearest' });
  }, [at]);
  return (
    <div className="min-h-0 flex-1 overflow-auto">
      <table className="sheet">
        <thead>
          <tr>
            <th>Series</th>
            <th>Period</th>
            <th>Rule</th>
            <th className="num">Received</th>
            <th className="num">Expected</th>
            <th className="num">Score</th>
          </tr>
        </thead>
        <tbody>
          {list.map((one) => (
            <tr
              key={one.id}
              ref={one.id === at ? row : undefined}
              aria-current={one.id === at}
              className={`cursor-pointer ${one.id === at ? 'bg-raised' : ''} ${one.state === 'open' ? '' : 'text-second'}`}
              onClick={() => onPick(one.id)}
            >
              <td>
                <button
                  type="button"
                  className="block max-w-[168px] cursor-pointer truncate text-left"
                  title={one.name}
                  onClick={() => onPick(one.id)}
                >
                  {one.name}
                </button>
                {one.state !== 'open' && <span className="block text-xs">{STATES[one.state]}</span>}
              </td>
              <td className="whitespace-nowrap">
                {one.period}
                {one.length > 1 && one.rule !== 'level-shift' ? ` +${one.length - 1}` : ''}
              </td>
              <td className="whitespace-nowrap">{RULE_LABELS[one.rule]}</td>
              <td className="num">{fixed(one.received, 0)}</td>
              <td className="num">{fixed(one.expected, 0)}</td>
              <td className="num">{one.rule === 'out-of-stock' ? '–' : fixed(one.score, 1)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Context({
  portfolio,
  current,
  proposal,
}: {
  portfolio: number;
  current: Suspicion;
  proposal: number | null;
}) {
  const history = useQuery(oneSeries(portfolio, current.series));
  const colours = useColours();
  const options = useMemo(
    () =>
      history.data &&
      contextOptions(
        history.data,
        { ...current, proposal: current.state === 'open' ? proposal : null },
        colours,
      ),
    [history.data, current, proposal, colours],
  );
  if (history.isError) return <Failed error={history.error} />;
  if (!options) return <Loading what="the series" />;
  return (
    <>
      <p className="text-second">{history.data?.labels.join(' × ')}</p>
      <Chart
        className="h-[300px]"
        options={options}
        label={`${current.name} around ${current.period}: ${sentence(current)}`}
      />
    </>
  );
}
