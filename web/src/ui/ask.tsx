/** What a dialog asks for: fields, what went wrong, and the two ways out of it. */
import { useReader } from '../api/roles';

/** A line of text that has to be filled in. */
export function Line({
  label,
  most,
  value,
  onChange,
}: {
  label: string;
  /** Letters. */
  most: number;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <label className="block">
      <span className="text-second">{label}</span>
      <input
        className="input input-sm w-full"
        required
        maxLength={most}
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
    </label>
  );
}

export function Problem({ error }: { error: Error | null }) {
  return (
    error && (
      <p role="alert" className="text-error">
        {error.message}
      </p>
    )
  );
}

export function Ask({
  act,
  say,
  ready,
  error,
  close,
  children,
}: {
  act: () => void;
  /** What the button says that does it. */
  say: string;
  ready: boolean;
  error: Error | null;
  close: () => void;
  children: React.ReactNode;
}) {
  const reader = useReader();
  return (
    <form
      className="space-y-3 whitespace-normal"
      onSubmit={(event) => {
        event.preventDefault();
        act();
      }}
    >
      {children}
      <Problem error={error} />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-sm btn-primary" disabled={!ready} {...reader}>
          {say}
        </button>
        <button type="button" className="btn btn-sm btn-ghost" onClick={close}>
          Cancel
        </button>
      </div>
    </form>
  );
}
