/** Loading, failed, empty and lost, in plain words with the next step in them. */
import { Link, useRouteError } from 'react-router';

export function Loading({ what }: { what: string }) {
  return (
    <output className="flex items-center gap-3 p-6 text-second">
      <span className="loading loading-dots loading-sm" aria-hidden="true" />
      Loading {what} …
    </output>
  );
}

export function Failed({ error, retry }: { error: unknown; retry?: () => void }) {
  const sentence = error instanceof Error ? error.message : 'Something went wrong.';
  return (
    <div role="alert" className="p-6">
      <p className="text-error">{sentence}</p>
      {retry && (
        <button type="button" className="btn btn-sm mt-3" onClick={retry}>
          Try again
        </button>
      )}
    </div>
  );
}

interface RefusedProps {
  of: { error: Error | null; submittedAt: number }[];
  className?: string;
  /** What that means for what was there, after the reason. */
  also?: string;
}

/** Why the last of these acts was refused, where it was. */
export function Refused({ of, className = '', also = '' }: RefusedProps) {
  const last = of.toSorted((one, other) => other.submittedAt - one.submittedAt)[0];
  return (
    last?.error && (
      <p role="alert" className={`text-error ${className}`}>
        {`${last.error.message} ${also}`.trim()}
      </p>
    )
  );
}

export function Empty({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <div className="max-w-prose p-6">
      <h2 className="mb-1 text-base font-semibold">{title}</h2>
      <div className="text-second">{children}</div>
    </div>
  );
}

export function NotFound() {
  return (
    <main>
      <Empty title="There is nothing at this address">
        It may have been mistyped or deleted.{' '}
        <Link className="link" to="/">
          Go to the newest portfolio
        </Link>
        .
      </Empty>
    </main>
  );
}

export function RouteFailed() {
  return <Failed error={useRouteError()} retry={() => window.location.reload()} />;
}
