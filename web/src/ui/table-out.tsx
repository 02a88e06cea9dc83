/** Take a table along: copied with its headers as cells, or as a CSV file. */
import { useState } from 'react';
import { saveFile } from './save';

export type Cell = string | number | null | undefined;

/** A text that a sheet would take for a formula gets an apostrophe before it, as in the files of the server. */
function written(cell: Cell): string {
  if (cell === null || cell === undefined) return '';
  const text = String(cell);
  return /^[=+\-@\t\r]/.test(text) && Number.isNaN(Number(text)) ? `'${text}` : text;
}

/** Lines of cells with tabs between them, as sheets take them from the clipboard. */
export const asCells = (lines: Cell[][]) => lines.map((line) => line.map(written).join('\t')).join('\n');

/** RFC 4180: what holds a comma, a quote or a line break stands in quotes. */
export function asCsv(lines: Cell[][]): string {
  const quoted = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
  return lines.map((line) => `${line.map((cell) => quoted(written(cell))).join(',')}\r\n`).join('');
}

/** rows: made when they are asked for, as a long table would be work on every drawing. */
export function TableOut({
  name,
  head,
  rows,
  csv,
}: {
  name: string;
  head: string[];
  rows: () => Cell[][];
  /** Address of the file where the server makes it. */
  csv?: string;
}) {
  const [said, setSaid] = useState('Copy');
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(asCells([head, ...rows()]));
      setSaid('Copied');
    } catch {
      setSaid('The browser does not allow copying');
    }
    setTimeout(() => setSaid('Copy'), 2000);
  };
  return (
    <>
      <button
        type="button"
        className="btn btn-sm btn-ghost"
        aria-label={`Copy: ${name}`}
        onClick={() => void copy()}
      >
        <span aria-live="polite">{said}</span>
      </button>
      {csv ? (
        <a className="btn btn-sm btn-ghost" href={csv} download>
          CSV
        </a>
      ) : (
        <button
          type="button"
          className="btn btn-sm btn-ghost"
          aria-label={`CSV: ${name}`}
          onClick={() => saveFile(`${name}.csv`, asCsv([head, ...rows()]))}
        >
          CSV
        </button>
      )}
    </>
  );
}
