/** Folding of the two trees of the Field, and what a cell shows. Pure, so that it is tested without a browser. */
import type { Schema } from '../../api/client';
import { signed } from '../../ui/format';

/** The Field, and by how much planners changed each node, in percent; null where they did not. */
export type Sheet = Schema['Sheet'] & { adjusted: (number | null)[] };
export type Line = Schema['TreeRow'];
export type Lens = 'gain' | 'wape' | 'rmsse' | 'adjusted';

/** Positions of the lines that are shown: those whose ancestors are all unfolded. */
export function visible(lines: Line[], unfolded: ReadonlySet<number>): number[] {
  const shown: boolean[] = [];
  return lines.flatMap((line, i) => {
    const parent = line.parent;
    shown[i] = parent < 0 || (shown[parent] === true && unfolded.has(parent));
    return shown[i] ? [i] : [];
  });
}

export function hasChildren(lines: Line[], at: number): boolean {
  return lines[at + 1]?.parent === at;
}

/** Name of a line, with its code where that is another. */
export function named(line: Line): string {
  return line.code ? `${line.name} (${line.code})` : line.name;
}

/** All lines above a depth. */
export function unfoldedTo(lines: Line[], depth: number): Set<number> {
  return new Set(lines.flatMap((line, i) => (line.depth < depth ? [i] : [])));
}

/** Which entry of the sheet stands at a row and a column. */
export function cellIndex(sheet: Sheet): (row: number, column: number) => number | undefined {
  const width = sheet.columns.length;
  const at = new Map<number, number>();
  sheet.row.forEach((row, i) => {
    at.set(row * width + (sheet.column[i] ?? 0), i);
  });
  return (row, column) => at.get(row * width + column);
}

export interface Match {
  rows: ReadonlySet<number>;
  cells: ReadonlySet<number>;
}

/** The finest cells of a kind of demand, and the rows that lead to them. */
export function ofKind(sheet: Sheet, kind: string): Match {
  const wanted = new Set(sheet.kinds.flatMap((words, k) => (words.split(', ').includes(kind) ? [k] : [])));
  const finest = (lines: Line[]) => Math.max(...lines.map((line) => line.depth));
  const down = finest(sheet.rows);
  const across = finest(sheet.columns);
  const rows = new Set<number>();
  const cells = new Set<number>();
  sheet.kind.forEach((k, i) => {
    const row = sheet.row[i] ?? 0;
    if (!wanted.has(k) || sheet.rows[row]?.depth !== down) return;
    if (sheet.columns[sheet.column[i] ?? 0]?.depth !== across) return;
    cells.add(i);
    for (let at = row; at >= 0; at = sheet.rows[at]?.parent ?? -1) rows.add(at);
  });
  return { rows, cells };
}

export const LENSES: { value: Lens; label: string; unit: string; worse: string; better: string }[] = [
  {
    value: 'gain',
    label: 'gain over the seasonal naive',
    unit: 'RMSSE, % below the seasonal naive',
    worse: 'worse',
    better: 'better',
  },
  { value: 'wape', label: 'error (WAPE)', unit: 'WAPE, % of volume', worse: 'large', better: 'small' },
  {
    value: 'rmsse',
    label: 'scaled error (RMSSE)',
    unit: 'RMSSE, 1 = a naive step',
    worse: 'large',
    better: 'small',
  },
  {
    value: 'adjusted',
    label: 'adjusted by planners',
    unit: 'Change of the forecast in %, over all its periods',
    worse: 'less',
    better: 'more',
  },
];

/** Upper ends of the tints from worse to better; gain rises, errors fall. */
const STEPS: Record<Lens, number[]> = {
  gain: [-15, -3, 3, 12, 25],
  wape: [80, 60, 45, 30, 20],
  rmsse: [1.2, 1, 0.85, 0.7, 0.55],
  adjusted: [-25, -10, 0, 10, 25],
};

/** 1 (worst) to 6 (best), 0 where the lens has no value. */
export function tint(lens: Lens, value: number | null | undefined): number {
  if (value === null || value === undefined) return 0;
  const steps = STEPS[lens];
  const passed =
    lens === 'gain' || lens === 'adjusted'
      ? steps.filter((step) => value >= step)
      : steps.filter((step) => value <= step);
  return passed.length + 1;
}

export function lensText(lens: Lens, value: number | null | undefined): string {
  if (value === null || value === undefined) return '';
  if (lens === 'gain') return signed(value, 0);
  if (lens === 'adjusted') return `${signed(value, Math.abs(value) < 10 ? 1 : 0)} %`;
  return lens === 'wape' ? value.toFixed(0) : value.toFixed(2);
}

export interface Paths {
  past: string;
  ahead: string;
}

const MISSING = 255;

/** Two SVG paths of a cell's picture in a box of `width` by `height`. */
export function sparkPaths(encoded: string, nPast: number, width: number, height: number): Paths {
  const bytes = Uint8Array.from(atob(encoded), (c) => c.charCodeAt(0));
  const x = (i: number) => ((i * width) / Math.max(1, bytes.length - 1)).toFixed(1);
  const y = (v: number) => (height - (v / 254) * height).toFixed(1);
  const path = (from: number, to: number) => {
    let pen = 'M';
    let text = '';
    for (let i = from; i < to; i++) {
      const v = bytes[i] ?? MISSING;
      if (v === MISSING) {
        pen = 'M';
      } else {
        text += `${pen}${x(i)} ${y(v)}`;
        pen = 'L';
      }
    }
    return text;
  };
  return { past: path(0, nPast), ahead: path(Math.max(0, nPast - 1), bytes.length) };
}

/** The worst cells of the lines that are shown, worst first. */
export function worst(
  sheet: Sheet,
  lens: Lens,
  rows: Set<number>,
  columns: Set<number>,
  n: number,
): number[] {
  const values = sheet[lens];
  const sign = lens === 'gain' ? 1 : -1;
  const met = new Set<string>();
  return sheet.node
    .map((_, i) => i)
    .filter((i) => {
      const value = values[i];
      return (
        value !== null &&
        value !== undefined &&
        tint(lens, value) <= 2 &&
        rows.has(sheet.row[i] ?? -1) &&
        columns.has(sheet.column[i] ?? -1)
      );
    })
    .sort((a, b) => sign * ((values[a] ?? 0) - (values[b] ?? 0)))
    .filter((cell) => {
      const node = sheet.node[cell] ?? '';
      if (met.has(node)) return false; // it stands below several parents
      met.add(node);
      return true;
    })
    .slice(0, n);
}
