/** A handle on each period of the forecast, to be dragged up and down. */

export interface Handle {
  lead: number;
  x: number;
  y: number;
}

export function AdjustHandles({
  handles,
  ahead,
  values,
  valueAt,
  onSet,
}: {
  handles: Handle[];
  ahead: string[];
  values: (number | null)[];
  /** The value at a height of the picture. */
  valueAt: (y: number) => number;
  onSet: (lead: number, value: number) => void;
}) {
  return (
    <div className="pointer-events-none absolute inset-0">
      {handles.map(({ lead, x, y }) => {
        const value = values[lead] ?? 0;
        const stride = Math.max(1, Math.round(Math.abs(value) / 50));
        return (
          <button
            key={lead}
            type="button"
            role="slider"
            aria-label={`Forecast of ${ahead[lead]}`}
            aria-orientation="vertical"
            aria-valuenow={Math.round(value)}
            aria-valuemin={0}
            className="pointer-events-auto absolute size-3 -translate-x-1/2 -translate-y-1/2 cursor-ns-resize touch-none rounded-full border-2 border-accent bg-base-100"
            style={{ left: x, top: y }}
            onPointerDown={(event) => event.currentTarget.setPointerCapture(event.pointerId)}
            onPointerMove={(event) => {
              if (event.buttons !== 1) return;
              const box = event.currentTarget.parentElement?.getBoundingClientRect();
              onSet(lead, Math.max(0, valueAt(event.clientY - (box?.top ?? 0))));
            }}
            onKeyDown={(event) => {
              const by = { ArrowUp: 1, ArrowDown: -1, PageUp: 10, PageDown: -10 }[event.key];
              if (!by) return;
              event.preventDefault();
              event.stopPropagation();
              onSet(lead, Math.max(0, value + by * stride));
            }}
          />
        );
      })}
    </div>
  );
}
