/** What is odd in a file: how often, what is done about it, and three examples. */
import type { Schema } from '../../api/client';
import { count } from '../../ui/format';

const WORDS: Record<string, string> = {
  duplicate: 'Several rows for one period',
  copy: 'Exact copies of rows',
  'total-row': 'Totals among the rows',
  'total-column': 'Totals among the columns',
  'two-decimals': 'Two ways of writing decimals',
  gap: 'Missing periods',
  negative: 'Negative values',
  'not-a-number': 'Not a number',
  'off-calendar': 'Off the calendar',
  'missing-key': 'Key missing',
  'late-start': 'Series that start late',
  'early-end': 'Series that end early',
  'unfinished-period': 'Periods not complete',
  'driver-gap': 'Driver not known ahead',
  'time-of-day': 'Times of day',
  'ambiguous-date': 'Day or month first?',
  'missing-attribute': 'Attribute missing',
  contradiction: 'Contradicting attributes',
  'unknown-child': 'Neither series nor parents',
};

export function Findings({ findings }: { findings: Schema['Finding'][] }) {
  if (findings.length === 0) return <p className="text-second">Nothing odd was found.</p>;
  return (
    <table className="sheet">
      <thead>
        <tr>
          <th>Finding</th>
          <th className="num">Count</th>
          <th>What loading does</th>
          <th>Examples</th>
        </tr>
      </thead>
      <tbody>
        {findings.map((finding) => (
          <tr key={`${finding.kind} ${finding.remedy} ${finding.examples[0]?.column}`}>
            <td className="whitespace-nowrap">{WORDS[finding.kind] ?? finding.kind}</td>
            <td className="num">{count(finding.count)}</td>
            <td>{finding.remedy}</td>
            <td className="text-second">
              {finding.examples.map((example) => (
                <span key={`${example.row} ${example.column} ${example.text}`} className="mr-3 inline-block">
                  {example.row > 0
                    ? `row ${count(example.row)}, ${example.column}: “${example.text}”`
                    : `${example.column}, ${example.text}`}
                </span>
              ))}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
