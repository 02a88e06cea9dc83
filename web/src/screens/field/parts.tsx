/** Parts of the Field: heads that fold, a cell with its picture, the legend of its tints. */
import { memo, useMemo } from 'react';
import { count } from '../../ui/format';
import { hasChildren, type Lens, lensText, named, type Sheet, sparkPaths, tint } from './tree';

export const ROW = 40;
export const HEAD = 30;
export const NAMES = 172;

export function Fold({ open, name, toggle }: { open: boolean; name: string; toggle: () => void }) {
  return (
    <button
      type="button"
      tabIndex={-1}
      aria-expanded={open}
      aria-label={`${open ? 'Fold' : 'Unfold'} ${name}`}
      className="w-4 shrink-0 cursor-pointer text-second"
      onClick={toggle}
    >
      {open ? '▾' : '▸'}
    </button>
  );
}

export function RowHead({
  sheet,
  row,
  open,
  toggle,
}: {
  sheet: Sheet;
  row: number;
  open: boolean;
  toggle: () => void;
}) {
  const line = sheet.rows[row];
  if (!line) return null;
  const folds = hasChildren(sheet.rows, row);
  return (
    // biome-ignore lint/a11y/useSemanticElements: the grid is made of boxes
    // biome-ignore lint/a11y/useFocusableInteractive: the grid holds the focus
    <div
      role="rowheader"
      className="sticky left-0 z-1 flex h-full items-center bg-base-100 pr-2 text-[13px] leading-tight"
      style={{ width: NAMES, paddingLeft: 8 + line.depth * 10 }}
    >
      {folds ? <Fold open={open} name={line.name} toggle={toggle} /> : <span className="w-4 shrink-0" />}
      <span className={`line-clamp-2 ${folds ? 'font-semibold' : ''}`} title={named(line)}>
        {line.name}
        {folds && <span className="font-normal text-second"> {count(line.series)}</span>}
      </span>
    </div>
  );
}

export function ColumnHead({
  sheet,
  column,
  left,
  width,
  open,
  toggle,
}: {
  sheet: Sheet;
  column: number;
  left: number;
  width: number;
  open: boolean;
  toggle: () => void;
}) {
  const line = sheet.columns[column];
  if (!line) return null;
  const folds = hasChildren(sheet.columns, column);
  return (
    // biome-ignore lint/a11y/useSemanticElements: the grid is made of boxes
    // biome-ignore lint/a11y/useFocusableInteractive: the grid holds the focus
    <div
      role="columnheader"
      className={`absolute flex items-center text-xs ${folds ? 'font-semibold' : 'text-second'}`}
      style={{ left, width, height: HEAD }}
    >
      {folds && <Fold open={open} name={line.name} toggle={toggle} />}
      <span className={`truncate ${folds ? '' : 'pl-1'}`} title={named(line)}>
        {line.name}
      </span>
    </div>
  );
}

export const Cell = memo(function Cell({
  id,
  left,
  width,
  current,
  faint,
  value,
  lens,
  spark,
  nPast,
  name,
  node,
  adjusted,
  picked,
  pick,
  open,
}: {
  id: string;
  left: number;
  width: number;
  current: boolean;
  faint: boolean;
  value: number | null | undefined;
  lens: Lens;
  spark: string | undefined;
  nPast: number;
  name: string;
  node: string | undefined;
  /** By how much planners changed it, in percent. */
  adjusted: number | null | undefined;
  picked: boolean;
  pick: (node: string) => void;
  open: (node: string) => void;
}) {
  const paths = useMemo(
    () => (spark ? sparkPaths(spark, nPast, width - 9, 18) : undefined),
    [spark, nPast, width],
  );
  const shade = tint(lens, value);
  const text = lensText(lens, value);
  const said = lensText('adjusted', adjusted);
  return (
    // biome-ignore lint/a11y/useSemanticElements: the grid is made of boxes
    // biome-ignore lint/a11y/useFocusableInteractive: the grid holds the focus and takes the keys
    // biome-ignore lint/a11y/useKeyWithClickEvents: Enter on the grid opens the current cell
    <div
      role="gridcell"
      id={id}
      aria-label={`${name}${text && `, ${lens} ${text}`}${said && lens !== 'adjusted' ? `, adjusted ${said}` : ''}`}
      aria-selected={picked}
      title={said ? `${name}, adjusted ${said}` : name}
      onClick={(event) => {
        if (node === undefined) return;
        if (event.ctrlKey || event.metaKey || event.shiftKey) pick(node);
        else open(node);
      }}
      className={`absolute top-0 border-r border-b border-base-100 ${node === undefined ? '' : 'cursor-pointer'} ${
        current ? 'current z-1 outline-base-content -outline-offset-1' : ''
      }`}
      style={{
        left,
        width,
        height: ROW,
        opacity: faint ? 0.25 : 1,
        background: node === undefined ? undefined : shade ? `var(--lens-${shade})` : 'var(--color-base-200)',
      }}
    >
      {paths && (
        <svg
          className="absolute top-[6px] left-[4px] overflow-visible"
          width={width - 9}
          height="18"
          fill="none"
          aria-hidden="true"
        >
          <path d={paths.past} stroke="currentColor" strokeWidth="1" />
          <path d={paths.ahead} stroke="var(--forecast)" strokeWidth="1.4" />
        </svg>
      )}
      {said && (
        <span className="absolute top-0 left-0 h-0 w-0 border-t-[8px] border-r-[8px] border-t-accent border-r-transparent" />
      )}
      {picked && <span className="absolute inset-0 border-2 border-accent" />}
      <span className="absolute right-1 bottom-0 text-[11px]">{text}</span>
    </div>
  );
});

export function Legend({ worse, better, unit }: { worse: string; better: string; unit: string }) {
  return (
    <div className="flex items-center gap-2 border-t border-rule px-[18px] py-2 text-xs text-second">
      {worse}
      {[1, 2, 3, 4, 5, 6].map((shade) => (
        <span key={shade} className="h-[11px] w-4" style={{ background: `var(--lens-${shade})` }} />
      ))}
      {better}
      <span className="ml-4">{unit}, in the backtest. Each line: the last year, then the forecast.</span>
    </div>
  );
}
