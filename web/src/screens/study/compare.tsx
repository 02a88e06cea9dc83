/** Studies beside each other: two node by node, over the periods that both forecast, and others in the picture. */
import { keepPreviousData, queryOptions, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { Key } from '../../charts/key';
import { baseOptions, lineOf } from '../../charts/series';
import { count, fixed, signed } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { Take } from './take';

const compared = (one: number, other: number, level: number, node: string, also: string) =>
  queryOptions({
    queryKey: ['compared', one, other, level, node, also],
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/beside/{other}/', {
          params: { path: { id: one, other }, query: { level, node, also } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

export function Compare() {
  const { portfolio, one, other } = useParams();
  const [search, setSearch] = useSearchParams();
  const level = Number(search.get('level') ?? 0);
  const node = search.get('node') ?? 'top';
  const found = useQuery(compared(Number(one), Number(other), level, node, search.get('also') ?? ''));
  const set = (name: string, to: string) =>
    setSearch((before) => {
      if (to) before.set(name, to);
      else before.delete(name);
      return before;
    });
  const title = (
    <>
      <Link className="text-sm font-normal text-second hover:underline" to={`/p/${portfolio}/study`}>
        Study
      </Link>
      <span className="font-normal text-second"> › </span>
      {found.data ? all(found.data).map(nameOf).join(', ') : 'Studies beside each other'}
    </>
  );
  return (
    <Page title={title}>
      <div className="space-y-6 p-[18px]">
        {found.isPending && <Loading what="both studies" />}
        {found.isError && <Failed error={found.error} retry={() => void found.refetch()} />}
        {found.data && (
          <>
            <Total found={found.data} />
            <Levels found={found.data} onLevel={(to) => set('level', to ? String(to) : '')} />
            <Nodes found={found.data} portfolio={Number(portfolio)} onNode={(to) => set('node', to)} />
          </>
        )}
      </div>
    </Page>
  );
}

type Found = Schema['Compared'];
const all = (found: Found) => [found.one, found.other, ...found.also];
const DASHES = ['dotted', 'dashed'] as const;
const nameOf = (study: Schema['ComparedStudy']) => `${study.name} #${study.id}`;
const percent = (value: number | null) => (value === null ? '–' : `${signed(value, 1)} %`);

type Period = Schema['ComparedPeriod'];

function Total({ found }: { found: Found }) {
  const colours = useColours();
  const options = useMemo(() => {
    const of = (which: 'one' | 'other') => found.by_period.map((period) => period[which]);
    const periods = found.by_period.map((one) => one.period);
    return {
      ...baseOptions(periods, 0, colours),
      series: [
        lineOf(nameOf(found.one), of('one'), colours.forecast, 2),
        lineOf(nameOf(found.other), of('other'), colours.plum, 1.6, { type: 'dashed' }),
        ...found.also.map((study, k) =>
          lineOf(
            nameOf(study),
            found.by_period.map((period) => period.also[k] ?? null),
            colours.second,
            1.6,
            { type: DASHES[k % DASHES.length] },
          ),
        ),
      ],
    };
  }, [found, colours]);
  const { total } = found;
  const rows = [
    { name: nameOf(found.one), shown: (one: Period) => fixed(one.one, 0) },
    { name: nameOf(found.other), shown: (one: Period) => fixed(one.other, 0) },
    {
      name: found.also.length ? 'difference of the first two' : 'difference',
      shown: (one: Period) => signed(one.difference, 0),
    },
    ...found.also.map((study, k) => ({
      name: nameOf(study),
      shown: (one: Period) => fixed(one.also[k] ?? null, 0),
    })),
  ];
  return (
    <section aria-labelledby="totals">
      <h2 id="totals" className="text-base font-semibold">
        {found.name}, period by period
      </h2>
      <p>
        {total
          ? `${found.by_period[0]?.period} to ${found.by_period.at(-1)?.period}: ${fixed(total.one, 0)} and ${fixed(total.other, 0)} units, ${signed(total.difference, 0)} (${percent(total.percent)}). `
          : 'They do not both have it. '}
        RMSSE in the backtest {fixed(found.one.rmsse, 3)} and {fixed(found.other.rmsse, 3)}, gain over the
        seasonal naive {signed(found.one.gain, 1)} and {signed(found.other.gain, 1)} %.
        {found.only_one + found.only_other > 0 &&
          ` Series in one of them alone: ${count(found.only_one)} and ${count(found.only_other)}.`}
      </p>
      {total && (
        <>
          <p className="mt-1 flex gap-4">
            <Key colour="var(--forecast)" label={nameOf(found.one)} />
            <Key colour="var(--color-secondary)" label={nameOf(found.other)} style="dashed" />
            {found.also.map((study, k) => (
              <Key
                key={study.id}
                colour="var(--second)"
                label={nameOf(study)}
                style={k % 2 ? 'dashed' : 'dotted'}
              />
            ))}
          </p>
          <Chart
            options={options}
            label={`${found.name} by period, as each study has it`}
            className="h-[200px] w-full"
          />
          <div className="overflow-x-auto">
            <table className="sheet">
              <thead>
                <tr>
                  <th> </th>
                  {found.by_period.map((one) => (
                    <th key={one.period} className="num">
                      {one.period}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {rows.map((row) => (
                  <tr key={row.name}>
                    <td className="whitespace-nowrap">{row.name}</td>
                    {found.by_period.map((one) => (
                      <td key={one.period} className="num">
                        {row.shown(one)}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </>
      )}
    </section>
  );
}

function Levels({ found, onLevel }: { found: Found; onLevel: (level: number) => void }) {
  return (
    <section aria-labelledby="where">
      <h2 id="where" className="mb-1 text-base font-semibold">
        Where they differ
      </h2>
      <table className="sheet w-auto!">
        <thead>
          <tr>
            <th>Level</th>
            <th className="num">Nodes that differ</th>
            <th className="num">Units moved</th>
          </tr>
        </thead>
        <tbody>
          {found.levels.map((level, k) => (
            <tr key={level.name} className={k === found.level ? 'bg-raised' : ''}>
              <td>
                <button
                  type="button"
                  className="cursor-pointer hover:underline"
                  aria-pressed={k === found.level}
                  onClick={() => onLevel(k)}
                >
                  {level.name}
                </button>
              </td>
              <td className="num">
                {count(level.n_changed)} of {count(level.n_nodes)}
              </td>
              <td className="num">{fixed(level.moved, 0)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Nodes({
  found,
  portfolio,
  onNode,
}: {
  found: Found;
  portfolio: number;
  onNode: (node: string) => void;
}) {
  const level = found.levels[found.level];
  const [taken, setTaken] = useState<Schema['ComparedNode'] | null>(null);
  return (
    <section aria-labelledby="nodes">
      <div className="mb-1 flex items-center">
        <h2 id="nodes" className="mr-auto text-base font-semibold">
          {level?.name}: those that differ most first
        </h2>
        <TableOut
          name="Two studies"
          head={['Node', nameOf(found.one), nameOf(found.other), 'Difference']}
          rows={() => found.nodes.map((node) => [node.name, node.one, node.other, node.difference])}
        />
      </div>
      <table className="sheet">
        <thead>
          <tr>
            <th>Node</th>
            <th className="num">{nameOf(found.one)}</th>
            <th className="num">{nameOf(found.other)}</th>
            <th className="num">Difference</th>
            <th className="num">%</th>
            <th aria-label="Take" />
          </tr>
        </thead>
        <tbody>
          {found.nodes.map((node) => (
            <tr key={node.node}>
              <td>
                <Link
                  className="hover:underline"
                  to={`/p/${portfolio}/s/${found.other.id}/series/${node.node}`}
                >
                  {node.name}
                </Link>
              </td>
              <td className="num">{fixed(node.one, 0)}</td>
              <td className="num">{fixed(node.other, 0)}</td>
              <td className="num font-semibold">{signed(node.difference, 0)}</td>
              <td className="num">{percent(node.percent)}</td>
              <td className="space-x-2 whitespace-nowrap">
                <button
                  type="button"
                  className="btn btn-xs btn-ghost"
                  aria-label={`Draw ${node.name}`}
                  onClick={() => {
                    onNode(node.node);
                    document.getElementById('totals')?.scrollIntoView({ block: 'nearest' });
                  }}
                >
                  Draw
                </button>
                <button
                  type="button"
                  className="btn btn-xs"
                  aria-label={`Take ${node.name} into ${nameOf(found.one)}`}
                  onClick={() => setTaken(node)}
                >
                  Take
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {taken && <Take node={taken} one={found.one} other={found.other} close={() => setTaken(null)} />}
    </section>
  );
}
