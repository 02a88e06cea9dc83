/** Rows of a structure drawn by hand: a total, and what lies below it. */
import type { ClipboardEvent } from 'react';
import type { Schema } from '../../api/client';

export type Row = Schema['RowRequest'];

export const EMPTY: Row = { total: '', below: '', level: '' };
const COLUMNS = [
  { name: 'total', label: 'Total' },
  { name: 'below', label: 'What lies below it' },
  { name: 'level', label: 'Level' },
] as const;

/** Rows of cells copied from a sheet, put in from row `at` on; undefined where it is a single cell. */
export function pasted(text: string, rows: Row[], at: number): Row[] | undefined {
  const lines = text.replace(/\r/g, '').split('\n');
  if (!text.includes('\t') && lines.length === 1) return undefined;
  const found = lines
    .filter((line) => line.trim() !== '')
    .map((line) => line.split('\t').map((cell) => cell.trim()))
    .map(([total = '', below = '', level = '']) => ({ total, below, level }));
  return [...rows.slice(0, at), ...found, ...rows.slice(at + 1)];
}

/** Rows that say something. */
export function written(rows: Row[]): Row[] {
  return rows.filter((row) => row.total.trim() !== '' || row.below.trim() !== '');
}

export function Rows({ rows, values, set }: { rows: Row[]; values: string[]; set: (rows: Row[]) => void }) {
  const totals = [...new Set(rows.map((row) => row.total.trim()))].filter((name) => name !== '');
  const change = (i: number, name: keyof Row, value: string) =>
    set(rows.map((row, k) => (k === i ? { ...row, [name]: value } : row)));
  const paste = (i: number) => (event: ClipboardEvent) => {
    const found = pasted(event.clipboardData.getData('text'), rows, i);
    if (!found) return;
    event.preventDefault();
    set(found);
  };
  return (
    <div>
      <table className="w-full">
        <thead>
          <tr className="text-left text-second">
            {COLUMNS.map((one) => (
              <th key={one.name} className="pr-2 font-normal">
                {one.label}
              </th>
            ))}
            <th />
          </tr>
        </thead>
        <tbody>
          {rows.map((row, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a row is known by nothing but its place
            <tr key={i}>
              {COLUMNS.map((one) => (
                <td key={one.name} className="pr-2 pb-1">
                  <input
                    aria-label={`${one.label}, row ${i + 1}`}
                    className="input input-xs w-full"
                    list={one.name === 'level' ? undefined : `rows-${one.name}`}
                    value={row[one.name] ?? ''}
                    onChange={(event) => change(i, one.name, event.target.value)}
                    onPaste={one.name === 'total' ? paste(i) : undefined}
                  />
                </td>
              ))}
              <td className="w-0">
                <button
                  type="button"
                  className="btn btn-ghost btn-xs"
                  aria-label={`Remove row ${i + 1}`}
                  onClick={() => set(rows.length > 1 ? rows.filter((_, k) => k !== i) : [EMPTY])}
                >
                  ×
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <datalist id="rows-total">
        {totals.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      <datalist id="rows-below">
        {[...totals, ...values].map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      <button type="button" className="btn btn-xs" onClick={() => set([...rows, EMPTY])}>
        Add a row
      </button>
      <p className="mt-1 text-second">
        Below a total lies another total of these rows, a value such as {values[0] ?? 'group: Herbs'}, or one
        series, its keys joined by “ × ”. Cells copied from a sheet can be pasted into Total.
      </p>
    </div>
  );
}
