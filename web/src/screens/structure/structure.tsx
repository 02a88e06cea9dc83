/** The levels, what they hold, and what making them add up did to the error. */
import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import type { Schema } from '../../api/client';
import { summary as summaryQuery } from '../../api/queries';
import { count, fixed } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { BandsByMaking } from './bands-by-making';
import { Kin } from './kin';
import { LevelGraph } from './level-graph';
import { MovedNodes } from './moved-nodes';
import { Other } from './other';
import { structure as structureQuery } from './queries';

const WORDS: Record<string, string> = { none: 'before (does not add up)' };

export function StructureScreen() {
  const { study, portfolio } = useParams();
  const data = useQuery(summaryQuery(Number(study)));
  const structure = useQuery(structureQuery(Number(study)));
  if (data.isPending || structure.isPending) return <Loading what="the structure" />;
  if (data.isError) return <Failed error={data.error} retry={() => void data.refetch()} />;
  if (structure.isError) return <Failed error={structure.error} retry={() => void structure.refetch()} />;
  return (
    <View data={data.data} structure={structure.data} study={Number(study)} portfolio={Number(portfolio)} />
  );
}

function View({
  data,
  structure,
  study,
  portfolio,
}: {
  data: Schema['Summary'];
  structure: Schema['Structure'];
  study: number;
  portfolio: number;
}) {
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
            {gapBefore(structure.levels)}
            {earlier(data)}
            {structure.n_shared > 0 &&
              ` ${count(structure.n_shared)} series have no forecast of their own: each gets its share of the smallest node that has one, as was pruned by the history until ${structure.pruned_until || 'its end'}.`}
            {overTime(structure)}
          </p>
          <LevelGraph levels={structure.levels} errors={errorsOf(data)} />
        </section>
        <Kin study={study} portfolio={portfolio} top={structure.top} />
        <Other study={study} portfolio={portfolio} structure={structure} />
        <MovedNodes moved={structure.moved} study={study} portfolio={portfolio} leads={data.leads} />
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
        <BandsByMaking accuracy={accuracy} />
      </div>
    </Page>
  );
}

/** Longer periods that nodes are forecast over too. */
function overTime({ time_levels, n_longer }: Schema['Structure']): string {
  const used = time_levels.filter((one) => one.used).map((one) => one.name);
  if (used.length === 0) return '';
  const only =
    n_longer > 0 ? `; ${count(n_longer)} nodes sell too little for more, and are forecast so alone` : '';
  return ` Nodes are forecast by the ${used.join(' and ')} too, and what they say of single periods is made to fit it${only}.`;
}

/** How far the forecasts of nodes were from the sums of their series before, at the level where it was most. */
export function gapBefore(levels: Schema['StructureLevel'][]): string {
  const most = levels.reduce<Schema['StructureLevel'] | undefined>(
    (found, level) => ((level.gap ?? 0) > (found?.gap ?? 0) ? level : found),
    undefined,
  );
  return most?.gap
    ? ` Before it, forecasts over all leads differed from the sums of their series by up to ${fixed(100 * most.gap, most.gap < 0.1 ? 1 : 0)} %, at ${most.name}.`
    : '';
}

/** RMSSE of each level before and after what is published. */
function errorsOf({ accuracy, reconciliation }: Schema['Summary']) {
  const k = accuracy.measures.indexOf('RMSSE');
  const [none, own] = ['none', reconciliation].map((name) => accuracy.reconciliations.indexOf(name));
  return accuracy.by_reconciliation.map((row) => ({
    before: row[none ?? -1]?.[k] ?? null,
    after: row[own ?? -1]?.[k] ?? null,
  }));
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
