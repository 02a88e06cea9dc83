/** One node: its picture, why its method was chosen, and how each method did. */
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import type { Schema } from '../../api/client';
import { Chart, type Instance } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { Key } from '../../charts/key';
import { hits, isAdjusted, type Span, seriesOptions, spansOf } from '../../charts/series';
import { Comments } from '../../ui/comments';
import { fixed, periods, share, signed } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { typing } from '../../ui/typing';
import { AdjustedBy } from '../adjust/adjusted-by';
import { begun, changesOf, type Draft } from '../adjust/draft';
import { AdjustForm, usePreview } from '../adjust/form';
import { AdjustHandles, type Handle } from '../adjust/handles';
import { DriversPage } from './drivers';
import { ErrorMap } from './error-map';
import { kindSentence } from './explain';
import { FitPage } from './fit';
import { fittedMethod } from './fitted';
import { MethodPanel } from './found';
import { LookPage } from './look';
import { OriginForms } from './origin-forms';
import { OriginHandle, type Tick } from './origin-handle';
import { PublishedTable } from './published-table';
import { node as nodeQuery, parts as partsQuery, releasesOf, tested as testedQuery } from './queries';
import { Taken } from './taken';
import { TryIt } from './try-it';
import { WorkingsPage } from './workings';

type Node = Schema['Node'];

const SPANS: Record<Span, string> = {
  near: 'near',
  1: '1 season',
  2: '2 seasons',
  origins: 'since the first origin',
  all: 'all',
};

const PAGES = [
  { value: 'forecast', label: 'Forecast' },
  { value: 'look', label: 'Look' },
  { value: 'fit', label: 'Fit' },
  { value: 'drivers', label: 'Drivers' },
  { value: 'try', label: 'Try it' },
  { value: 'workings', label: 'Workings' },
] as const;

export function Series() {
  const { portfolio, study, node } = useParams();
  const data = useQuery({ ...nodeQuery(Number(study), node ?? 'top'), placeholderData: keepPreviousData });
  if (data.isPending) return <Loading what="the series" />;
  if (data.isError) return <Failed error={data.error} retry={() => void data.refetch()} />;
  return (
    <NodeView
      key={data.data.node}
      node={data.data}
      study={Number(study)}
      portfolio={Number(portfolio)}
      base={`/p/${portfolio}/s/${study}/series`}
    />
  );
}

