/** The levels, what they hold, and what making them add up did to the error. */
import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import type { Schema } from '../../api/client';
import { summary as summaryQuery } from '../../api/queries';
import { count, fixed } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';

const WORDS: Record<string, string> = { none: 'before (does not add up)' };

export function StructureScreen() {
  const data = useQuery(summaryQuery(Number(useParams().study)));
  if (data.isPending) return <Loading what="the structure" />;
  if (data.isError) return <Failed error={data.error} retry={() => void data.refetch()} />;
  return <View data={data.data} />;
}

function View({ data }: { data: Schema['Summary'] }) {
  const { accuracy } = data;
  const levels = accuracy.levels.slice(0, -1);
  return (
    <Page title="Structure">
      <div className="space-y-6 p-[18px]">
        <section aria-label="Levels">
          <p className="mb-4 max-w-[90ch]">
            {count(data.n_series)} series add up{data.edges && `, as ${data.edges} says,`} to{' '}
            {count(data.n_nodes)} nodes on {levels.length} levels. After reconciliation by{' '}
            <b>{data.reconciliation}</b>
            {data.reconciled_by.length > 0 && ', chosen by the backtest,'} the largest gap between a node and
            the sum of its series is <b>{data.largest_gap === 0 ? '0' : data.largest_gap.toExponential(1)}</b>{' '}
            of the node
            {data.largest_gap < 1e-9 ? ' (zero to rounding).' : '.'}
            {earlier(data)}
          </p>
          <Graph levels={levels} nested={data.edges === ''} />
        </section>
        <ErrorTable
          accuracy={accuracy}
          chosen={data.reconciliation}
          measure="RMSSE"
          digits={3}
          title="RMSSE by level"
        />
        <ErrorTable
          accuracy={accuracy}
          chosen={data.reconciliation}
          measure="WAPE"
          digits={1}
          title="WAPE by level, %"
        />
      </div>
    </Page>
  );
}

/** How often earlier origins had another reconciliation, from the errors that had come by then. */
export function earlier({ reconciled_by, reconciliation }: Schema['Summary']): string {
  const others = reconciled_by.slice(0, -1).filter((name) => name !== reconciliation);
  if (others.length === 0) return '';
  const counted = [...new Set(others)].map(
    (name) => `${name} at ${others.filter((one) => one === name).length}`,
  );
  return ` Of the ${reconciled_by.length - 1} origins tested, it had been ${counted.join(', ')}.`;
}

/** What a level is on all axes but the first. */
function beside(level: Schema['AccuracyLevel']): string {
  return level.labels.slice(1).join(' × ');
}

/** Levels as a lattice: first dimension down, second across. */
function Graph({ levels, nested }: { levels: Schema['AccuracyLevel'][]; nested: boolean }) {
  const across = [...new Set(levels.map(beside))];
  const down = [...new Set(levels.map((level) => level.labels[0] ?? ''))];
  const nodes = (row: string, column: string) =>
    levels.find((level) => level.labels[0] === row && beside(level) === column)?.n_nodes;
  return (
    <div className="overflow-x-auto">
      <table>
        <caption className="pb-2 text-left text-second">
          Nodes on each level.
          {nested && ' Every level is the sum of the one to its right and of the one below it.'}
        </caption>
        <thead>
          <tr>
            <td />
            {across.map((column) => (
              <th key={column} scope="col" className="px-5 pb-1 text-left font-normal text-second">
                {column || ' '}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {down.map((row, i) => (
            <tr key={row}>
              <th scope="row" className="pr-5 text-left align-middle font-normal text-second">
                {row}
              </th>
              {across.map((column, j) => (
                <td key={column} className="py-0">
                  <div className="flex items-center">
                    <span
                      className={`inline-block w-5 ${j > 0 ? 'border-t border-second' : ''}`}
                      aria-hidden="true"
                    />
                    <span className="flex flex-col items-center">
                      <span
                        className={`h-2 ${nested && i > 0 ? 'border-l border-second' : ''}`}
                        aria-hidden="true"
                      />
                      <span className="min-w-[86px] border border-base-content px-3 py-1.5 text-right font-semibold">
                        {count(nodes(row, column) ?? 0)}
                      </span>
                      <span
                        className={`h-2 ${nested && i < down.length - 1 ? 'border-l border-second' : ''}`}
                        aria-hidden="true"
                      />
                    </span>
                    <span
                      className={`inline-block flex-1 ${j < across.length - 1 ? 'border-t border-second' : ''}`}
                      style={{ minWidth: 20 }}
                      aria-hidden="true"
                    />
                  </div>
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function ErrorTable({
  accuracy,
  chosen,
  measure,
  digits,
  title,
}: {
  accuracy: Schema['Accuracy'];
  chosen: string;
  measure: string;
  digits: number;
  title: string;
}) {
  const k = accuracy.measures.indexOf(measure);
  return (
    <section aria-label={title}>
      <div className="mb-1 flex max-w-[1000px] items-center">
        <h2 className="mr-auto font-semibold">
          {title}{' '}
          <span className="font-normal text-second">
            before and after reconciliation, over all origins and leads
          </span>
        </h2>
        <TableOut
          name={title}
          head={['Level', 'Nodes', ...accuracy.reconciliations]}
          rows={() =>
            accuracy.levels.map((level, i) => [
              level.name,
              level.n_nodes,
              ...(accuracy.by_reconciliation[i] ?? []).map((one) => one[k]),
            ])
          }
        />
      </div>
      <table className="sheet max-w-[1000px]">
        <thead>
          <tr>
            <th>Level</th>
            <th className="num">Nodes</th>
            {accuracy.reconciliations.map((name) => (
              <th key={name} className={`num ${name === chosen ? 'font-semibold! text-base-content!' : ''}`}>
                {WORDS[name] ?? name}
                {name === chosen && ', published'}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {accuracy.levels.map((level, i) => {
            const row = accuracy.by_reconciliation[i] ?? [];
            const values = row.map((one) => one[k] ?? null);
            const least = Math.min(...values.map((v) => v ?? Number.POSITIVE_INFINITY));
            return (
              <tr key={level.name}>
                <td>{level.name}</td>
                <td className="num">{count(level.n_nodes)}</td>
                {values.map((value, j) => (
                  <td
                    key={accuracy.reconciliations[j]}
                    className={`num ${value === least ? 'font-semibold' : ''}`}
                  >
                    {fixed(value, digits)}
                  </td>
                ))}
              </tr>
            );
          })}
        </tbody>
      </table>
      <p className="mt-1 text-second">The least of each row is bold.</p>
    </section>
  );
}
