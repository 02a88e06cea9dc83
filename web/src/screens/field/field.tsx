/** All series at once: products down, places across, both foldable. */
import { useQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from 'react';
import { Link, useLocation, useNavigate, useParams, useSearchParams } from 'react-router';
import { ApiError } from '../../api/client';
import { sheet as sheetQuery } from '../../api/queries';
import { count } from '../../ui/format';
import { recall, remember } from '../../ui/kept';
import { Choice, Page } from '../../ui/page';
import { Empty, Failed, Loading } from '../../ui/states';
import { AdjustPicked } from '../adjust/picked';
import { changedNodes } from '../adjust/queries';
import { Cell, ColumnHead, HEAD, Legend, NAMES, ROW, RowHead } from './parts';
import {
  cellIndex,
  hasChildren,
  LENSES,
  type Lens,
  lensText,
  ofKind,
  type Sheet,
  unfoldedTo,
  visible,
  worst,
} from './tree';

/** What a number of a lens is of. */
const BESIDE = { gain: '', wape: '% of volume', rmsse: 'RMSSE', adjusted: 'of what was forecast' };

const NARROWEST = 75;
const WIDEST = 118;

export function Field() {
  const { portfolio, study } = useParams();
  const data = useQuery(sheetQuery(Number(study)));
  const changed = useQuery(changedNodes(Number(study))).data;
  const sheet = useMemo((): Sheet | undefined => {
    if (!data.data) return undefined;
    const by = new Map(changed?.node.map((node, i) => [node, changed.change[i] ?? 0]));
    return { ...data.data, adjusted: data.data.node.map((node) => by.get(node) ?? null) };
  }, [data.data, changed]);
  if (data.isPending) return <Loading what="the field" />;
  if (data.error instanceof ApiError && data.error.status === 409) {
    return (
      <Empty title="This study has no result yet">
        {data.error.message}{' '}
        <Link className="link" to={`/p/${portfolio}/study`}>
          See how far it is
        </Link>
        .
      </Empty>
    );
  }
  if (data.isError) return <Failed error={data.error} retry={() => void data.refetch()} />;
  return sheet && <FieldSheet sheet={sheet} ahead={changed?.periods ?? []} />;
}

/** Width of an element, followed as it changes. */
function useWidth(ref: React.RefObject<HTMLElement | null>): number {
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const element = ref.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth));
    observer.observe(element);
    return () => observer.disconnect();
  }, [ref]);
  return width;
}

function toggled(set: ReadonlySet<number>, value: number): Set<number> {
  const next = new Set(set);
  if (!next.delete(value)) next.add(value);
  return next;
}

/** How a field was left. */
interface Left {
  rows: number[];
  columns: number[];
  focus: { row: number; column: number };
  top: number;
  left: number;
}