function NodeView({
  node,
  study,
  portfolio,
  base,
}: {
  node: Node;
  study: number;
  portfolio: number;
  base: string;
}) {
  const navigate = useNavigate();
  const [search, setSearch] = useSearchParams();
  const released = useQuery(releasesOf(study, node.node)).data;
  const origins = useMemo(() => withReleases(node.origins, released ?? []), [node, released]);
  const { spans, first } = spansOf(node);
  const adjusting = search.get('adjust') !== null;
  const span = spans.find((one) => one === search.get('span')) ?? (adjusting ? 'near' : first);
  const wanted = origins.findIndex((one) => originKey(one) === search.get('origin'));
  const chosen = wanted >= 0 ? wanted : null;
  const tested = node.origins.findIndex((one) => one.period === search.get('origin'));
  const set = useCallback(
    (changes: Record<string, string | null>, replace = true) =>
      setSearch(
        (before) => {
          for (const [name, value] of Object.entries(changes)) {
            if (value === null) before.delete(name);
            else before.set(name, value);
          }
          return before;
        },
        { replace },
      ),
    [setSearch],
  );
  const go = useCallback(
    (to: string | null) => {
      if (to !== null) navigate({ pathname: `${base}/${to}`, search: window.location.search });
    },
    [navigate, base],
  );
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === 'j') go(node.next);
      if (event.key === 'k') go(node.previous);
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [go, node.previous, node.next]);
  const page = PAGES.find((one) => one.value === search.get('page'))?.value ?? 'forecast';
  const adjust = useAdjusting(study, node, adjusting);
  const title = <Trail node={node} base={base} />;
  const actions = (
    <>
      <Choice
        label=""
        options={PAGES}
        value={page}
        onChange={(to) => set({ page: to === 'forecast' ? null : to }, false)}
      />
      <span className="flex items-center gap-2 text-[13px] text-second">
        <button
          type="button"
          className="btn btn-xs btn-ghost"
          disabled={node.previous === null}
          onClick={() => go(node.previous)}
        >
          ‹ k
        </button>
        {node.place} of {node.n_on_level}
        <button
          type="button"
          className="btn btn-xs btn-ghost"
          disabled={node.next === null}
          onClick={() => go(node.next)}
        >
          j ›
        </button>
      </span>
    </>
  );
  if (page === 'try')
    return <TryIt study={study} portfolio={portfolio} node={node} title={title} actions={actions} />;
  if (page === 'look') return <LookPage study={study} node={node} title={title} actions={actions} />;
  if (page === 'fit')
    return <FitPage study={study} portfolio={portfolio} node={node} title={title} actions={actions} />;
  if (page === 'drivers') return <DriversPage study={study} node={node} title={title} actions={actions} />;
  if (page === 'workings') return <WorkingsPage study={study} node={node} title={title} actions={actions} />;
  return (
    <Page
      title={title}
      actions={actions}
      aside={
        <>
          <Why study={study} node={node} />
          <div className="mt-5">
            <Comments portfolio={portfolio} study={study} node={node.node} />
          </div>
        </>
      }
    >
      <div className="p-[18px]">
        <Picture
          node={adjust.shown}
          origins={origins}
          span={span}
          chosen={chosen}
          onDrag={adjusting ? adjust.type : undefined}
          onSpan={(value) => set({ span: value })}
          onOrigin={(index) => {
            const to = index === null ? undefined : origins[index];
            set({ origin: to ? originKey(to) : null });
          }}
        />
        <OriginLine node={node} origins={origins} chosen={chosen} />
        <AdjustedBy node={node} portfolio={portfolio} />
        {adjusting && (
          <AdjustForm
            portfolio={portfolio}
            study={study}
            of={node.name}
            ahead={adjust.ahead}
            draft={adjust.draft}
            setDraft={adjust.setDraft}
            changes={adjust.changes}
            laid={adjust.laid}
            problem={adjust.problem}
            close={() => {
              adjust.setDraft(null);
              set({ adjust: null });
            }}
          />
        )}
        <PublishedTable
          study={study}
          node={adjust.shown}
          typed={adjusting ? adjust.draft.typed : undefined}
          onType={adjust.typeAll}
          adjust={adjusting ? undefined : () => set({ adjust: '1' })}
        />
        <ErrorMap
          node={node}
          chosen={tested >= 0 ? tested : null}
          onOrigin={(index) => set({ origin: node.origins[index]?.period ?? null })}
        />
        <Methods node={node} />
        <PartsOf study={study} node={node} />
        {node.searched && node.method && <FormsSince study={study} node={node} method={node.method} />}
      </div>
    </Page>
  );
}

/** An origin of the backtest, or a release. */
type Shown = Schema['Origin'] & { release?: number };

/** How far a release stands from the place of its origin, which a tested one may have. */
const BESIDE = 9;

const originKey = (one: Shown) => (one.release ? `R${one.release}` : one.period);

function withReleases(origins: Schema['Origin'][], releases: Schema['ReleaseOrigin'][]): Shown[] {
  const published = releases.map((one) => ({ ...one, method: null, brief: '' }));
  return [...origins, ...published].sort((a, b) => a.at - b.at);
}

/** What is being changed about a node, and the node as it would be. */
function useAdjusting(study: number, node: Node, open: boolean) {
  const ahead = useMemo(() => node.periods.slice(node.n_past), [node]);
  const [kept, setDraft] = useState<Draft | null>(null);
  const draft = useMemo(() => kept ?? begun(ahead.length), [kept, ahead]);
  const changes = useMemo(
    () => (open ? changesOf(draft, [node.node], ahead) : []),
    [open, draft, node, ahead],
  );
  const { laid, problem } = usePreview(study, changes);
  const shown = useMemo(
    () => (laid ? { ...node, forecast: laid.after, bands: laid.bands } : node),
    [node, laid],
  );
  const typeAll = (typed: Record<number, string>) =>
    setDraft({ ...draft, typed: { ...draft.typed, ...typed } });
  const type = (lead: number, value: number) =>
    typeAll({
      [lead]: String(Math.round(value * 100) / 100 >= 20 ? Math.round(value) : Math.round(value * 10) / 10),
    });
  return { ahead, draft, setDraft, changes, laid, shown, problem, type, typeAll };
}

