/** Methods against each other: over all series of a level, and by lead. */
import { useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { useParams, useSearchParams } from 'react-router';
import type { Schema } from '../../api/client';
import { summary as summaryQuery } from '../../api/queries';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { linesOptions } from '../../charts/lines';
import { biased, count, fixed, signed } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { Bands } from './bands';
import { ChoicePage } from './choice';
import { Kinds } from './kinds';
import { Learner } from './learner';
import { summarySentences } from './summary';

type Accuracy = Schema['Accuracy'];

const MEASURES = [
  { value: 'RMSSE', label: 'RMSSE' },
  { value: 'WAPE', label: 'WAPE' },
  { value: 'gain', label: 'gain' },
  { value: 'bias', label: 'bias' },
] as const;
const PAGES = [
  { value: 'methods', label: 'Methods' },
  { value: 'kinds', label: 'Kinds' },
  { value: 'bands', label: 'Bands' },
  { value: 'learner', label: 'Learner' },
  { value: 'choice', label: 'Choice' },
  { value: 'all', label: 'In print' },
] as const;
type Measure = (typeof MEASURES)[number]['value'];
const UNITS: Record<Measure, string> = {
  RMSSE: 'RMSSE, 1 = a naive step',
  WAPE: 'WAPE, % of volume',
  gain: 'gain in RMSSE over the seasonal naive, %',
  bias: 'bias, % of volume (below zero: forecast too high)',
};

export function Backtest() {
  const study = Number(useParams().study);
  const data = useQuery(summaryQuery(study));
  if (data.isPending) return <Loading what="the backtest" />;
  if (data.isError) return <Failed error={data.error} retry={() => void data.refetch()} />;
  return <View data={data.data} study={study} />;
}

function View({ data, study }: { data: Schema['Summary']; study: number }) {
  const { accuracy } = data;
  const [search, setSearch] = useSearchParams();
  const wanted = accuracy.levels.findIndex((one) => one.name === search.get('level'));
  const level = wanted >= 0 ? wanted : accuracy.levels.length - 2;
  const measure = MEASURES.find((one) => one.value === search.get('measure'))?.value ?? 'RMSSE';
  const drives = accuracy.report?.drives;
  const pages = PAGES.filter((one) => one.value !== 'learner' || drives);
  const page = pages.find((one) => one.value === search.get('page'))?.value ?? 'methods';
  const shows = (one: string) => page === one || (page === 'all' && one !== 'choice');
  const set = (name: string, value: string) =>
    setSearch((before) => {
      before.set(name, value);
      return before;
    });
  return (
    <Page
      title="Backtest"
      actions={
        <span className="flex items-center gap-5 print:hidden">
          <Choice label="" options={pages} value={page} onChange={(value) => set('page', value)} />
          {page !== 'choice' && page !== 'kinds' && page !== 'learner' && (
            <label className="flex items-center gap-2 text-[13px] text-second">
              Level
              <select
                className="select select-sm w-auto text-base-content"
                value={level}
                onChange={(event) => set('level', accuracy.levels[Number(event.target.value)]?.name ?? '')}
              >
                {accuracy.levels.map((one, i) => (
                  <option key={one.name} value={i}>
                    {one.name} ({count(one.n_nodes)})
                  </option>
                ))}
              </select>
            </label>
          )}
          {page !== 'choice' && page !== 'bands' && page !== 'learner' && (
            <Choice
              label="Measure"
              options={MEASURES}
              value={measure}
              onChange={(value) => set('measure', value)}
            />
          )}
        </span>
      }
    >
      <div className="space-y-5 p-[18px]">
        <p className="max-w-[95ch]">
          {summarySentences(data, data.frequency).join(' ')}{' '}
          {page === 'all' && (
            <button type="button" className="btn btn-sm print:hidden" onClick={() => window.print()}>
              Print
            </button>
          )}
        </p>
        {shows('methods') && (
          <>
            <ByLead accuracy={accuracy} level={level} measure={measure} />
            <MethodTable accuracy={accuracy} level={level} />
            <p className="max-w-[90ch] text-second">
              Origins from {data.origins[0]} to {data.origins.at(-1)}, every method re-estimated at each. What
              is published is judged on all {count(accuracy.cells[level]?.at(-1) ?? 0)} values that it covers,
              each method on those it could forecast; the gain is on the values that the seasonal naive could
              forecast too.
            </p>
          </>
        )}
        {shows('kinds') && <Kinds accuracy={accuracy} measure={measure} />}
        {shows('bands') && <Bands accuracy={accuracy} level={level} />}
        {shows('learner') && drives && <Learner drives={drives} />}
        {shows('choice') && <ChoicePage study={study} />}
      </div>
    </Page>
  );
}

function ByLead({ accuracy, level, measure }: { accuracy: Accuracy; level: number; measure: Measure }) {
  const colours = useColours();
  const options = useMemo(() => {
    const k = accuracy.measures.indexOf(measure);
    const table = accuracy.by_method[level] ?? [];
    const overall = (j: number) => table[j]?.[0]?.[k] ?? 0;
    const best = accuracy.methods
      .map((_, j) => j)
      .filter((j) => j < accuracy.methods.length - 2)
      .sort((a, b) =>
        measure === 'gain' ? overall(b) - overall(a) : Math.abs(overall(a)) - Math.abs(overall(b)),
      )
      .slice(0, 4);
    const shown = new Set([...best, accuracy.methods.indexOf('seasonal-naive'), accuracy.methods.length - 1]);
    const lines = [...shown].map((j) => ({
      name: accuracy.briefs[j] ?? '',
      values: (table[j] ?? []).slice(1).map((lead) => lead[k] ?? null),
      strong: j === accuracy.methods.length - 1,
      dashed: accuracy.methods[j] === 'seasonal-naive',
    }));
    const leads = (table[0] ?? []).slice(1).map((_, i) => String(i + 1));
    return linesOptions(lines, leads, UNITS[measure], colours);
  }, [accuracy, level, measure, colours]);
  return (
    <section aria-label="By lead">
      <h2 className="font-semibold">
        By lead{' '}
        <span className="font-normal text-second">
          the four best methods, the seasonal naive, what is published
        </span>
      </h2>
      <Chart
        options={options}
        label={`${measure} of the methods by lead`}
        className="h-[270px] w-full max-w-[1000px]"
      />
    </section>
  );
}

function MethodTable({ accuracy, level }: { accuracy: Accuracy; level: number }) {
  const table = accuracy.by_method[level] ?? [];
  const at = (name: string) => accuracy.measures.indexOf(name);
  const rmsse = (j: number) => table[j]?.[0]?.[at('RMSSE')] ?? Number.POSITIVE_INFINITY;
  const n = accuracy.methods.length;
  const order = accuracy.methods
    .map((_, j) => j)
    .filter((j) => j < n - 2)
    .sort((a, b) => rmsse(a) - rmsse(b));
  const row = (j: number, note?: string) => {
    const name = accuracy.methods[j] ?? '';
    const values = table[j]?.[0] ?? [];
    const took = accuracy.report?.seconds[j];
    return (
      <tr key={name}>
        <td className={note ? 'font-semibold' : ''}>
          {accuracy.briefs[j]}
          {note && <span className="font-normal text-second"> {note}</span>}
          {accuracy.parts[j]?.map((part) => (
            <span key={part} className="block text-xs text-second">
              {part}
            </span>
          ))}
        </td>
        <td className="num">{fixed(values[at('RMSSE')], 3)}</td>
        <td className="num">{fixed(values[at('WAPE')], 1)}</td>
        <td className="num">{fixed(values[at('MAE')], 2)}</td>
        <td className="num">{biased(values[at('bias')], 1)}</td>
        <td className="num">{signed(values[at('gain')], 1)}</td>
        <td className="num">{count(accuracy.cells[level]?.[j] ?? 0)}</td>
        <td className="num">{count(accuracy.shared[level]?.[j] ?? 0)}</td>
        <td className="num">{name in accuracy.chosen ? count(accuracy.chosen[name] ?? 0) : ''}</td>
        <td className="num">{took ? fixed(took, 1) : ''}</td>
      </tr>
    );
  };
  return (
    <section aria-labelledby="all-leads">
      <div className="mb-1 flex max-w-[1000px] items-center">
        <h2 id="all-leads" className="mr-auto font-semibold">
          Over all leads
        </h2>
        <TableOut
          name={`Methods over all leads, ${accuracy.levels[level]?.name}`}
          head={['Method', ...accuracy.measures, 'Values', 'Values of the gain', 'Chosen for']}
          rows={() =>
            [n - 1, n - 2, ...order].map((j) => {
              const name = accuracy.methods[j] ?? '';
              const values = [accuracy.cells[level]?.[j], accuracy.shared[level]?.[j]];
              return [name, ...(table[j]?.[0] ?? []), ...values, accuracy.chosen[name]];
            })
          }
        />
      </div>
      <table className="sheet max-w-[1000px]">
        <thead>
          <tr>
            <th>Method</th>
            <th className="num">RMSSE</th>
            <th className="num">WAPE %</th>
            <th className="num">MAE</th>
            <th className="num">Bias, % of volume</th>
            <th className="num">Gain %</th>
            <th className="num">Values</th>
            <th className="num">... of the gain</th>
            <th className="num">Chosen for, of all nodes</th>
            <th className="num">Seconds</th>
          </tr>
        </thead>
        <tbody>
          {row(n - 1, 'the choice, reconciled')}
          {row(n - 2, 'before reconciliation')}
          {order.map((j) => row(j))}
        </tbody>
      </table>
      <p className="mt-2 max-w-[90ch] text-second">
        At each origin every series is judged with the method it had then: the recipe&rsquo;s first choice, or
        another where errors that had come by then showed it to be better, over its group or on the series
        alone, by more than chance explains. So the first two rows are what a planner would have had.{' '}
        {count(accuracy.zero_by_decision)} ended series are forecast as zero.
      </p>
    </section>
  );
}
