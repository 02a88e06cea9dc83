/** Tokens for the systems downstream. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, body } from '../../api/client';
import { when } from '../../ui/format';
import { ShownOnce } from '../../ui/shown-once';
import { Refused } from '../../ui/states';
import { tokens } from './queries';

export function Tokens({ example }: { example: number | undefined }) {
  const list = useQuery(tokens);
  const client = useQueryClient();
  const [name, setName] = useState('');
  const [scope, setScope] = useState<'read' | 'act'>('read');
  const [days, setDays] = useState('365');
  const refresh = () => client.invalidateQueries({ queryKey: tokens.queryKey });
  const make = useMutation({
    mutationFn: () => body(api.POST('/api/tokens/', { body: { name, scope, days: Number(days) } })),
    onSuccess: () => setName(''),
    onSettled: refresh,
  });
  const revoke = useMutation({
    mutationFn: (id: number) => api.DELETE('/api/tokens/{id}/', { params: { path: { id } } }),
    onSettled: refresh,
  });
  return (
    <section aria-labelledby="tokens">
      <h2 id="tokens" className="mb-1 text-base font-semibold">
        Reading releases through the API
      </h2>
      <p className="mb-2 max-w-[80ch] text-second">
        A system downstream reads a release with a token. It stands for you, makes no further tokens, and ends
        with its time or when you take it back.
      </p>
      {make.data && (
        <ShownOnce
          key={make.data.id}
          text={make.data.token}
          testId="token"
          use={
            example !== undefined && (
              <code className="mt-1 block text-second">
                curl -H "Authorization: Bearer {make.data.token.slice(0, 12)}…" {window.location.origin}
                /api/releases/
                {example}/csv/
              </code>
            )
          }
        >
          Copy the token <b>{make.data.name}</b> now.
        </ShownOnce>
      )}
      <form
        className="mb-2 flex flex-wrap items-center gap-x-3 gap-y-2"
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate();
        }}
      >
        <label className="flex items-center gap-2 text-[13px] text-second">
          Name of the system
          <input
            className="input input-sm w-[220px] text-base-content"
            required
            maxLength={80}
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <label className="flex items-center gap-2 text-[13px] text-second">
          It may
          <select
            className="select select-sm w-[130px] text-base-content"
            value={scope}
            onChange={(event) => setScope(event.target.value === 'act' ? 'act' : 'read')}
          >
            <option value="read">read</option>
            <option value="act">read and act</option>
          </select>
        </label>
        <label className="flex items-center gap-2 text-[13px] text-second">
          for days
          <input
            className="input input-sm w-[70px] text-right text-base-content"
            inputMode="numeric"
            required
            pattern="[1-9][0-9]{0,2}"
            value={days}
            onChange={(event) => setDays(event.target.value)}
          />
        </label>
        <button type="submit" className="btn btn-sm" disabled={!name.trim() || make.isPending}>
          Make a token
        </button>
      </form>
      <Refused of={[make, revoke]} />
      <ul>
        {list.data?.map((token) => (
          <li key={token.id} className="flex items-center gap-3 py-0.5">
            {token.name}
            <span className="text-second">
              {token.scope === 'act' ? 'reads and acts' : 'reads'}, since {when(token.created_at)}
              {token.expires_at && `, until ${when(token.expires_at)}`}
            </span>
            <button
              type="button"
              className="btn btn-xs"
              aria-label={`Take back ${token.name}`}
              onClick={() => revoke.mutate(token.id)}
            >
              Take back
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
