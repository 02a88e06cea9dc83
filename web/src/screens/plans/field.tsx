/** A labelled input that says what is wrong with it. */
import { useId } from 'react';

export function Field({
  label,
  value,
  placeholder,
  error,
  list,
  onChange,
}: {
  list?: string | undefined;
  label: string;
  value: string;
  placeholder: string;
  error: string | undefined;
  onChange: (value: string) => void;
}) {
  const id = useId();
  return (
    <span className="block text-[13px]">
      <label htmlFor={id} className="block pb-1">
        {label}
      </label>
      <input
        id={id}
        list={list}
        className={`input input-sm w-full ${error ? 'input-error' : ''}`}
        value={value}
        placeholder={placeholder}
        aria-invalid={error !== undefined}
        aria-describedby={error ? `${id}-error` : undefined}
        onChange={(event) => onChange(event.target.value)}
      />
      {error && (
        <span id={`${id}-error`} role="alert" className="block max-w-[28ch] pt-1 text-error">
          {error}
        </span>
      )}
    </span>
  );
}