function Trail({ node, base }: { node: Node; base: string }) {
  return (
    <span>
      {node.trail.map((way, d) => (
        <span key={way[0]?.name}>
          {d > 0 && <span className="mx-2 font-normal text-second">×</span>}
          {way.slice(way.length > 1 ? 1 : 0).map((step, i, all) =>
            i === all.length - 1 ? (
              <span key={step.node}>
                {step.name}
                {step.code && (
                  <span className="ml-1.5 hidden text-xs font-normal text-second xl:inline">{step.code}</span>
                )}
              </span>
            ) : (
              <span key={step.node} className="font-normal">
                <Link className="text-sm text-second hover:underline" to={`${base}/${step.node}`}>
                  {step.name}
                </Link>
                <span className="text-second"> › </span>
              </span>
            ),
          )}
        </span>
      ))}
    </span>
  );
}

function Picture({
  node,
  origins,
  span,
  chosen,
  onDrag,
  onSpan,
  onOrigin,
}: {
  node: Node;
  origins: Shown[];
  span: Span;
  chosen: number | null;
  /** Where the forecast can be dragged. */
  onDrag: ((lead: number, value: number) => void) | undefined;
  onSpan: (span: Span) => void;
  onOrigin: (index: number | null) => void;
}) {
  const colours = useColours();
  const origin = chosen === null ? null : (origins[chosen] ?? null);
  const options = useMemo(() => seriesOptions(node, origin, span, colours), [node, origin, span, colours]);
  const [frame, setFrame] = useState<{ ticks: Tick[]; handles: Handle[]; top: number; bottom: number }>();
  const chart = useRef<Instance | null>(null);
  const place = useCallback(() => {
    const made = chart.current;
    if (!made || made.isDisposed()) return;
    const x = (at: number) => made.convertToPixel({ xAxisIndex: 0 }, at) as unknown as number;
    const inside = (px: number) => px >= 50 && px <= made.getWidth() - 50;
    const ticks = origins
      .map((one, index) => ({ index, x: x(one.at) + (one.release ? BESIDE : 0) }))
      .filter((tick) => Number.isFinite(tick.x) && inside(tick.x));
    const handles = node.forecast.flatMap((value, lead) => {
      const at = made.convertToPixel({ xAxisIndex: 0, yAxisIndex: 0 }, [node.n_past + lead, value ?? 0]);
      return at.every(Number.isFinite) ? [{ lead, x: at[0] ?? 0, y: at[1] ?? 0 }] : [];
    });
    setFrame({ ticks, handles, top: 18, bottom: made.getHeight() - 44 });
  }, [node, origins]);
  // releases come later than the picture, and move no line of it
  useEffect(place, [place]);
  const valueAt = useCallback((y: number) => {
    const at = chart.current?.convertFromPixel({ xAxisIndex: 0, yAxisIndex: 0 }, [0, y]);
    return at?.[1] ?? 0;
  }, []);
  const adjusted = isAdjusted(node);
  const unit = periods(node.frequency, 1);
  return (
    <section aria-label="Picture">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <b>Units a {unit}</b>
        <Key colour="var(--color-base-content)" label="sold" />
        <Key colour="var(--forecast)" label={adjusted ? 'statistical forecast' : 'forecast'} />
        {adjusted && <Key colour="var(--color-accent)" label="adjusted" />}
        {node.received && (
          <span className="flex items-center gap-1.5 text-[13px]">
            <span className="inline-block h-2.5 w-2.5 rounded-full border-[1.5px] border-accent" /> as
            received
          </span>
        )}
        {origin && (
          <Key
            colour="var(--color-secondary)"
            label={origin.release ? `as released in R${origin.release}` : `as forecast on ${origin.period}`}
            style="dashed"
          />
        )}
        {origin && <span className="text-[13px] text-second">● inside the widest band ○ outside</span>}
        <span className="ml-auto">
          <Choice
            label=""
            options={spansOf(node).spans.map((value) => ({ value, label: SPANS[value] }))}
            value={span}
            onChange={onSpan}
          />
        </span>
      </div>
      <div className="relative h-[400px]">
        <Chart
          options={options}
          label={`${node.name}: history, forecast and bands`}
          className="h-full w-full"
          onReady={(made) => {
            chart.current = made;
            place();
          }}
          onZoom={place}
        />
        {frame && (
          <OriginHandle
            origins={origins}
            ticks={frame.ticks}
            top={frame.top}
            bottom={frame.bottom}
            chosen={chosen}
            onChoose={onOrigin}
          />
        )}
        {frame && onDrag && (
          <AdjustHandles
            handles={frame.handles}
            ahead={node.periods.slice(node.n_past)}
            values={node.forecast}
            valueAt={valueAt}
            onSet={onDrag}
          />
        )}
      </div>
    </section>
  );
}

