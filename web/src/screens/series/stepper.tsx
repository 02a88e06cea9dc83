/** A small whole number with a button on each side. */
export function Stepper({
  label,
  value,
  most,
  onChange,
}: {
  label: string;
  value: number;
  most: number;
  onChange: (value: number) => void;
}) {
  return (
    <fieldset className="flex items-center justify-between gap-2">
      <legend className="float-left">{label}</legend>
      <span className="ml-auto flex items-center">
        <button
          type="button"
          className="btn btn-xs btn-ghost"
          aria-label={`${label}: one less`}
          disabled={value <= 0}
          onClick={() => onChange(value - 1)}
        >
          −
        </button>
        <output className="w-5 text-center font-semibold">{value}</output>
        <button
          type="button"
          className="btn btn-xs btn-ghost"
          aria-label={`${label}: one more`}
          disabled={value >= most}
          onClick={() => onChange(value + 1)}
        >
          +
        </button>
      </span>
    </fieldset>
  );
}
