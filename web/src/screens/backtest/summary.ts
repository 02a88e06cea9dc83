/** What a manager asks of a backtest, in sentences. */
import type { Schema } from '../../api/client';
import { count, fixed, periods, share } from '../../ui/format';

export function summarySentences(data: Schema['Summary'], frequency: string): string[] {
  const { accuracy } = data;
  const finest = accuracy.levels.length - 2;
  const at = (level: number, name: string) =>
    accuracy.by_method[level]?.[accuracy.methods.length - 1]?.[0]?.[accuracy.measures.indexOf(name)];
  const found: string[] = [];
  const gain = at(finest, 'gain');
  const asked = `${count(data.origins.length)} origins, ${count(data.leads)} ${periods(frequency)} ahead`;
  found.push(
    gain === null || gain === undefined
      ? `Tested from ${asked}, on ${count(data.n_series)} series.`
      : `Tested from ${asked}, what is published errs ${fixed(Math.abs(gain), 0)} % ${gain < 0 ? 'more' : 'less'} than repeating last season, on ${count(data.n_series)} series.`,
  );
  const report = accuracy.report;
  if (report) {
    const total = report.gains.reduce((sum, one) => sum + one, 0);
    if (total > 0) found.push(`On ${count(report.n_worse)} of them it errs more.`);
  }
  const bands = accuracy.bands.map(
    (band, b) =>
      `${share(accuracy.coverage[finest]?.[0]?.[b])} % ${b === 0 ? 'of the actuals lay ' : ''}in the ${band} % band`,
  );
  if (bands.length > 0) found.push(`${bands.join(', ')}.`);
  if (accuracy.levels[0]?.n_nodes !== 1) return found;
  const bias = at(0, 'bias');
  const wape = at(0, 'WAPE');
  if (bias !== null && bias !== undefined && wape !== null && wape !== undefined)
    found.push(
      `Forecasts of the total were ${fixed(wape, 1)} % off, and ${fixed(Math.abs(bias), 1)} % too ${bias < 0 ? 'high' : 'low'} over all origins.`,
    );
  return found;
}
