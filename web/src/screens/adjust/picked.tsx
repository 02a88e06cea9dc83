/** One change for several nodes of the Field at once. */
import { useState } from 'react';
import { begun, changesOf, type Draft } from './draft';
import { AdjustForm, usePreview } from './form';

export function AdjustPicked({
  portfolio,
  study,
  picked,
  ahead,
  close,
}: {
  portfolio: number;
  study: number;
  picked: ReadonlySet<string>;
  ahead: string[];
  close: () => void;
}) {
  const [kept, setDraft] = useState<Draft | null>(null);
  const draft = kept ?? begun(ahead.length);
  const changes = changesOf(draft, [...picked], ahead);
  const { laid, problem } = usePreview(study, changes);
  return (
    <div className="max-h-[46%] overflow-auto px-[18px] pb-3">
      <AdjustForm
        portfolio={portfolio}
        study={study}
        of={picked.size === 1 ? 'one node' : `${picked.size} nodes`}
        ahead={ahead}
        draft={draft}
        setDraft={setDraft}
        changes={changes}
        laid={laid}
        problem={problem}
        close={close}
      />
    </div>
  );
}
