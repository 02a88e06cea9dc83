/** Fit: ARIMA by hand beside what the search finds. Coefficients, roots, residuals, judgement, and the comparison. */
import {
  keepPreviousData,
  type UseQueryResult,
  useQueries,
  useQuery,
  useQueryClient,
} from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import type { Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { errorsOptions, modelsOptions } from '../../charts/over-time';
import { diagonal, pointsOptions } from '../../charts/points';
import { boxOptions, stemOptions } from '../../charts/stems';
import { fixed, pValue } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { Chips, NAMES } from './chips';
import { parameterName } from './explain';
import { FitControls } from './fit-controls';
import { Keep } from './keep';
import { ordersOf } from './orders';
import { fit as fitQuery, tested as testedQuery } from './queries';
import { RootsPicture } from './roots';

type Node = Schema['Node'];
type Fit = Schema['Fit'];
type Diagnosis = Schema['Diagnosis'];

const SEARCH = 'arima(best)';
const WEAK = 0.05;
/** Seasons of the past in the picture that compares. */
const SHOWN = 2;

const NOTHING: string[] = [];

/** What all fits found as one thing, which stays the same while they do. */
function together(results: UseQueryResult<Fit>[]) {
  return {
    data: results.map((one) => one.data),
    states: results.map((one) => ({ pending: one.isPending, error: one.error })),
  };
}

export function FitPage({
  study,
  portfolio,
  node,
  title,
  actions,
}: {
  study: number;
  portfolio: number;
  node: Node;
  title: React.ReactNode;
  actions: React.ReactNode;
}) {
  const client = useQueryClient();
  const own = node.method?.includes('arima(') ? node.method : null;
  const [texts, setTexts] = useState<string[]>([own ?? 'arima(1,0,1)']);
  const [active, setActive] = useState(0); // as many as there are texts: the search
  const [keeping, setKeeping] = useState(false);
  const season = node.season_length;
  const all = useMemo(() => [...texts, SEARCH], [texts]);
  const { data: fits, states } = useQueries({
    queries: all.map((text) => ({ ...fitQuery(study, node.node, text), placeholderData: keepPreviousData })),
    combine: together,
  });
  const current = fits[active];
  const state = states[active];
  const name = (i: number) => (NAMES[i] && i < texts.length ? NAMES[i] : 'Search');
  const change = (text: string) => setTexts((was) => was.map((one, i) => (i === active ? text : one)));
  const resolved = current?.fit.model;
  return (
    <Page
      title={title}
      actions={actions}
      aside={
        <div className="space-y-4">
          <section aria-labelledby="orders">
            <h2 id="orders" className="mb-2 text-[13px] font-semibold text-second">
              {active < texts.length ? `Model ${name(active)}` : 'What the search chose'}
            </h2>
            {active < texts.length ? (
              <FitControls
                text={texts[active] ?? ''}
                season={season}
                known={current?.drivers ?? NOTHING}
                onChange={change}
              />
            ) : (
              <SearchPanel
                found={current}
                onTry={(text) => {
                  setTexts((was) =>
                    was.length < NAMES.length ? [...was, text] : [...was.slice(0, -1), text],
                  );
                  setActive(Math.min(texts.length, NAMES.length - 1));
                }}
              />
            )}
          </section>
          <button
            type="button"
            className="btn btn-sm btn-primary w-full"
            disabled={!resolved}
            onClick={() => setKeeping(true)}
          >
            Keep {active < texts.length ? name(active) : 'the search'} …
          </button>
        </div>
      }
    >
      <div className="p-[18px]">
        <div className="mb-2 flex flex-wrap items-center gap-2">
          <Chips
            texts={texts}
            active={active}
            fallback="arima(1,0,1)"
            extra={{ name: 'Search', text: fits[texts.length]?.fit.model ?? '…' }}
            onTexts={setTexts}
            onActive={setActive}
          />
        </div>
        {state?.pending && <Loading what="the fit" />}
        {state?.error && (
          <Failed
            error={state.error}
            retry={() => void client.invalidateQueries({ queryKey: ['fit', study, node.node] })}
          />
        )}
        {current &&
          !state?.error &&
          (current.diagnosis ? (
            <Glass found={current} diagnosis={current.diagnosis} season={season} />
          ) : (
            <p role="alert" className="py-6 text-error">
              {current.fit.problem || 'This model cannot be fitted to this series.'}
            </p>
          ))}
        <Compare study={study} node={node} texts={all} fits={fits} active={active} />
      </div>
      {keeping && resolved && (
        <Keep
          study={study}
          portfolio={portfolio}
          node={node}
          method={all[active] ?? ''}
          close={() => setKeeping(false)}
        />
      )}
    </Page>
  );
}

/** One model under the glass. */
function Glass({ found, diagnosis, season }: { found: Fit; diagnosis: Diagnosis; season: number }) {
  return (
    <>
      <section aria-label="Judgement" className="mb-3 border-y border-rule py-2">
        <ul className="space-y-1">
          {diagnosis.judgement.map((sentence) => (
            <li key={sentence}>{sentence}</li>
          ))}
          {diagnosis.judgement.length === 0 && <li>Too few values to judge by.</li>}
        </ul>
        {found.fit.notes?.map((text) => (
          <p key={text} className="mt-1 text-[13px] text-second">
            {text}
          </p>
        ))}
      </section>
      <div className="flex flex-wrap items-start gap-x-8 gap-y-3">
        <Coefficients rows={diagnosis.coefficients} />
        {diagnosis.roots.length > 0 && (
          <figure>
            <figcaption className="text-[13px]">
              <b>Roots</b> <span className="text-second">● of φ □ of θ, reciprocals</span>
            </figcaption>
            <RootsPicture roots={diagnosis.roots} />
          </figure>
        )}
        <Criteria found={found} />
      </div>
      <Residuals found={found} diagnosis={diagnosis} season={season} />
      {diagnosis.estimated.length > 1 && <Correlation of={diagnosis} />}
    </>
  );
}

function digitsOf(value: number): number {
  const size = Math.abs(value);
  return size >= 100 ? 1 : size >= 10 ? 2 : 3;
}

function Coefficients({ rows }: { rows: Schema['Coefficient'][] }) {
  const weak = rows.some((row) => row.p !== null && row.p > WEAK);
  return (
    <section aria-labelledby="coefficients" className="min-w-[330px]">
      <h2 id="coefficients" className="mb-1 text-[13px] font-semibold">
        Coefficients
      </h2>
      <table className="sheet">
        <thead>
          <tr>
            <th>Name</th>
            <th className="num">Value</th>
            <th className="num">Std. error</th>
            <th className="num">z</th>
            <th className="num">p</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.name} className={row.p !== null && row.p > WEAK ? 'text-second' : ''}>
              <td title={parameterName(row.name)}>{row.name}</td>
              <td className="num">{fixed(row.value, digitsOf(row.value))}</td>
              <td className="num">{row.error === null ? 'given' : fixed(row.error, digitsOf(row.error))}</td>
              <td className="num">{fixed(row.z, 1)}</td>
              <td className="num">{pValue(row.p)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {weak && (
        <p className="mt-1 max-w-[44ch] text-xs text-second">
          Grey: p above {WEAK}. Had the true coefficient been zero, one as far from it would come up more
          often than one time in twenty.
        </p>
      )}
    </section>
  );
}

function Criteria({ found }: { found: Fit }) {
  const c = found.fit.criteria ?? {};
  const rows: [string, number | null | undefined][] = [
    ['log-likelihood', c.loglik],
    ['AIC', c.aic],
    ['AICc', c.aicc],
    ['BIC', c.bic],
    ['σ²', c.sigma2],
  ];
  const v = found.variance;
  return (
    <section aria-labelledby="criteria">
      <h2 id="criteria" className="mb-1 text-[13px] font-semibold">
        {v ? 'Analysis of variance' : 'Criteria'}
      </h2>
      {v && (
        <table className="sheet mb-2">
          <thead>
            <tr>
              <th />
              <th className="num">Sum of squares</th>
              <th className="num">df</th>
            </tr>
          </thead>
          <tbody>
            <tr>
              <td>drivers</td>
              <td className="num">{fixed(v.explained, 1)}</td>
              <td className="num">{v.explained_freedom}</td>
            </tr>
            <tr>
              <td>rest</td>
              <td className="num">{fixed(v.rest, 1)}</td>
              <td className="num">{v.rest_freedom}</td>
            </tr>
            <tr>
              <td colSpan={3}>
                F {fixed(v.f, 1)}, p {pValue(v.p)}; R² {fixed(v.r_squared, 3)}, adjusted{' '}
                {fixed(v.adjusted, 3)}
              </td>
            </tr>
          </tbody>
        </table>
      )}
      <dl className="w-[170px] text-[13px]">
        {rows.map(([name, value]) => (
          <div key={name} className="flex justify-between border-b border-rule py-[5px]">
            <dt className="text-second">{name}</dt>
            <dd>{fixed(value, Math.abs(value ?? 0) < 10 ? 3 : 1)}</dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

function Residuals({ found, diagnosis, season }: { found: Fit; diagnosis: Diagnosis; season: number }) {
  const colours = useColours();
  const past = useMemo(() => found.periods.slice(0, found.n_past), [found]);
  const pictures = useMemo(
    () => [
      {
        name: 'Errors over time',
        note: 'in standard deviations',
        options: errorsOptions(diagnosis.standardised, past, colours),
      },
      {
        name: 'ACF of the errors',
        note: 'what is left of the past, by lag',
        options: stemOptions(diagnosis.acf, diagnosis.noise, season, 'ACF', colours),
      },
      {
        name: 'Ljung-Box',
        note: 'p of all lags up to each; in the shade not noise',
        options: boxOptions(diagnosis.box_p, colours),
      },
      {
        name: 'Normal quantiles',
        note: 'errors against the normal',
        options: pointsOptions(
          diagnosis.expected,
          diagnosis.sorted_errors,
          diagonal(diagnosis.expected, diagnosis.sorted_errors),
          { x: '', y: '' },
          colours,
        ),
      },
    ],
    [diagnosis, past, season, colours],
  );
  return (
    <section aria-label="Residuals" className="mt-4 grid grid-cols-2 gap-x-4 gap-y-2">
      {pictures.map((one) => (
        <figure key={one.name}>
          <figcaption className="text-[13px]">
            <b>{one.name}</b> <span className="text-second">{one.note}</span>
          </figcaption>
          <Chart options={one.options} label={one.name} className="h-[150px] w-full" />
        </figure>
      ))}
    </section>
  );
}

function Correlation({ of }: { of: Diagnosis }) {
  return (
    <details className="mt-3 text-[13px]">
      <summary className="cursor-pointer font-semibold">Correlation of the estimates</summary>
      <div className="mt-1 overflow-auto">
        <table className="sheet">
          <thead>
            <tr>
              <th />
              {of.estimated.map((name) => (
                <th key={name} className="num">
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {of.estimated.map((name, i) => (
              <tr key={name}>
                <td>{name}</td>
                {of.estimated.map((other, j) => (
                  <td
                    key={other}
                    className={`num ${i !== j && Math.abs(of.correlation[i]?.[j] ?? 0) > 0.9 ? 'font-semibold' : ''}`}
                  >
                    {j <= i ? fixed(of.correlation[i]?.[j], 2) : ''}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
        <p className="mt-1 text-second">
          Bold: above 0.9. Two coefficients that go together so far cannot be told apart by these data.
        </p>
      </div>
    </details>
  );
}

function SearchPanel({ found, onTry }: { found: Fit | undefined; onTry: (text: string) => void }) {
  if (!found) return <p className="text-[13px] text-second">Searching …</p>;
  const tried = [...found.search].sort((a, b) => (a.aicc ?? 1e12) - (b.aicc ?? 1e12));
  return (
    <div className="space-y-2 text-[13px]">
      <p className="font-semibold">{found.fit.model}</p>
      <p>{found.fit.words}</p>
      <h3 className="font-semibold text-second">{tried.length} models tried, by AICc</h3>
      <div className="max-h-[320px] overflow-auto">
        <table className="sheet">
          <tbody>
            {tried.map((one) => (
              <tr key={one.model} className={one.refused ? 'text-second' : ''}>
                <td>
                  <button
                    type="button"
                    className="cursor-pointer text-left hover:underline"
                    title={one.refused ? `Refused: ${one.refused}` : 'Put it beside the others'}
                    onClick={() => onTry(one.model)}
                  >
                    {one.model}
                  </button>
                  {one.refused && <span className="block text-xs">refused: {one.refused}</span>}
                </td>
                <td className="num">{fixed(one.aicc, 1)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  );
}

/** Which values a likelihood is of: criteria are compared only where this is the same. */
function basis(model: string | undefined, season: number): string | null {
  if (!model) return null;
  const orders = ordersOf(model, season);
  return orders ? `${orders.scale} ${orders.d} ${orders.D}` : model;
}

function Compare({
  study,
  node,
  texts,
  fits,
  active,
}: {
  study: number;
  node: Node;
  texts: string[];
  fits: (Fit | undefined)[];
  active: number;
}) {
  const colours = useColours();
  const names = useMemo(() => [...NAMES.slice(0, texts.length - 1), 'Search'], [texts.length]);
  const tested = useQuery({ ...testedQuery(study, node.node, texts), placeholderData: keepPreviousData });
  const first = fits.find((one) => one !== undefined);
  const from = first ? Math.max(0, first.n_past - SHOWN * Math.max(node.season_length, 12)) : 0;
  const options = useMemo(
    () =>
      first
        ? modelsOptions(
            first.periods,
            first.history,
            fits.flatMap((one, i) =>
              one?.fit.forecast ? [{ name: names[i] ?? '', forecast: one.fit.forecast }] : [],
            ),
            from,
            colours,
          )
        : null,
    [first, fits, names, from, colours],
  );
  if (!first || !options) return null;
  const bases = fits.flatMap((one) => basis(one?.fit.model, node.season_length) ?? []);
  const comparable = new Set(bases).size === 1;
  const outside = (i: number) =>
    tested.data?.find((one) => one.method === texts[i])?.measures as
      | Record<string, number | null>
      | undefined;
  /** The least of several; one alone is not marked. */
  const least = (values: (number | null | undefined)[]) => {
    const known = values.filter((value) => value !== null && value !== undefined);
    return known.length > 1 ? Math.min(...known) : Number.NEGATIVE_INFINITY;
  };
  const rmsse = least(texts.map((_, i) => outside(i)?.RMSSE));
  const mae = least(texts.map((_, i) => outside(i)?.MAE));
  const inside = least(fits.map((one) => one?.fit.measures.RMSE));
  const current = tested.data?.find((one) => one.method === texts[active]);
  return (
    <>
      <section aria-labelledby="beside" className="mt-5">
        <div className="mb-1 flex items-center">
          <h2 id="beside" className="mr-auto font-semibold">
            Beside each other
          </h2>
          <TableOut
            name="Models beside each other"
            head={[
              'Model',
              'AICc',
              'RMSE in sample',
              'MAE tested',
              'WAPE tested %',
              'MASE tested',
              'RMSSE tested',
            ]}
            rows={() =>
              texts.map((text, i) => {
                const { criteria, measures, model } = fits[i]?.fit ?? {};
                const { MAE, WAPE, MASE, RMSSE } = outside(i) ?? {};
                return [model ?? text, criteria?.aicc, measures?.RMSE, MAE, WAPE, MASE, RMSSE];
              })
            }
          />
        </div>
        <Chart
          options={options}
          label="History and the forecast of each model"
          className="h-[230px] w-full"
        />
        <table className="sheet mt-1">
          <thead>
            <tr>
              <th>Model</th>
              <th className="num">AICc</th>
              <th className="num">RMSE in sample</th>
              <th className="num">MAE tested</th>
              <th className="num">WAPE tested %</th>
              <th className="num">MASE tested</th>
              <th className="num">RMSSE tested</th>
            </tr>
          </thead>
          <tbody>
            {texts.map((text, i) => {
              const measures = outside(i);
              return (
                // biome-ignore lint/suspicious/noArrayIndexKey: a model is known by its place
                <tr key={i}>
                  <td>
                    <b>{names[i]}</b> {fits[i]?.fit.model ?? text}
                  </td>
                  <td className="num">{fixed(fits[i]?.fit.criteria?.aicc, 1)}</td>
                  <Cell value={fits[i]?.fit.measures.RMSE} best={inside} digits={1} />
                  <Cell value={measures?.MAE} best={mae} digits={1} />
                  <td className="num">{fixed(measures?.WAPE, 1)}</td>
                  <td className="num">{fixed(measures?.MASE, 3)}</td>
                  <Cell value={measures?.RMSSE} best={rmsse} digits={3} />
                </tr>
              );
            })}
          </tbody>
        </table>
        <p className="mt-1 max-w-[90ch] text-[13px] text-second">
          {tested.isError ? 'The test from earlier origins failed; change a model to ask again. ' : ''}
          {tested.isFetching ? 'Testing … ' : ''}
          Tested: forecasts from {node.origins.length} earlier origins against what came, which is what
          counts; ✓ marks the least.{' '}
          {bases.length > 1 &&
            (comparable
              ? 'AICc compares these models: they have the same differences and scale, and the least is best.'
              : 'AICc is not comparable here: these models differ in their differences or their scale.')}
        </p>
      </section>
      {current && current.origins.length > 0 && (
        <section aria-labelledby="at-origins" className="mt-4">
          <h2 id="at-origins" className="mb-1 font-semibold">
            {names[active]} at each origin
          </h2>
          <OriginForms origins={current.origins} />
        </section>
      )}
    </>
  );
}

function Cell({ value, best, digits }: { value: number | null | undefined; best: number; digits: number }) {
  const is = value !== null && value !== undefined && value <= best;
  return (
    <td className={`num ${is ? 'font-semibold' : ''}`}>
      {fixed(value, digits)}
      {is && <span title="the least"> ✓</span>}
    </td>
  );
}

/** The form that a method took at each origin, and a plain note where it changed. */
export function OriginForms({ origins }: { origins: Schema['AtOrigin'][] }) {
  const changes = origins.filter((one) => one.change).length;
  return (
    <>
      <table className="sheet">
        <thead>
          <tr>
            <th>Last period seen</th>
            <th>Model</th>
            <th>Changed from the origin before</th>
          </tr>
        </thead>
        <tbody>
          {origins.map((one, i) => (
            <tr key={one.period}>
              <td>
                {one.period}
                {i === origins.length - 1 && <span className="text-second"> now</span>}
              </td>
              <td>{one.model ?? <span className="text-second">could not be fitted yet</span>}</td>
              <td className={one.change ? 'text-warning' : 'text-second'}>
                {one.change || (i ? 'the same' : '')}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-[13px] text-second">
        {changes === 0
          ? 'The same form every time.'
          : `The form changed ${changes === 1 ? 'once' : `${changes} times`}. A form that keeps changing says that the data do not tell these apart; a fixed one of them is easier to explain.`}
      </p>
    </>
  );
}
