/** Who errs least on which kind of demand, and how many series gain. */
import { Link, useParams } from 'react-router';
import type { Schema } from '../../api/client';
import { count, fixed } from '../../ui/format';
import { TableOut } from '../../ui/table-out';

type Accuracy = Schema['Accuracy'];
type Report = Schema['Report'];

const MOST = 8;

export function Kinds({ accuracy, measure }: { accuracy: Accuracy; measure: string }) {
  const report = accuracy.report;
  if (!report)
    return (
      <p className="text-second">This study was run before kinds were reported; run it again to see them.</p>
    );
  return (
    <>
      <Winners accuracy={accuracy} report={report} measure={measure} />
      <Gains report={report} />
    </>
  );
}

/** Methods with the least error of any kind first; all measures but gain are better the nearer to zero. */
export function winners(report: Report, k: number, measure: string, n: number): (number | null)[] {
  const better = (value: number | null | undefined) =>
    value === null || value === undefined
      ? Number.POSITIVE_INFINITY
      : measure === 'gain'
        ? -value
        : Math.abs(value);
  return report.by_kind.map((kind) => {
    const values = kind.slice(0, n).map((row) => better(row[k]));
    const least = Math.min(...values);
    return Number.isFinite(least) ? values.indexOf(least) : null;
  });
}

function Winners({ accuracy, report, measure }: { accuracy: Accuracy; report: Report; measure: string }) {
  const k = accuracy.measures.indexOf(measure);
  const n = accuracy.methods.length - 2;
  const best = winners(report, k, measure, n);
  const finest = accuracy.by_method.at(-2) ?? [];
  const order = accuracy.methods
    .map((_, j) => j)
    .slice(0, n)
    .sort((a, b) => (finest[a]?.[0]?.[2] ?? Infinity) - (finest[b]?.[0]?.[2] ?? Infinity));
  const shown = [n + 1, ...new Set([...best.filter((j) => j !== null), ...order])].slice(0, MOST + 1);
  const digits = measure === 'RMSSE' ? 3 : 1;
  const head = ['Method', ...report.kinds.map((kind) => `${kind.name}, ${kind.n_series} series`)];
  return (
    <section aria-labelledby="winners">
      <div className="mb-1 flex items-center">
        <h2 id="winners" className="mr-auto font-semibold">
          Who errs least on which kind{' '}
          <span className="font-normal text-second">
            {measure} of the finest series, by their kind today; the best of each kind in bold
          </span>
        </h2>
        <TableOut
          name={`${measure} by kind of demand`}
          head={head}
          rows={() =>
            [n + 1, n, ...order].map((j) => [
              accuracy.methods[j] ?? '',
              ...report.by_kind.map((kind) => kind[j]?.[k]),
            ])
          }
        />
      </div>
      <div className="overflow-x-auto">
        <table className="sheet">
          <thead>
            <tr>
              <th>Method</th>
              {report.kinds.map((kind) => (
                <th key={kind.name} className="num">
                  {kind.name}
                  <span className="block font-normal text-second">{count(kind.n_series)}</span>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {shown.map((j) => (
              <tr key={accuracy.methods[j]}>
                <td className={j > n ? 'font-semibold' : ''}>{accuracy.briefs[j]}</td>
                {report.by_kind.map((kind, i) => (
                  <td
                    key={report.kinds[i]?.name}
                    className={`num ${best[i] === j ? 'font-semibold underline' : ''}`}
                  >
                    {fixed(kind[j]?.[k], digits)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="mt-2 max-w-[90ch] text-second">
        Each method is judged on what it could forecast: one that leaves out the hard series looks better for
        it.
      </p>
    </section>
  );
}

/** Names of the classes between cuts, from the worst. */
export function gainNames(cuts: number[]): string[] {
  const says = (low: number | undefined, high: number | undefined) => {
    if (low === undefined) return `${fixed(-(high ?? 0), 0)} % worse and more`;
    if (high === undefined) return `${fixed(low, 0)} % better and more`;
    return high <= 0
      ? `${fixed(-high, 0)} to ${fixed(-low, 0)} % worse`
      : `${fixed(low, 0)} to ${fixed(high, 0)} % better`;
  };
  return [says(undefined, cuts[0]), ...cuts.map((cut, i) => says(cut, cuts[i + 1]))];
}

function Gains({ report }: { report: Report }) {
  const { portfolio, study } = useParams();
  const most = Math.max(1, ...report.gains);
  const total = report.gains.reduce((sum, one) => sum + one, 0);
  return (
    <section aria-labelledby="gains">
      <h2 id="gains" className="mb-1 font-semibold">
        Series by gain{' '}
        <span className="font-normal text-second">error of what is published against the seasonal naive</span>
      </h2>
      <table className="sheet w-auto!">
        <thead>
          <tr>
            <th>Against the seasonal naive</th>
            <th className="num">Series</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {gainNames(report.gain_cuts).map((label, i) => (
            <tr key={label}>
              <td>{label}</td>
              <td className="num">{count(report.gains[i] ?? 0)}</td>
              <td className="w-[260px]" aria-hidden="true">
                <div
                  className="h-3 bg-secondary"
                  style={{ width: `${(240 * (report.gains[i] ?? 0)) / most}px` }}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2">
        {count(report.n_worse)} of {count(total)} series are worse off than with the seasonal naive.{' '}
        <Link className="underline" to={`/p/${portfolio}/s/${study}/field?lens=gain`}>
          Open them in the Field
        </Link>
        , which lists them first.
      </p>
    </section>
  );
}
