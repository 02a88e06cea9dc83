/** The name of somebody to invite, and the link that is handed on to them. */
import { ShownOnce } from '../../ui/shown-once';

export interface Invited {
  name: string;
  link: string;
}

export function TheLink({ of }: { of: Invited }) {
  return (
    <ShownOnce text={window.location.origin + of.link} testId="invitation">
      Hand this link to <b>{of.name}</b> alone, who chooses a password by it, once and within seven days.
    </ShownOnce>
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
