/** The origin handle: diamonds on the time axis, one of which can be picked or dragged to. */
import { useLayoutEffect, useRef } from 'react';
import type { Schema } from '../../api/client';
import { typing } from '../../ui/typing';

const OWN_ARROWS = 'dialog, [role=dialog], [role=menu], [role=listbox], [role=tablist], [role=grid]';

function said(one: { period: string; release?: number } | undefined): string {
  if (!one) return '';
  return one.release ? `R${one.release} from ${one.period}` : one.period;
}

export interface Tick {
  index: number;
  x: number;
}

export function OriginHandle({
  origins,
  ticks,
  top,
  bottom,
  chosen,
  onChoose,
}: {
  origins: (Schema['Origin'] & { release?: number })[];
  ticks: Tick[];
  top: number;
  bottom: number;
  chosen: number | null;
  onChoose: (index: number | null) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const nearest = (clientX: number) => {
    const left = box.current?.getBoundingClientRect().left ?? 0;
    const distance = (tick: Tick) => Math.abs(tick.x - (clientX - left));
    return ticks.reduce<Tick | undefined>(
      (best, tick) => (best === undefined || distance(tick) < distance(best) ? tick : best),
      undefined,
    );
  };
  const drag = (event: React.PointerEvent) => {
    if (event.buttons !== 1) return;
    const tick = nearest(event.clientX);
    if (tick && tick.index !== chosen) onChoose(tick.index);
  };
  // in the same breath as what is shown: a key pressed right after it must not start from the origin before
  useLayoutEffect(() => {
    const step = (by: number) => {
      const from = chosen ?? (by > 0 ? -1 : origins.length);
      onChoose(Math.max(0, Math.min(origins.length - 1, from + by)));
    };
    // Wherever the focus is, as j and k are, but for what has arrow keys of its own.
    const onKey = (event: KeyboardEvent) => {
      if (typing(event) || event.defaultPrevented) return;
      if (event.ctrlKey || event.metaKey || event.altKey || event.shiftKey) return;
      if (event.target instanceof Element && event.target.closest(OWN_ARROWS)) return;
      if (event.key === 'ArrowLeft') step(-1);
      else if (event.key === 'ArrowRight') step(1);
      else return;
      event.preventDefault();
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [chosen, onChoose, origins.length]);
  const current = ticks.find((tick) => tick.index === chosen);
  return (
    <div ref={box} className="pointer-events-none absolute inset-0">
      {current && (
        <div
          className="absolute border-l border-base-content"
          style={{ left: current.x, top, height: bottom - top }}
        >
          <span className="absolute -top-1 right-2 text-xs font-semibold whitespace-nowrap text-secondary">
            {!origins[current.index]?.release && 'origin '}
            {said(origins[current.index])}
          </span>
        </div>
      )}
      <div
        role="slider"
        tabIndex={0}
        aria-label="Origin: forecast as it would have been made then"
        aria-valuemin={0}
        aria-valuemax={origins.length}
        aria-valuenow={chosen === null ? 0 : chosen + 1}
        aria-valuetext={chosen === null ? 'none chosen' : said(origins[chosen])}
        className="pointer-events-auto absolute right-0 left-0 cursor-ew-resize touch-none"
        style={{ top: bottom - 10, height: 20 }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          const tick = nearest(event.clientX);
          if (tick) onChoose(tick.index === chosen ? null : tick.index);
        }}
        onPointerMove={drag}
        onKeyDown={(event) => {
          if (event.key !== 'Escape') return;
          onChoose(null);
          event.preventDefault();
          event.stopPropagation();
        }}
      >
        {ticks.map((tick) => (
          <span
            key={tick.index}
            data-origin={origins[tick.index]?.period}
            title={`forecast as of ${said(origins[tick.index])}`}
            className={`absolute border ${
              tick.index === chosen
                ? 'size-3 border-secondary bg-secondary'
                : 'size-2 border-base-content bg-base-100'
            }`}
            style={{
              left: tick.x,
              top: 10,
              transform: `translate(-50%, -50%)${origins[tick.index]?.release ? '' : ' rotate(45deg)'}`,
            }}
          />
        ))}
      </div>
    </div>
  );
}
