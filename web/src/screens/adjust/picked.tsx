/** One change for several nodes of the Field at once. */
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { begun, changesOf, type Draft } from './draft';
import { AdjustForm, useSettled } from './form';
import { type Asked, preview } from './queries';

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
  const settled = useSettled(JSON.stringify(changes));
  const asked = useMemo(() => JSON.parse(settled) as Asked[], [settled]);
  const found = useQuery({ ...preview(study, asked), placeholderData: keepPreviousData });
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
        laid={changes.length && !found.isError ? found.data : undefined}
        problem={found.error}
        close={close}
      />
    </div>
  );
}
