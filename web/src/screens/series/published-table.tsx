/** What would be published of a node, period by period, beside the year before and the last release. */
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { Schema } from '../../api/client';
import { digitsOf, isAdjusted, lookBack } from '../../charts/series';
import { fixed } from '../../ui/format';
import { Choice } from '../../ui/page';
import { TableOut } from '../../ui/table-out';
import { pasted } from '../adjust/draft';
import { released } from './queries';

type Node = Schema['Node'];
type Released = Schema['Released'];
const WAYS: { value: 'each' | 'sums'; label: string }[] = [
  { value: 'each', label: 'by period' },
  { value: 'sums', label: 'added up' },
];
const NO_RELEASE: Released = { release: null, mean: [] };

/** What stands beside the forecast: a heading, and a value for each lead. */
function beside(node: Node, before: Released): { head: string; values: (number | null)[] }[] {
  const back = lookBack(node);
  const ago = node.forecast.map((_, lead) => node.history[node.n_past + lead - (back?.periods ?? 0)] ?? null);
  return [
    ...(back ? [{ head: `A ${back.noun} ago`, values: ago }] : []),
    ...(node.base.some((value, lead) => value !== node.statistical[lead])
      ? [{ head: 'Before reconciliation', values: node.base }]
      : []),
    ...(before.release === null ? [] : [{ head: `Release ${before.release}`, values: before.mean }]),
  ];
}

/** Rows as they are shown and taken along: period, what stands beside, forecast, each band from wide to narrow. */
export function publishedRows(node: Node, before: Released = NO_RELEASE): (string | number | null)[][] {
  const columns = beside(node, before);
  return node.forecast.map((value, lead) => [
    node.periods[node.n_past + lead] ?? '',
    ...columns.map(({ values }) => values[lead] ?? null),
    ...(isAdjusted(node) ? [node.statistical[lead] ?? null] : []),
    value,
    ...node.bands.flatMap((band) => [band.low[lead] ?? null, band.high[lead] ?? null]),
  ]);
}

export function publishedHead(node: Node, before: Released = NO_RELEASE): string[] {
  const bands = node.bands.flatMap((band) => [`${band.level} % low`, `${band.level} % high`]);
  const changed = isAdjusted(node) ? ['Statistical'] : [];
  return ['Period', ...beside(node, before).map(({ head }) => head), ...changed, 'Forecast', ...bands];
}

/** The same added up from the first period on: sums and their bands. */
export function summedRows(node: Node): (string | number | null)[][] {
  return node.sums.map((value, lead) => [
    node.periods[node.n_past + lead] ?? '',
    value,
    ...node.sum_bands.flatMap((band) => [band.low[lead] ?? null, band.high[lead] ?? null]),
  ]);
}

export function summedHead(node: Node): string[] {
  const bands = node.sum_bands.flatMap((band) => [`${band.level} % low`, `${band.level} % high`]);
  return ['Up to', 'Forecast', ...bands];
}

export function PublishedTable({
  study,
  node,
  typed,
  onType,
  adjust,
}: {
  study: number;
  node: Node;
  /** What has been typed by lead, while the forecast can be typed over. */
  typed: Record<number, string> | undefined;
  onType: (typed: Record<number, string>) => void;
  /** Begins to adjust; nothing to begin where that is being done. */
  adjust: (() => void) | undefined;
}) {
  const before = useQuery(released(study, node.node)).data ?? NO_RELEASE;
  const [way, setWay] = useState<'each' | 'sums'>('each');
  const summed = way === 'sums' && !typed;
  const head = summed ? summedHead(node) : publishedHead(node, before);
  const rows = summed ? summedRows(node) : publishedRows(node, before);
  const digits = digitsOf(node);
  return (
    <section aria-labelledby="ahead" className="mt-5 overflow-x-auto">
      <div className="mb-1 flex items-center gap-2">
        <h2 id="ahead" className="mr-auto font-semibold">
          What would be published
        </h2>
        {!typed && <Choice label="" options={WAYS} value={way} onChange={setWay} />}
        {adjust && (
          <button type="button" className="btn btn-sm" onClick={adjust}>
            Adjust
          </button>
        )}
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
          {rows.map(([period, ...values], lead) => (
            <tr key={period}>
              <td className="whitespace-nowrap">{period}</td>
              {values.map((value, i) => {
                const own = head[i + 1] === 'Forecast';
                const changed = own && !summed && node.forecast[lead] !== node.statistical[lead];
                return (
                  <td
                    // biome-ignore lint/suspicious/noArrayIndexKey: a column is its place
                    key={i}
                    className={`num ${own ? 'font-semibold' : ''} ${changed ? 'text-accent' : ''}`}
                  >
                    {own && typed ? (
                      <Typed
                        label={`Forecast of ${period}`}
                        shown={fixed(value as number | null, digits)}
                        typed={typed[lead]}
                        onType={(text) => onType({ [lead]: text })}
                        onPaste={(text) => onType(pasted(text, lead, rows.length))}
                      />
                    ) : (
                      fixed(value as number | null, digits)
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** A number that can be typed over; several can be pasted from a sheet. */
function Typed({
  label,
  shown,
  typed,
  onType,
  onPaste,
}: {
  label: string;
  shown: string;
  typed: string | undefined;
  onType: (text: string) => void;
  onPaste: (text: string) => void;
}) {
  return (
    <input
      aria-label={label}
      className="input input-xs w-[84px] text-right font-semibold"
      value={typed ?? shown}
      onChange={(event) => onType(event.target.value)}
      onFocus={(event) => event.target.select()}
      onPaste={(event) => {
        const text = event.clipboardData.getData('text');
        if (!/[\n\t]/.test(text.trim())) return;
        event.preventDefault();
        onPaste(text);
      }}
      onKeyDown={(event) => {
        if (event.key !== 'Enter' && event.key !== 'ArrowDown' && event.key !== 'ArrowUp') return;
        event.preventDefault();
        const row = event.currentTarget.closest('tr');
        const next = event.key === 'ArrowUp' ? row?.previousElementSibling : row?.nextElementSibling;
        next?.querySelector('input')?.focus();
      }}
    />
  );
}
