/** Studies of a portfolio: run one, watch it, stop it, take its recipe. */
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { PAGE, portfolios, search, studies } from '../../api/queries';
import { useReader } from '../../api/roles';
import { count, fixed, seconds, signed, when } from '../../ui/format';
import { Page } from '../../ui/page';
import { Empty, Failed, Loading, Refused } from '../../ui/states';
import { kept } from './queries';
import { ChangeStudy, WhatIf } from './what-if';

type Study = Schema['Study'];

const STATES: Record<Schema['RunStateEnum'], string> = {
  queued: 'in the queue',
  running: 'running',
  stopped: 'stopped',
  failed: 'failed',
  done: 'done',
};

export function isOpen(study: Study): boolean {
  return study.run.state === 'queued' || study.run.state === 'running';
}

/** Ask for something about a study, then look at all studies of the portfolio again. */
function useStudyAction<T>(portfolio: number, action: (input: T) => Promise<unknown>) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: action,
    onSettled: () => client.invalidateQueries({ queryKey: studies(portfolio).queryKey }),
  });
}

/** Studies before the newest, a page at a time from when they are asked for. */
function useEarlier(portfolio: number, newest: Study[] | undefined) {
  const [asked, setAsked] = useState(false);
  const last = newest?.length === PAGE ? newest.at(-1)?.id : undefined;
  const found = useInfiniteQuery({
    queryKey: [...studies(portfolio).queryKey, 'before', last],
    queryFn: ({ pageParam: before }) =>
      body(
        api.GET('/api/portfolios/{id}/studies/', {
          params: { path: { id: portfolio }, query: { before } },
        }),
      ),
    initialPageParam: last ?? 0,
    getNextPageParam: (page) => (page.length < PAGE ? undefined : page.at(-1)?.id),
    enabled: asked && last !== undefined,
  });
  return {
    list: found.data?.pages.flat() ?? [],
    hasMore: last !== undefined && (!asked || found.hasNextPage),
    pending: found.isFetching,
    error: found.error,
    more: () => (asked ? void found.fetchNextPage() : setAsked(true)),
  };
}