function OriginLine({ node, origins, chosen }: { node: Node; origins: Shown[]; chosen: number | null }) {
  const origin = chosen === null ? null : origins[chosen];
  const n = node.forecast.length;
  const unit = periods(node.frequency, n);
  const widest = node.bands[0]?.level;
  if (!origin) {
    return (
      <p className="border-y border-rule py-2 text-second">
        The diamonds under the picture are the {node.origins.length} tested origins
        {origins.length > node.origins.length && ', the squares releases'}. Pick one, or drag across them, to
        see the forecast as it would have been made then, against what came.
      </p>
    );
  }
  if (origin.forecast.every((v) => v === null)) {
    return (
      <p className="border-y border-rule py-2">
        <b>From {origin.period}:</b> there was nothing to forecast from yet.
      </p>
    );
  }
  const { hit, of } = hits(node, origin);
  return (
    <output className="block border-y border-rule py-2">
      <b>
        {origin.release ? `R${origin.release} from ${origin.period}` : `From ${origin.period}, ${n} ${unit}`}:
      </b>{' '}
      error {fixed(origin.wape, 1)} % of volume, {hit} of {of} inside the {widest} % band
      {origin.release
        ? ', as it was published.'
        : `; made with ${origin.brief || 'zero'}, chosen by the errors that had come by then.`}
    </output>
  );
}

function Methods({ node }: { node: Node }) {
  const rows = [...node.scores].sort((a, b) => (a.rmsse ?? 1e9) - (b.rmsse ?? 1e9));
  const best = (key: 'mae' | 'wape' | 'rmsse') =>
    Math.min(...node.scores.map((one) => one[key] ?? Number.POSITIVE_INFINITY));
  const mark = (value: number | null, least: number) =>
    value !== null && value === least ? 'font-semibold' : '';
  return (
    <section aria-labelledby="methods" className="mt-5">
      <div className="mb-1 flex items-center">
        <h2 id="methods" className="mr-auto font-semibold">
          Methods tried, over all origins
        </h2>
        <TableOut
          name="Methods tried"
          head={['Method', 'MAE', 'WAPE %', 'RMSSE', 'Gain %', 'Origins']}
          rows={() =>
            [...rows, { ...node.published, method: 'published' }].map((one) => [
              one.method,
              one.mae,
              one.wape,
              one.rmsse,
              one.gain,
              one.origins,
            ])
          }
        />
      </div>
      <table className="sheet">
        <thead>
          <tr>
            <th>Method</th>
            <th className="num">MAE</th>
            <th className="num">WAPE %</th>
            <th className="num">RMSSE</th>
            <th className="num">Gain %</th>
            <th className="num">Origins</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.method} className={row.method === node.method ? 'bg-raised' : ''}>
              <td className={row.method === node.method ? 'font-semibold' : ''}>
                {row.method}
                {row.method === node.method && <span className="font-normal text-second"> chosen</span>}
              </td>
              <td className={`num ${mark(row.mae, best('mae'))}`}>{fixed(row.mae, 2)}</td>
              <td className={`num ${mark(row.wape, best('wape'))}`}>{fixed(row.wape, 1)}</td>
              <td className={`num ${mark(row.rmsse, best('rmsse'))}`}>{fixed(row.rmsse, 3)}</td>
              <td className="num">{signed(row.gain, 1)}</td>
              <td className="num">{row.origins}</td>
            </tr>
          ))}
          <tr>
            <td>
              published <span className="text-second">reconciled with the other levels</span>
            </td>
            <td className="num">{fixed(node.published.mae, 2)}</td>
            <td className="num">{fixed(node.published.wape, 1)}</td>
            <td className="num">{fixed(node.published.rmsse, 3)}</td>
            <td className="num">{signed(node.published.gain, 1)}</td>
            <td className="num">{node.published.origins}</td>
          </tr>
        </tbody>
      </table>
      <p className="mt-2 max-w-[76ch] text-second">
        Gain is on RMSSE over the seasonal naive, on the origins that both could forecast. What is published
        was judged at each origin with the method chosen by the errors that had come by then.
      </p>
    </section>
  );
}

