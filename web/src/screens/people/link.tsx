/** The name of somebody to invite, and the link that is handed on to them. */
import { useState } from 'react';

export interface Invited {
  name: string;
  link: string;
}

export function TheLink({ of }: { of: Invited }) {
  const [said, setSaid] = useState('Copy');
  const whole = window.location.origin + of.link;
  return (
    <div role="status" className="mb-3 border-l-[3px] border-accent pl-3">
      <p>
        Hand this link to <b>{of.name}</b> alone, who chooses a password by it, once and within seven days. It
        is not shown again:
      </p>
      <code data-testid="invitation" className="block py-1 break-all">
        {whole}
      </code>
      <button
        type="button"
        className="btn btn-xs"
        onClick={async () => {
          try {
            await navigator.clipboard.writeText(whole);
            setSaid('Copied');
          } catch {
            setSaid('Select it and copy it by hand');
          }
        }}
      >
        {said}
      </button>
    </div>
  );
}

export function NameField({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  return (
    <label className="flex items-center gap-2 text-[13px] text-second">
      Name to sign in by
      <input
        className="input input-sm w-[200px] text-base-content"
        required
        maxLength={150}
        autoComplete="off"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
    </label>
  );
}
