/** A secret that is shown once: what to do with it, the text itself, and a button that copies it. */
import { useState } from 'react';

interface Props {
  /** What it is and for whom. */
  children: React.ReactNode;
  text: string;
  testId?: string;
  /** How it is used. */
  use?: React.ReactNode;
}

export function ShownOnce({ children, text, testId, use }: Props) {
  const [said, setSaid] = useState('Copy');
  return (
    <div role="status" className="mb-3 border-l-[3px] border-accent pl-3">
      <p>{children} It is not shown again:</p>
      <code data-testid={testId} className="block py-1 break-all">
        {text}
      </code>
      <button
        type="button"
        className="btn btn-xs"
        onClick={async () => {
          try {
            await navigator.clipboard.writeText(text);
            setSaid('Copied');
          } catch {
            setSaid('Select it and copy it by hand');
          }
        }}
      >
        {said}
      </button>
      {use}
    </div>
  );
}
