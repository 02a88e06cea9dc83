/** One model under the glass: judgement, coefficients, roots, criteria, residuals. */
import { useMemo } from 'react';
import type { Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { errorsOptions } from '../../charts/over-time';
import { diagonal, pointsOptions } from '../../charts/points';
import { boxOptions, stemOptions } from '../../charts/stems';
import { fixed, pValue } from '../../ui/format';
import { parameterName } from './explain';
import { RootsPicture } from './roots';

type Fit = Schema['Fit'];
type Diagnosis = Schema['Diagnosis'];

const WEAK = 0.05;

export function Glass({ found, diagnosis, season }: { found: Fit; diagnosis: Diagnosis; season: number }) {
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
