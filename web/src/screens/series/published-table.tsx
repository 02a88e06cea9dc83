/** What would be published of a node, period by period, beside the year before and the last release. */
import { useQuery } from '@tanstack/react-query';
import type { Schema } from '../../api/client';
import { digitsOf, lookBack } from '../../charts/series';
import { fixed } from '../../ui/format';
import { TableOut } from '../../ui/table-out';
import { released } from './queries';

type Node = Schema['Node'];
type Released = Schema['Released'];
const NO_RELEASE: Released = { release: null, mean: [] };

/** What stands beside the forecast: a heading, and a value for each lead. */
function beside(node: Node, before: Released): { head: string; values: (number | null)[] }[] {
  const back = lookBack(node);
  const ago = node.forecast.map((_, lead) => node.history[node.n_past + lead - (back?.periods ?? 0)] ?? null);
  return [
    ...(back ? [{ head: `A ${back.noun} ago`, values: ago }] : []),
    ...(before.release === null ? [] : [{ head: `Release ${before.release}`, values: before.mean }]),
  ];
}

/** Rows as they are shown and taken along: period, what stands beside, forecast, each band from wide to narrow. */
export function publishedRows(node: Node, before: Released = NO_RELEASE): (string | number | null)[][] {
  const columns = beside(node, before);
  return node.forecast.map((value, lead) => [
    node.periods[node.n_past + lead] ?? '',
    ...columns.map(({ values }) => values[lead] ?? null),
    value,
    ...node.bands.flatMap((band) => [band.low[lead] ?? null, band.high[lead] ?? null]),
  ]);
}

export function publishedHead(node: Node, before: Released = NO_RELEASE): string[] {
  const bands = node.bands.flatMap((band) => [`${band.level} % low`, `${band.level} % high`]);
  return ['Period', ...beside(node, before).map(({ head }) => head), 'Forecast', ...bands];
}

export function PublishedTable({ study, node }: { study: number; node: Node }) {
  const before = useQuery(released(study, node.node)).data ?? NO_RELEASE;
  const head = publishedHead(node, before);
  const rows = publishedRows(node, before);
  const digits = digitsOf(node);
  return (
    <section aria-labelledby="ahead" className="mt-5 overflow-x-auto">
      <div className="mb-1 flex items-center">
        <h2 id="ahead" className="mr-auto font-semibold">
          What would be published
        </h2>
        <TableOut name={`Forecast of ${node.name}`} head={head} rows={() => rows} />
      </div>
      <table className="sheet">
        <thead>
          <tr>
            {head.map((name, i) => (
              <th key={name} className={i > 0 ? 'num' : ''}>
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(([period, ...values]) => (
            <tr key={period}>
              <td className="whitespace-nowrap">{period}</td>
              {values.map((value, i) => (
                <td
                  // biome-ignore lint/suspicious/noArrayIndexKey: a column is its place
                  key={i}
                  className={`num ${head[i + 1] === 'Forecast' ? 'font-semibold' : ''}`}
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
