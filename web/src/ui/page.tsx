/** The frame of a screen: a title line with its actions, and what is below it. */
export function Page({
  title,
  actions,
  children,
  aside,
}: {
  title: React.ReactNode;
  actions?: React.ReactNode;
  children: React.ReactNode;
  aside?: React.ReactNode;
}) {
  return (
    <div className="flex h-full min-w-0 flex-1 flex-col">
      <header className="flex min-h-[50px] flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule px-[18px] py-1.5">
        <h1 className="min-w-0 flex-1 truncate text-[17px] font-semibold">{title}</h1>
        {actions}
      </header>
      <div className="flex min-h-0 flex-1">
        <main className="min-w-0 flex-1 overflow-auto">{children}</main>
        {aside && (
          <aside className="w-[236px] shrink-0 overflow-auto border-l border-rule p-4">{aside}</aside>
        )}
      </div>
    </div>
  );
}

/** A choice of one among a few words, the chosen one underlined. */
export function Choice<T extends string>({
  label,
  options,
  value,
  onChange,
}: {
  label: string;
  options: readonly { value: T; label: string }[];
  value: T;
  onChange: (value: T) => void;
}) {
  return (
    <fieldset className="flex items-center gap-3">
      <legend className="float-left mr-1 text-[13px] text-second">{label}</legend>
      {options.map((option) => (
        <button
          key={option.value}
          type="button"
          aria-pressed={option.value === value}
          onClick={() => onChange(option.value)}
          className={`cursor-pointer border-b-2 px-0.5 py-0.5 text-[13px] ${
            option.value === value
              ? 'border-base-content'
              : 'border-transparent text-second hover:text-base-content'
          }`}
        >
          {option.label}
        </button>
      ))}
    </fieldset>
  );
}
