/** Whether bands keep their promise: by lead, level and kind, and where actuals fall among the quantiles. */
import type { Schema } from '../../api/client';
import { count, fixed, share } from '../../ui/format';

type Accuracy = Schema['Accuracy'];
type Report = Schema['Report'];

export function Bands({ accuracy, level }: { accuracy: Accuracy; level: number }) {
  return (
    <>
      <Coverage accuracy={accuracy} level={level} />
      {accuracy.report && (
        <>
          <ByLevel accuracy={accuracy} report={accuracy.report} />
          <ByKind accuracy={accuracy} report={accuracy.report} />
          <Between report={accuracy.report} level={level} name={accuracy.levels[level]?.name ?? ''} />
        </>
      )}
    </>
  );
}

function Coverage({ accuracy, level }: { accuracy: Accuracy; level: number }) {
  const rows = accuracy.coverage[level] ?? [];
  return (
    <section aria-labelledby="coverage" className="overflow-x-auto">
      <h2 id="coverage" className="mb-1 font-semibold">
        Share of actuals inside the bands, %{' '}
        <span className="font-normal text-second">
          by lead; bands made without the origin they are judged on
        </span>
      </h2>
      <table className="sheet w-auto!">
        <thead>
          <tr>
            <th>Band</th>
            <th className="num">all leads</th>
            {rows.slice(1).map((_, lead) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a lead is its place
              <th key={lead} className="num">
                {lead + 1}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {accuracy.bands.map((band, b) => (
            <tr key={band}>
              <td>{band} %</td>
              {rows.map((row, lead) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: a lead is its place
                <td key={lead} className={`num ${lead === 0 ? 'font-semibold' : ''}`}>
                  {share(row[b])}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function ByLevel({ accuracy, report }: { accuracy: Accuracy; report: Report }) {
  return (
    <section aria-labelledby="by-level">
      <h2 id="by-level" className="mb-1 font-semibold">
        By level, %{' '}
        <span className="font-normal text-second">
          ± one standard error over the origins, in which all nodes share their weather; score: width, and
          what was missed, in naive steps
        </span>
      </h2>
      <table className="sheet w-auto!">
        <thead>
          <tr>
            <th>Level</th>
            <th className="num">Nodes</th>
            {accuracy.bands.map((band) => (
              <th key={band} className="num">
                {band} % band
              </th>
            ))}
            {accuracy.bands.map((band) => (
              <th key={band} className="num">
                score, {band} %
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {accuracy.levels.map((one, i) => (
            <tr key={one.name}>
              <td>{one.name}</td>
              <td className="num">{count(one.n_nodes)}</td>
              {accuracy.bands.map((band, b) => (
                <td key={band} className="num">
                  {share(accuracy.coverage[i]?.[0]?.[b])}
                  <span className="text-second"> ± {share(report.coverage_error[i]?.[b])}</span>
                </td>
              ))}
              {accuracy.bands.map((band, b) => (
                <td key={band} className="num">
                  {fixed(report.interval_score[i]?.[b], 2)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function ByKind({ accuracy, report }: { accuracy: Accuracy; report: Report }) {
  return (
    <section aria-labelledby="bands-by-kind">
      <h2 id="bands-by-kind" className="mb-1 font-semibold">
        By kind of demand, % <span className="font-normal text-second">the finest series</span>
      </h2>
      <table className="sheet w-auto!">
        <thead>
          <tr>
            <th>Kind</th>
            <th className="num">Series</th>
            {accuracy.bands.map((band) => (
              <th key={band} className="num">
                {band} % band
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {report.kinds.map((kind, k) => (
            <tr key={kind.name}>
              <td>{kind.name}</td>
              <td className="num">{count(kind.n_series)}</td>
              {accuracy.bands.map((band, b) => (
                <td key={band} className="num">
                  {share(report.kind_coverage[k]?.[b])}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 max-w-[90ch] text-second">
        Whole numbers hold more than was promised: a band of a slow mover ends at a number that is sold, and
        all who sell that number are inside.
      </p>
    </section>
  );
}

/** Names of what lies below, between and above quantiles, from their probabilities. */
export function betweenNames(probabilities: number[]): string[] {
  const at = probabilities.map((p) => `${Number((100 * p).toFixed(1))} %`);
  return [
    `below ${at[0]}`,
    ...at.slice(1).map((high, i) => `${at[i]} to ${high}`),
    `above ${at[at.length - 1]}`,
  ];
}

function Between({ report, level, name }: { report: Report; level: number; name: string }) {
  const edges = [0, ...report.probabilities, 1];
  const found = report.between[level] ?? [];
  const most = Math.max(
    ...found.map((one) => one ?? 0),
    ...edges.slice(1).map((p, i) => p - (edges[i] ?? 0)),
  );
  return (
    <section aria-labelledby="between">
      <h2 id="between" className="mb-1 font-semibold">
        Where actuals fall among the quantiles, %{' '}
        <span className="font-normal text-second">{name}; of equal values each has its share</span>
      </h2>
      <table className="sheet w-auto!">
        <thead>
          <tr>
            <th>Quantiles</th>
            <th className="num">Promised</th>
            <th className="num">Came</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {betweenNames(report.probabilities).map((label, i) => {
            const promised = (edges[i + 1] ?? 1) - (edges[i] ?? 0);
            const came = found[i] ?? 0;
            return (
              <tr key={label}>
                <td>{label}</td>
                <td className="num">{share(promised)}</td>
                <td className="num">{share(found[i])}</td>
                <td className="w-[260px]" aria-hidden="true">
                  <div className="relative h-3 w-[240px]">
                    <div
                      className="absolute h-3 bg-secondary"
                      style={{ width: `${(240 * came) / most}px` }}
                    />
                    <div
                      className="absolute -top-0.5 h-4 border-r-2 border-base-content"
                      style={{ width: `${(240 * promised) / most}px` }}
                    />
                  </div>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <p className="mt-1 text-second">The mark is what was promised.</p>
    </section>
  );
}