export function StudyScreen() {
  const portfolio = Number(useParams().portfolio);
  const reader = useReader();
  const list = useQuery(studies(portfolio));
  const earlier = useEarlier(portfolio, list.data);
  const current = useQuery(portfolios).data?.find((one) => one.id === portfolio);
  const start = useStudyAction(portfolio, () =>
    body(api.POST('/api/portfolios/{id}/studies/', { params: { path: { id: portfolio } }, body: {} })),
  );
  if (list.isPending) return <Loading what="studies" />;
  if (list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  const running = list.data.find(isOpen);
  return (
    <Page
      title={`Study${current ? ` › ${current.name}` : ''}`}
      actions={
        <>
          {current && <WholeUnits portfolio={current} />}
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={running !== undefined || start.isPending}
            {...reader}
            onClick={() => start.mutate(undefined)}
          >
            Run the default recipe
          </button>
        </>
      }
    >
      <div className="max-w-[980px] space-y-6 p-[18px]">
        <Refused of={[start]} />
        {running && <Progress study={running} portfolio={portfolio} />}
        {list.data.length === 0 && <Suspicious portfolio={portfolio} />}
        {list.data.length === 0 ? (
          <Empty title="No study yet">
            The default recipe forecasts every series and every level above it by simple methods, exponential
            smoothing and ARIMA, tests them from several origins of the past, lets each series keep the best
            one, makes all levels add up and puts bands around the result.
          </Empty>
        ) : (
          <StudyTable list={[...list.data, ...earlier.list]} portfolio={portfolio} />
        )}
        {earlier.hasMore && (
          <button type="button" className="btn btn-sm" disabled={earlier.pending} onClick={earlier.more}>
            Earlier studies
          </button>
        )}
        {earlier.error && (
          <p role="alert" className="text-error">
            {earlier.error.message}
          </p>
        )}
        <KeptMethods portfolio={portfolio} />
        {list.data.some((study) => study.run.state === 'done') && (
          <p className="max-w-[90ch] text-second">
            RMSSE and gain over the seasonal naive are of what the study would publish, over its series and
            all origins of its backtest. A task fits one method from one origin to a block of nodes; what an
            earlier study left is used again. The recipe is a text file; <b>tansy run</b> gives the same
            numbers without a screen.
          </p>
        )}
      </div>
    </Page>
  );
}

/** Before the first study: what should be looked at in the history it would learn from. */
function Suspicious({ portfolio }: { portfolio: number }) {
  const open = useQuery(search(portfolio)).data?.counts?.open ?? 0;
  if (open === 0) return null;
  return (
    <p className="max-w-prose border-l-[3px] border-base-content pl-3">
      {count(open)} {open === 1 ? 'value or run' : 'values or runs'} of the history{' '}
      {open === 1 ? 'looks' : 'look'} suspicious. A study takes them as they are until they are{' '}
      <Link to={`/p/${portfolio}/intake/corrections`} className="link">
        decided about in Corrections
      </Link>
      .
    </p>
  );
}

/** Whether studies made from now on round their forecasts. */
function WholeUnits({ portfolio }: { portfolio: Schema['Portfolio'] }) {
  const client = useQueryClient();
  const send = useMutation({
    mutationFn: (whole_units: boolean) =>
      body(
        api.PATCH('/api/portfolios/{id}/', { params: { path: { id: portfolio.id } }, body: { whole_units } }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: portfolios.queryKey }),
  });
  return (
    <>
      <label
        className="flex items-center gap-2 text-[13px]"
        title="Studies made from now on; totals still add up"
      >
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          disabled={portfolio.role !== 'keeper'}
          checked={portfolio.whole_units}
          onChange={(event) => send.mutate(event.target.checked)}
        />
        forecasts in whole units
      </label>
      <Refused of={[send]} />
    </>
  );
}

/** How much of a study was fitted for it, and how much earlier studies had left. */
function tasks({ tasks_computed: computed, tasks_reused: reused }: Study): string {
  if (computed == null || reused == null) return '';
  if (reused === 0) return `${count(computed)} computed`;
  if (computed === 0) return `${count(reused)} used again`;
  return `${count(computed)} computed, ${count(reused)} used again`;
}

function usedBy(nodes: number | null): string {
  if (nodes === null) return 'not seen yet';
  if (nodes === 0) return 'not used: the node is gone, or the method cannot be fitted there';
  return nodes === 1 ? 'used by 1 node' : `used by ${count(nodes)} nodes`;
}

/** Methods that planners settled on, which every new study uses. */
function KeptMethods({ portfolio }: { portfolio: number }) {
  const client = useQueryClient();
  const list = useQuery(kept(portfolio));
  const reader = useReader();
  const withdraw = useMutation({
    mutationFn: (id: number) => body(api.POST('/api/kept/{id}/withdraw/', { params: { path: { id } } })),
    onSettled: () => client.invalidateQueries({ queryKey: kept(portfolio).queryKey }),
  });
  if (!list.data?.length) return null;
  return (
    <section aria-labelledby="kept">
      <h2 id="kept" className="mb-1 text-base font-semibold">
        Methods kept by hand
      </h2>
      <table className="sheet w-full">
        <thead>
          <tr>
            <th>For</th>
            <th>Method</th>
            <th>Reason</th>
            <th>By</th>
            <th>Since</th>
            <th>In the last study</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {list.data.map((one) => (
            <tr key={one.id} className={one.withdrawn_at ? 'text-second' : ''}>
              <td>{one.kind ? `all ${one.kind} series` : one.node}</td>
              <td>{one.method}</td>
              <td>{one.reason}</td>
              <td>{one.made_by}</td>
              <td>{when(one.made_at)}</td>
              <td>{one.withdrawn_at ? '' : usedBy(one.used_by)}</td>
              <td className="text-right">
                {one.withdrawn_at ? (
                  `withdrawn ${when(one.withdrawn_at)}`
                ) : (
                  <button
                    type="button"
                    className="btn btn-xs btn-ghost"
                    aria-label={`Withdraw ${one.method} for ${one.kind ? `all ${one.kind} series` : one.node}`}
                    {...reader}
                    onClick={() => withdraw.mutate(one.id)}
                  >
                    Withdraw
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Refused of={[withdraw]} className="mt-1" />
      <p className="mt-1 text-second">
        Studies made from now on use them; those made before stay as they are.
      </p>
    </section>
  );
}

function Progress({ study, portfolio }: { study: Study; portfolio: number }) {
  const stop = useStudyAction(portfolio, () =>
    body(api.POST('/api/studies/{id}/stop/', { params: { path: { id: study.id } } })),
  );
  const { run } = study;
  const live = useRef<HTMLOutputElement>(null);
  useEffect(() => {
    if (live.current) live.current.textContent = run.step ? `Step: ${run.step}` : 'In the queue';
  }, [run.step]);
  const share = run.of > 0 ? run.done / run.of : null;
  return (
    <section aria-label="Progress" className="border-y border-rule py-4">
      <div className="mb-2 flex items-baseline gap-4">
        <h2 className="text-base font-semibold">{study.name}</h2>
        <span className="text-second">
          {run.state === 'queued' ? 'waiting for the worker' : run.step}
          {share !== null &&
            `: ${count(run.done)} of ${count(run.of)}${run.step === 'fit and backtest' ? ' tasks' : ''}`}
          {run.seconds_left !== null &&
            run.seconds_left > 0 &&
            `, about ${seconds(run.seconds_left)} left for this step`}
        </span>
        <button
          type="button"
          className="btn btn-sm ml-auto"
          disabled={run.stop_requested || stop.isPending}
          onClick={() => stop.mutate(undefined)}
        >
          {run.stop_requested ? 'Stopping …' : 'Stop'}
        </button>
      </div>
      <progress
        className="progress progress-primary w-full"
        aria-label="Share of this step that is done"
        {...(share === null ? {} : { value: share })}
        max={1}
      />
      <output ref={live} className="sr-only" />
      <p className="mt-2 text-second">
        You can close this tab; the study goes on. What was fitted is kept when it is stopped.
      </p>
    </section>
  );
}

/** The two oldest are held against each other node by node, the others drawn beside them. */
function compareAddress(portfolio: number, marked: number[]): string {
  const [one, other, ...also] = [...marked].sort((a, b) => a - b);
  return `/p/${portfolio}/compare/${one}/${other}${also.length ? `?also=${also.join(',')}` : ''}`;
}

function StudyTable({ list, portfolio }: { list: Study[]; portfolio: number }) {
  const again = useStudyAction(portfolio, (id: number) =>
    body(api.POST('/api/studies/{id}/run/', { params: { path: { id } } })),
  );
  const [archived, setArchived] = useState(false);
  const [marked, setMarked] = useState<number[]>([]);
  const [copied, setCopied] = useState<Study | null>(null);
  const [changed, setChanged] = useState<Study | null>(null);
  const put = list.filter((study) => study.archived_at !== null).length;
  const shown = list.filter((study) => archived || study.archived_at === null);
  const mark = (id: number) =>
    setMarked(marked.includes(id) ? marked.filter((one) => one !== id) : [...marked.slice(-3), id]);
  return (
    <section aria-labelledby="studies">
      <div className="mb-1 flex items-center gap-4">
        <h2 id="studies" className="mr-auto text-base font-semibold">
          Studies
        </h2>
        {marked.length > 1 && (
          <Link className="btn btn-sm" to={compareAddress(portfolio, marked)}>
            Compare the {marked.length === 2 ? 'two' : marked.length}
          </Link>
        )}
        {marked.length === 1 && (
          <span className="text-[13px] text-second">Mark another one to compare the two.</span>
        )}
        {put > 0 && (
          <label className="flex items-center gap-2 text-[13px] text-second">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={archived}
              onChange={(event) => setArchived(event.target.checked)}
            />
            {put} archived
          </label>
        )}
      </div>
      <Refused of={[again]} />
      <table className="sheet">
        <thead>
          <tr>
            <th>
              <span className="sr-only">Compare</span>
            </th>
            <th>Study</th>
            <th>Made</th>
            <th className="num">Series</th>
            <th className="num">RMSSE</th>
            <th className="num">Gain %</th>
            <th>History until</th>
            <th>Tasks</th>
            <th>State</th>
            <th>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map((study) => (
            <tr key={study.id} className={study.archived_at ? 'text-second' : ''}>
              <td>
                {study.run.state === 'done' && (
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs"
                    aria-label={`Compare ${study.name} #${study.id}`}
                    checked={marked.includes(study.id)}
                    onChange={() => mark(study.id)}
                  />
                )}
              </td>
              <td>
                {study.run.state === 'done' ? (
                  <Link className="link" to={`/p/${portfolio}/s/${study.id}/field`}>
                    {study.name} #{study.id}
                  </Link>
                ) : (
                  `${study.name} #${study.id}`
                )}
              </td>
              <td>
                {when(study.made_at)} by {study.made_by}
              </td>
              <td className="num">{count(study.n_series)}</td>
              <td className="num">{fixed(study.rmsse, 3)}</td>
              <td className="num">{signed(study.gain, 1)}</td>
              <td>{study.last_period}</td>
              <td>{tasks(study)}</td>
              <td className={study.run.state === 'failed' ? 'text-error' : ''}>
                {study.archived_at ? 'archived' : STATES[study.run.state]}
                {study.run.message && (
                  <span className="block max-w-[300px] text-xs">{study.run.message}</span>
                )}
              </td>
              <td className="space-x-3 text-right whitespace-nowrap">
                {(study.run.state === 'stopped' || study.run.state === 'failed') && (
                  <button type="button" className="btn btn-xs" onClick={() => again.mutate(study.id)}>
                    Run it again
                  </button>
                )}
                <button type="button" className="link" onClick={() => setCopied(study)}>
                  what if
                </button>
                <a className="link" href={`/api/studies/${study.id}/recipe/`} download>
                  recipe
                </a>
                <button
                  type="button"
                  className="link"
                  aria-label={`Rename, archive or delete ${study.name} #${study.id}`}
                  onClick={() => setChanged(study)}
                >
                  …
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {copied && <WhatIf study={copied} portfolio={portfolio} close={() => setCopied(null)} />}
      {changed && <ChangeStudy study={changed} portfolio={portfolio} close={() => setChanged(null)} />}
    </section>
  );
}