/** The published forecast taken apart, where a method made it. */
function PartsOf({ study, node }: { study: number; node: Node }) {
  const found = useQuery(partsQuery(study, node.node));
  if (!found.data?.parts.length) return null;
  return <Taken parts={found.data.parts} periods={found.data.periods} />;
}

/** Where the method looks for its form anew each time: what it found at each origin. */
function FormsSince({ study, node, method }: { study: number; node: Node; method: string }) {
  const found = useQuery(testedQuery(study, node.node, [method]));
  const origins = found.data?.[0]?.origins ?? [];
  if (!origins.length) return null;
  return (
    <section aria-labelledby="forms-since" className="mt-5">
      <h2 id="forms-since" className="mb-1 font-semibold">
        What {method} took at each origin
      </h2>
      <OriginForms origins={origins} />
    </section>
  );
}

function Why({ study, node }: { study: number; node: Node }) {
  const own = node.scores.find((one) => one.method === node.method);
  return (
    <div className="space-y-5 text-[13px]">
      <section aria-labelledby="why">
        <h2 id="why" className="mb-1 font-semibold text-second">
          Why this method
        </h2>
        <p>{reason(node, own)}</p>
      </section>
      <section aria-labelledby="kind">
        <h2 id="kind" className="mb-1 font-semibold text-second">
          Kind
        </h2>
        <p>{kindSentence(node.kind, node.frequency)}</p>
      </section>
      <section aria-labelledby="bands">
        <h2 id="bands" className="mb-1 font-semibold text-second">
          Bands in the backtest
        </h2>
        {node.hits.map((one) => (
          <p key={one.level} className="flex justify-between">
            <span className="text-second">inside the {one.level} % band</span>
            <span>{share(one.share)} %</span>
          </p>
        ))}
      </section>
      {fittedMethod(node) !== null && <MethodPanel study={study} node={node} />}
    </div>
  );
}

function reason(node: Node, own: Schema['Score'] | undefined): string {
  const hasPast = node.history.some((value) => value !== null);
  if (node.plan && (node.method === null || !hasPast)) return node.plan;
  return [whyMethod(node, own), node.plan].filter(Boolean).join(' ');
}

function whyMethod(node: Node, own: Schema['Score'] | undefined): string {
  if (node.kept) return `${node.kept.charAt(0).toUpperCase()}${node.kept.slice(1)}.`;
  if (node.method === null)
    return node.kind.words.startsWith('in season only')
      ? 'Sold in season only, and nothing ahead lies in its season: forecast as zero.'
      : `No sale for more than a season: forecast as zero. ${node.reason}`.trim();
  const against =
    !own || own.rmsse === null || own.gain === null || own.method === 'seasonal-naive'
      ? ''
      : `Its error is ${Math.abs(own.gain).toFixed(0)} % ${own.gain < 0 ? 'above' : 'below'} the seasonal naive’s.`;
  return [node.reason, against].filter(Boolean).join(' ');
}
