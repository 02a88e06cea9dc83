/** Where there is history: series down, periods across, thousands at once. */
import { useQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import type { Schema } from '../../api/client';
import { useColours } from '../../charts/colours';
import { count, fixed } from '../../ui/format';
import { Choice, Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { IntakeTabs } from '../intake/tabs';
import { decode, lookup, type Palette, STRIP, strips } from './coverage-image';
import { coverage } from './queries';

const ORDERS = [
  { value: 'first sale', label: 'first sale' },
  { value: 'volume', label: 'volume' },
  { value: 'empty periods', label: 'empty periods' },
] as const;
const HEIGHTS = [
  { value: 'all', label: 'all in view' },
  { value: '3', label: 'rows' },
  { value: '14', label: 'large rows' },
] as const;
type Order = (typeof ORDERS)[number]['value'];
type Height = (typeof HEIGHTS)[number]['value'];

const NAMES_WIDTH = 190;
const NO_NAMES_WIDTH = 110;
const AXIS = 22;

export function CoverageScreen() {
  const portfolio = Number(useParams().portfolio);
  const found = useQuery(coverage(portfolio));
  const [order, setOrder] = useState<Order>('first sale');
  const [height, setHeight] = useState<Height>('all');
  if (found.isPending) return <Loading what="coverage" />;
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  return (
    <Page title="Intake › Coverage" actions={<IntakeTabs portfolio={portfolio} />}>
      <div className="flex h-full flex-col">
        <div className="flex flex-wrap items-center gap-x-6 gap-y-1 px-[18px] py-2">
          <Choice label="Sort by" options={ORDERS} value={order} onChange={setOrder} />
          <Choice label="Show" options={HEIGHTS} value={height} onChange={setHeight} />
          <Legend />
        </div>
        <Picture portfolio={portfolio} data={found.data} order={order} height={height} />
      </div>
    </Page>
  );
}

function usePalette(): Palette {
  const colours = useColours();
  return useMemo(() => {
    const value = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
    return {
      missing: colours.paper,
      zero: colours.rule,
      negative: colours.brick,
      low: value('--sale-low'),
      high: value('--sale-high'),
    };
  }, [colours]);
}

function Legend() {
  const palette = usePalette();
  return (
    <ul className="ml-auto flex gap-4 text-[13px] text-second" aria-label="What the tints mean">
      <Swatch label="no value" style={{ background: palette.missing }} />
      <Swatch label="zero" style={{ background: palette.zero }} />
      <Swatch
        label="low to high sales"
        wide
        style={{ background: `linear-gradient(90deg, ${palette.low}, ${palette.high})` }}
      />
      <Swatch label="negative" style={{ background: palette.negative }} />
    </ul>
  );
}

function Swatch({ label, style, wide }: { label: string; style: React.CSSProperties; wide?: boolean }) {
  return (
    <li className="flex items-center gap-1.5">
      <span className={`inline-block h-3 border border-rule ${wide ? 'w-12' : 'w-3'}`} style={style} />
      {label}
    </li>
  );
}

interface Spot {
  row: number;
  period: number;
}

function Picture({
  portfolio,
  data,
  order,
  height,
}: {
  portfolio: number;
  data: Schema['Coverage'];
  order: Order;
  height: Height;
}) {
  const navigate = useNavigate();
  const colours = useColours();
  const palette = usePalette();
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState({ width: 0, height: 0 });
  const [spot, setSpot] = useState<Spot | null>(null);
  const nPeriods = data.periods.length;
  const rows = data.orders[order] ?? [];
  const cells = useMemo(() => decode(data.cells), [data.cells]);
  const images = useMemo(
    () => strips(cells, rows, nPeriods, lookup(palette)),
    [cells, rows, nPeriods, palette],
  );
  const labels = height === '14' ? NAMES_WIDTH : NO_NAMES_WIDTH;
  const plot = { width: Math.max(1, size.width - labels), height: Math.max(1, size.height - AXIS) };
  const rowHeight = height === 'all' ? plot.height / Math.max(1, rows.length) : Number(height);

  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const observer = new ResizeObserver(() =>
      setSize({ width: element.clientWidth, height: element.clientHeight }),
    );
    observer.observe(element);
    return () => observer.disconnect();
  }, []);

  const paint = useCallback(() => {
    const surface = canvas.current;
    const element = box.current;
    const context = surface?.getContext('2d');
    if (!surface || !element || !context || size.width === 0) return;
    const ratio = window.devicePixelRatio || 1;
    if (surface.width !== Math.round(size.width * ratio)) surface.width = Math.round(size.width * ratio);
    if (surface.height !== Math.round(size.height * ratio)) surface.height = Math.round(size.height * ratio);
    context.setTransform(ratio, 0, 0, ratio, 0, 0);
    context.clearRect(0, 0, size.width, size.height);
    context.imageSmoothingEnabled = rowHeight < 1;
    const top = height === 'all' ? 0 : element.scrollTop;
    const first = Math.floor(top / rowHeight);
    const last = Math.min(rows.length, Math.ceil((top + plot.height) / rowHeight));
    for (let k = Math.floor(first / STRIP); k * STRIP < last; k++) {
      const image = images[k];
      if (!image) continue;
      const from = Math.max(first - k * STRIP, 0);
      const n = Math.min(last - k * STRIP, image.height) - from;
      const y = AXIS + (k * STRIP + from) * rowHeight - top;
      context.drawImage(image, 0, from, nPeriods, n, labels, y, plot.width, n * rowHeight);
    }
    context.fillStyle = colours.paper;
    context.fillRect(0, 0, size.width, AXIS);
    context.fillStyle = colours.second;
    context.font = '12px "Source Sans 3 Variable", sans-serif';
    context.textBaseline = 'middle';
    let free = 0;
    data.periods.forEach((label, t) => {
      const x = labels + (t * plot.width) / nPeriods;
      if (x < free || x > size.width - 60) return;
      context.fillText(label, x, AXIS / 2);
      free = x + 110;
    });
    if (rowHeight >= 12) {
      for (let row = first; row < last; row++) {
        context.fillText(
          data.series[rows[row] ?? 0] ?? '',
          18,
          AXIS + (row + 0.5) * rowHeight - top,
          labels - 26,
        );
      }
    } else {
      context.fillText(`${count(rows.length)} series`, 18, AXIS + 10);
      context.fillText(`by ${order}`, 18, AXIS + 26);
    }
    if (!surface.dataset.painted) performance.mark('coverage-painted');
    surface.dataset.painted = 'yes';
  }, [
    images,
    size,
    height,
    rowHeight,
    rows,
    order,
    colours,
    data,
    nPeriods,
    labels,
    plot.width,
    plot.height,
  ]);

  useEffect(() => {
    paint();
    const element = box.current;
    let frame = 0;
    const onScroll = () => {
      cancelAnimationFrame(frame);
      frame = requestAnimationFrame(paint);
    };
    element?.addEventListener('scroll', onScroll, { passive: true });
    return () => {
      cancelAnimationFrame(frame);
      element?.removeEventListener('scroll', onScroll);
    };
  }, [paint]);

  const at = (event: React.PointerEvent | React.MouseEvent): Spot | null => {
    const element = box.current;
    if (!element) return null;
    const frame = element.getBoundingClientRect();
    const top = height === 'all' ? 0 : element.scrollTop;
    const row = Math.floor((event.clientY - frame.top - AXIS + top) / rowHeight);
    const period = Math.floor(((event.clientX - frame.left - labels) / plot.width) * nPeriods);
    if (row < 0 || row >= rows.length || period < 0 || period >= nPeriods) return null;
    return { row, period };
  };
  const open = (row: number) => navigate(`/p/${portfolio}/intake/series/${data.refs[rows[row] ?? 0]}`);
  const move = (event: React.KeyboardEvent) => {
    const now = spot ?? { row: 0, period: nPeriods - 1 };
    const page = Math.max(1, Math.floor(plot.height / Math.max(rowHeight, 1)));
    const step: Record<string, [number, number]> = {
      ArrowDown: [1, 0],
      ArrowUp: [-1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      PageDown: [page, 0],
      PageUp: [-page, 0],
    };
    if (event.key === 'Enter') {
      open(now.row);
      return;
    }
    const by = step[event.key];
    if (!by) return;
    event.preventDefault();
    const row = Math.min(rows.length - 1, Math.max(0, now.row + by[0]));
    setSpot({ row, period: Math.min(nPeriods - 1, Math.max(0, now.period + by[1])) });
    const element = box.current;
    if (element && height !== 'all') {
      const y = row * rowHeight;
      if (y < element.scrollTop) element.scrollTop = y;
      else if (y + rowHeight > element.scrollTop + plot.height)
        element.scrollTop = y + rowHeight - plot.height;
    }
  };
  const series = spot ? (rows[spot.row] ?? 0) : null;
  const cell = spot && series !== null ? cells[series * nPeriods + spot.period] : undefined;
  const words =
    cell === 0
      ? 'no value'
      : cell === 1
        ? 'zero'
        : cell === 2
          ? 'negative'
          : `sales class ${(cell ?? 3) - 2} of 6`;
  return (
    <>
      <div
        ref={box}
        role="application"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: the picture takes the arrow keys
        tabIndex={0}
        aria-label={`Coverage of ${count(rows.length)} series over ${count(nPeriods)} periods; arrow keys move, Enter opens the series`}
        className="relative min-h-0 flex-1 cursor-crosshair overflow-y-auto overflow-x-hidden"
        onPointerMove={(event) => setSpot(at(event))}
        onClick={(event) => {
          const hit = at(event);
          if (hit) open(hit.row);
        }}
        onKeyDown={move}
      >
        <canvas
          ref={canvas}
          className="sticky top-0 block"
          style={{ width: size.width, height: size.height }}
        />
        <div
          style={{ height: height === 'all' ? 0 : Math.max(0, rows.length * rowHeight + AXIS - size.height) }}
        />
      </div>
      <output className="block min-h-[34px] border-t border-rule px-[18px] py-1.5 text-[13px]">
        {spot && series !== null ? (
          <>
            <b>{data.series[series]}</b>, {data.periods[spot.period]}: {words}. Sold{' '}
            {count(data.volume[series] ?? 0)} in all; {fixed(100 * (data.empty[series] ?? 0), 0)} % of its
            periods are empty.
          </>
        ) : (
          <span className="text-second">Point at a series to read it; a click or Enter opens it.</span>
        )}
      </output>
    </>
  );
}
