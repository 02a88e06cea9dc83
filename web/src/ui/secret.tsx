/** A field for a password, and what is wrong with it. */
export function SecretField({
  label,
  complete,
  value,
  wrong,
  onChange,
}: {
  label: string;
  complete: 'current-password' | 'new-password';
  value: string;
  wrong?: string | undefined;
  onChange: (value: string) => void;
}) {
  return (
    <label className="block">
      {label}
      <input
        type="password"
        required
        autoComplete={complete}
        className="input mt-1 w-full"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
      {wrong && (
        <span role="alert" className="text-error">
          {wrong}
        </span>
      )}
    </label>
  );
}
