/** Tokens for the systems downstream. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, body } from '../../api/client';
import { when } from '../../ui/format';
import { tokens } from './queries';

export function Tokens({ example }: { example: number | undefined }) {
  const list = useQuery(tokens);
  const client = useQueryClient();
  const [name, setName] = useState('');
  const refresh = () => client.invalidateQueries({ queryKey: tokens.queryKey });
  const make = useMutation({
    mutationFn: () => body(api.POST('/api/tokens/', { body: { name } })),
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
        A system downstream reads a release with a token. It acts for you; take it back when it is not needed
        any more.
      </p>
      {make.data && (
        <div role="status" className="mb-3 border-l-[3px] border-accent pl-3">
          <p>
            Copy the token <b>{make.data.name}</b> now; it is not shown again:
          </p>
          <code data-testid="token" className="block py-1 break-all">
            {make.data.token}
          </code>
          {example !== undefined && (
            <code className="block text-second">
              curl -H "Authorization: Bearer {make.data.token.slice(0, 12)}…" {window.location.origin}
              /api/releases/
              {example}/csv/
            </code>
          )}
        </div>
      )}
      <form
        className="mb-2 flex items-center gap-2"
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
        <button type="submit" className="btn btn-sm" disabled={!name.trim() || make.isPending}>
          Make a token
        </button>
      </form>
      {make.isError && (
        <p role="alert" className="text-error">
          {make.error.message}
        </p>
      )}
      <ul>
        {list.data?.map((token) => (
          <li key={token.id} className="flex items-center gap-3 py-0.5">
            {token.name}
            <span className="text-second">since {when(token.created_at)}</span>
            <button type="button" className="btn btn-xs" onClick={() => revoke.mutate(token.id)}>
              Take back
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