function FieldSheet({ sheet, ahead }: { sheet: Sheet; ahead: string[] }) {
  const { portfolio, study } = useParams();
  const navigate = useNavigate();
  const [search, setSearch] = useSearchParams();
  const lens = (LENSES.find((one) => one.value === search.get('lens'))?.value ?? 'gain') as Lens;
  const words = LENSES.find((one) => one.value === lens);
  const deepest = Math.max(...sheet.rows.map((row) => row.depth));
  const entry = `field ${study} ${useLocation().key}`;
  const [left] = useState(() => recall<Left>(entry));
  const [openRows, setOpenRows] = useState(() =>
    left ? new Set(left.rows) : unfoldedTo(sheet.rows, Math.min(2, Math.max(1, deepest - 1))),
  );
  const [openColumns, setOpenColumns] = useState(() =>
    left ? new Set(left.columns) : unfoldedTo(sheet.columns, 1),
  );
  const kind = search.get('kind');
  const match = useMemo(() => (kind ? ofKind(sheet, kind) : null), [sheet, kind]);
  const rows = useMemo(
    // the topmost row stays where nothing is of the kind
    () => visible(sheet.rows, openRows).filter((row) => !match || row === 0 || match.rows.has(row)),
    [sheet, openRows, match],
  );
  const columns = useMemo(() => visible(sheet.columns, openColumns), [sheet, openColumns]);
  const at = useMemo(() => cellIndex(sheet), [sheet]);
  const [focus, setFocus] = useState(left?.focus ?? { row: 0, column: 0 });
  const here = {
    row: Math.min(focus.row, rows.length - 1),
    column: Math.min(focus.column, columns.length - 1),
  };
  const scroller = useRef<HTMLDivElement>(null);
  const width = useWidth(scroller);
  const column = Math.max(NARROWEST, Math.min(WIDEST, Math.floor((width - NAMES - 24) / columns.length)));
  const down = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 6,
    initialOffset: left?.top ?? 0,
    scrollMargin: HEAD,
    scrollPaddingStart: HEAD + 4,
  });
  const across = useVirtualizer({
    horizontal: true,
    count: columns.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => column,
    overscan: 3,
    initialOffset: left?.left ?? 0,
    scrollMargin: NAMES,
    scrollPaddingStart: NAMES + 4,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: columns are measured anew when their width changes
  useEffect(() => across.measure(), [column]);
  const now = useRef({ entry, openRows, openColumns, focus });
  now.current = { entry, openRows, openColumns, focus };
  useLayoutEffect(() => {
    const element = scroller.current;
    if (!element) return;
    if (left) element.focus({ preventScroll: true });
    return () => {
      const { entry, openRows, openColumns, focus } = now.current;
      remember<Left>(entry, {
        rows: [...openRows],
        columns: [...openColumns],
        focus,
        top: element.scrollTop,
        left: element.scrollLeft,
      });
    };
  }, [left]);
  const open = useCallback(
    (node: string) => navigate(`/p/${portfolio}/s/${study}/series/${node}`),
    [navigate, portfolio, study],
  );
  useEffect(() => {
    performance.mark('field-painted');
  }, []);
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const pick = useCallback(
    (node: string) =>
      setPicked((before) => {
        const next = new Set(before);
        if (!next.delete(node)) next.add(node);
        return next;
      }),
    [],
  );

  const move = (row: number, place: number) => {
    const next = {
      row: Math.max(0, Math.min(rows.length - 1, row)),
      column: Math.max(0, Math.min(columns.length - 1, place)),
    };
    setFocus(next);
    down.scrollToIndex(next.row);
    across.scrollToIndex(next.column);
  };
  const onKeyDown = (event: React.KeyboardEvent) => {
    const page = Math.max(1, Math.floor((scroller.current?.clientHeight ?? 400) / ROW) - 2);
    const moves: Record<string, [number, number]> = {
      ArrowDown: [here.row + 1, here.column],
      ArrowUp: [here.row - 1, here.column],
      ArrowRight: [here.row, here.column + 1],
      ArrowLeft: [here.row, here.column - 1],
      PageDown: [here.row + page, here.column],
      PageUp: [here.row - page, here.column],
      Home: [here.row, 0],
      End: [here.row, columns.length - 1],
    };
    const to = moves[event.key];
    const row = rows[here.row] ?? 0;
    const place = columns[here.column] ?? 0;
    if (to) move(...to);
    else if (event.key === 'Enter') {
      const cell = at(row, place);
      if (cell !== undefined) open(sheet.node[cell] ?? 'top');
    } else if (event.key === 'x') {
      const cell = at(row, place);
      const node = cell === undefined ? undefined : sheet.node[cell];
      if (node !== undefined) pick(node);
    } else if (event.key === 'Escape' && picked.size) setPicked(new Set());
    else if (event.key === ' ' && event.shiftKey) {
      if (hasChildren(sheet.columns, place)) setOpenColumns(toggled(openColumns, place));
    } else if (event.key === ' ') {
      if (hasChildren(sheet.rows, row)) setOpenRows(toggled(openRows, row));
    } else return;
    event.preventDefault();
  };
  const first = useMemo(
    () => worst(sheet, lens, new Set(rows), new Set(columns), 10),
    [sheet, lens, rows, columns],
  );
  /** A sheet of one column says nothing of it. */
  const nameAt = (row: number, column: number) =>
    [sheet.rows[row]?.name, ...(sheet.columns.length > 1 ? [sheet.columns[column]?.name] : [])].join(' × ');
  const names = (cell: number) => nameAt(sheet.row[cell] ?? 0, sheet.column[cell] ?? 0);
  return (
    <Page
      title={nameAt(0, 0)}
      actions={
        <>
          {kind && (
            <button
              type="button"
              className="btn btn-xs"
              title="Show all kinds again"
              onClick={() => setSearch({ lens })}
            >
              only {kind}, {count(match?.cells.size ?? 0)} series ✕
            </button>
          )}
          <Choice
            label="Lens"
            options={LENSES}
            value={lens}
            onChange={(value) => setSearch({ lens: value, ...(kind ? { kind } : {}) })}
          />
        </>
      }
      aside={
        <section aria-labelledby="look-here">
          <h2 id="look-here" className="mb-2 text-[13px] font-semibold text-second">
            Look here first
          </h2>
          {first.length === 0 && <p className="text-second">None of the cells shown stands out as bad.</p>}
          <ul>
            {first.map((cell) => (
              <li key={sheet.node[cell]} className="border-b border-rule py-2 text-[13px] leading-snug">
                <Link
                  to={`/p/${portfolio}/s/${study}/series/${sheet.node[cell]}`}
                  className="hover:underline"
                >
                  <b>{names(cell)}</b>
                </Link>
                <span className="block text-xs text-second">
                  {lens === 'gain'
                    ? `error ${Math.abs(sheet.gain[cell] ?? 0).toFixed(0)} % above the seasonal naive`
                    : `${lensText(lens, sheet[lens][cell])} ${BESIDE[lens]}`}
                </span>
              </li>
            ))}
          </ul>
        </section>
      }
    >
      <div className="flex h-full flex-col">
        {/* biome-ignore lint/a11y/useSemanticElements: a virtual grid of thousands of cells is no table element */}
        <div
          ref={scroller}
          role="grid"
          tabIndex={0}
          aria-label={`${words?.label}, products down and places across`}
          aria-rowcount={rows.length + 1}
          aria-colcount={columns.length + 1}
          aria-multiselectable="true"
          aria-activedescendant={`cell-${here.row}-${here.column}`}
          onKeyDown={onKeyDown}
          className="relative min-h-0 flex-1 overflow-auto outline-none! [&:focus-visible_.current]:outline-2"
        >
          <div
            style={{
              height: rows.length * ROW + HEAD,
              width: columns.length * column + NAMES + 8,
              position: 'relative',
            }}
          >
            {/* biome-ignore lint/a11y/useSemanticElements: see above */}
            {/* biome-ignore lint/a11y/useFocusableInteractive: the grid holds the focus */}
            <div role="row" className="sticky top-0 z-2 bg-base-100" style={{ height: HEAD }}>
              {across.getVirtualItems().map((item) => {
                const place = columns[item.index] ?? 0;
                return (
                  <ColumnHead
                    key={place}
                    sheet={sheet}
                    column={place}
                    left={item.start}
                    width={column}
                    open={openColumns.has(place)}
                    toggle={() => setOpenColumns(toggled(openColumns, place))}
                  />
                );
              })}
              <div className="sticky left-0 z-3 bg-base-100" style={{ width: NAMES, height: HEAD }} />
            </div>
            {down.getVirtualItems().map((item) => {
              const row = rows[item.index] ?? 0;
              return (
                // biome-ignore lint/a11y/useSemanticElements: see above
                // biome-ignore lint/a11y/useFocusableInteractive: the grid holds the focus
                <div
                  key={row}
                  role="row"
                  aria-rowindex={item.index + 2}
                  className="absolute left-0"
                  style={{ top: item.start, height: ROW, width: '100%' }}
                >
                  {across.getVirtualItems().map((col) => {
                    const place = columns[col.index] ?? 0;
                    const cell = at(row, place);
                    const current = item.index === here.row && col.index === here.column;
                    return (
                      <Cell
                        key={place}
                        id={`cell-${item.index}-${col.index}`}
                        left={col.start}
                        width={column}
                        current={current}
                        faint={
                          match !== null &&
                          cell !== undefined &&
                          isFinest(sheet, cell) &&
                          !match.cells.has(cell)
                        }
                        value={cell === undefined ? undefined : sheet[lens][cell]}
                        lens={lens}
                        spark={cell === undefined ? undefined : sheet.spark[cell]}
                        nPast={sheet.n_past}
                        name={cell === undefined ? 'not on sale' : names(cell)}
                        node={cell === undefined ? undefined : sheet.node[cell]}
                        adjusted={cell === undefined ? undefined : sheet.adjusted[cell]}
                        picked={cell !== undefined && picked.has(sheet.node[cell] ?? '')}
                        pick={pick}
                        open={open}
                      />
                    );
                  })}
                  <RowHead
                    sheet={sheet}
                    row={row}
                    open={openRows.has(row)}
                    toggle={() => setOpenRows(toggled(openRows, row))}
                  />
                </div>
              );
            })}
          </div>
        </div>
        {picked.size > 0 && ahead.length > 0 && (
          <AdjustPicked
            portfolio={Number(portfolio)}
            study={Number(study)}
            picked={picked}
            ahead={ahead}
            close={() => setPicked(new Set())}
          />
        )}
        <Legend worse={words?.worse ?? ''} better={words?.better ?? ''} unit={words?.unit ?? ''} />
      </div>
    </Page>
  );
}

/** Whether a cell is one series. */
function isFinest(sheet: Sheet, cell: number): boolean {
  const row = sheet.row[cell] ?? 0;
  const column = sheet.column[cell] ?? 0;
  return !hasChildren(sheet.rows, row) && !hasChildren(sheet.columns, column);
}
