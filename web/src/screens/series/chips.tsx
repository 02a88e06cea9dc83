/** The methods that stand beside each other: one is worked on, one more can be added, this one taken away. */
export const NAMES = ['A', 'B', 'C', 'D'];

export function Chips({
  texts,
  active,
  fallback,
  extra,
  onTexts,
  onActive,
}: {
  texts: string[];
  /** As many as there are texts: the extra one. */
  active: number;
  /** What one more begins as where none is worked on. */
  fallback: string;
  /** One that stands behind them and is never changed. */
  extra?: { name: string; text: string };
  onTexts: (texts: string[]) => void;
  onActive: (active: number) => void;
}) {
  const shown = [...texts.map((text, i) => ({ name: NAMES[i] ?? '', text })), ...(extra ? [extra] : [])];
  return (
    <>
      {shown.map((one, i) => (
        <button
          key={one.name}
          type="button"
          aria-pressed={i === active}
          onClick={() => onActive(i)}
          className={`btn btn-sm max-w-[280px] ${i === active ? 'border-base-content' : 'btn-ghost border-rule'}`}
        >
          <b>{one.name}</b> <span className="truncate font-normal">{one.text}</span>
        </button>
      ))}
      {texts.length < NAMES.length && (
        <button
          type="button"
          className="btn btn-sm btn-ghost"
          onClick={() => {
            onTexts([...texts, texts[Math.min(active, texts.length - 1)] ?? fallback]);
            onActive(texts.length);
          }}
        >
          + one more
        </button>
      )}
      {texts.length > 1 && active < texts.length && (
        <button
          type="button"
          className="btn btn-sm btn-ghost"
          onClick={() => {
            onTexts(texts.filter((_, i) => i !== active));
            onActive(Math.max(0, active - 1));
          }}
        >
          remove {NAMES[active]}
        </button>
      )}
    </>
  );
}
