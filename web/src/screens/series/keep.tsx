/** Keep a method for one node or for all series of its kind, with a reason. */
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, body, type Schema } from '../../api/client';
import { Ask, Line } from '../../ui/ask';
import { Dialog } from '../../ui/dialog';

type Node = Schema['Node'];

export function Keep({
  study,
  portfolio,
  node,
  method,
  close,
}: {
  study: number;
  portfolio: number;
  node: Node;
  method: string;
  close: () => void;
}) {
  const client = useQueryClient();
  const demand = node.kind.words.split(', ').at(-1) ?? '';
  const [kind, setKind] = useState('');
  const [reason, setReason] = useState('');
  const send = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/studies/{id}/nodes/{node}/keep/', {
          params: { path: { id: study, node: node.node } },
          body: { method, reason, kind },
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ['kept', portfolio] }),
  });
  return (
    <Dialog title="Keep this method" close={close}>
      {send.isSuccess ? (
        <>
          <p className="mb-3">
            Kept. Studies made from now on use {method} {kind ? `for all ${kind} series` : `for ${node.name}`}
            ; run this one again under Study to see it. The list under Study takes it back.
          </p>
          <button type="button" className="btn btn-sm btn-primary" onClick={close}>
            Done
          </button>
        </>
      ) : (
        <Ask
          act={() => send.mutate()}
          say="Keep"
          ready={reason.trim() !== '' && !send.isPending}
          error={send.error}
          close={close}
        >
          <p>{method}</p>
          <fieldset className="space-y-1">
            <legend className="text-second">For</legend>
            {[
              { value: '', label: node.name },
              ...(demand ? [{ value: demand, label: `all ${demand} series` }] : []),
            ].map((option) => (
              <label key={option.value} className="flex items-center gap-2">
                <input
                  type="radio"
                  name="for"
                  className="radio radio-sm"
                  checked={kind === option.value}
                  onChange={() => setKind(option.value)}
                />
                {option.label}
              </label>
            ))}
          </fieldset>
          <Line label="Reason" most={300} value={reason} onChange={setReason} />
        </Ask>
      )}
    </Dialog>
  );
}
