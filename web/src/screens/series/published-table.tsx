/** What would be published of a node, period by period, beside the year before. */
import type { Schema } from '../../api/client';
import { digitsOf, YEAR } from '../../charts/series';
import { fixed } from '../../ui/format';
import { TableOut } from '../../ui/table-out';

type Node = Schema['Node'];

/** Rows as they are shown and taken along: period, history a year ago, forecast, and each band from wide to narrow. */
export function publishedRows(node: Node): (string | number | null)[][] {
  const year = YEAR[node.frequency] ?? node.season_length;
  return node.forecast.map((value, lead) => [
    node.periods[node.n_past + lead] ?? '',
    node.history[node.n_past + lead - year] ?? null,
    value,
    ...node.bands.flatMap((band) => [band.low[lead] ?? null, band.high[lead] ?? null]),
  ]);
}

export function publishedHead(node: Node): string[] {
  const bands = node.bands.flatMap((band) => [`${band.level} % low`, `${band.level} % high`]);
  return ['Period', 'A year ago', 'Forecast', ...bands];
}

export function PublishedTable({ node }: { node: Node }) {
  const digits = digitsOf(node);
  return (
    <section aria-labelledby="ahead" className="mt-5 overflow-x-auto">
      <div className="mb-1 flex items-center">
        <h2 id="ahead" className="mr-auto font-semibold">
          What would be published
        </h2>
        <TableOut
          name={`Forecast of ${node.name}`}
          head={publishedHead(node)}
          rows={() => publishedRows(node)}
        />
      </div>
      <table className="sheet">
        <thead>
          <tr>
            {publishedHead(node).map((head, i) => (
              <th key={head} className={i > 0 ? 'num' : ''}>
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {publishedRows(node).map(([period, ...values]) => (
            <tr key={period}>
              <td className="whitespace-nowrap">{period}</td>
              {values.map((value, i) => (
                <td
                  // biome-ignore lint/suspicious/noArrayIndexKey: a column is its place
                  key={i}
                  className={`num ${i === 1 ? 'font-semibold' : ''}`}
                >
                  {fixed(value as number | null, digits)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
