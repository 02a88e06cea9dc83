/** Addresses of other systems that are told when something is published or withdrawn. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, body, type Schema } from '../../api/client';
import { when } from '../../ui/format';
import { ShownOnce } from '../../ui/shown-once';
import { Refused } from '../../ui/states';
import { webhooks } from './queries';

const EVENTS: Record<string, string> = {
  'release.published': 'a release',
  'release.withdrawn': 'a withdrawal',
  test: 'a test',
};

function said(one: Schema['Delivery']): string {
  const what = EVENTS[one.event] ?? one.event;
  if (one.delivered_at) return `${what} heard ${when(one.delivered_at)}`;
  if (one.next_at && one.attempts === 0) return `${what} is on its way`;
  const tries = `${one.attempts} ${one.attempts === 1 ? 'try' : 'tries'}`;
  if (one.next_at) return `${what} not heard after ${tries} (${one.answer}); again ${when(one.next_at)}`;
  return `${what} given up after ${tries} (${one.answer})`;
}

export function Webhooks({ portfolio }: { portfolio: number }) {
  const asked = webhooks(portfolio);
  const list = useQuery(asked);
  const client = useQueryClient();
  const [url, setUrl] = useState('');
  const refresh = () => client.invalidateQueries({ queryKey: asked.queryKey });
  const make = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/portfolios/{id}/webhooks/', { params: { path: { id: portfolio } }, body: { url } }),
      ),
    onSuccess: () => setUrl(''),
    onSettled: refresh,
  });
  const drop = useMutation({
    mutationFn: (id: number) => api.DELETE('/api/webhooks/{id}/', { params: { path: { id } } }),
    onSettled: refresh,
  });
  const tryOut = useMutation({
    mutationFn: (id: number) => body(api.POST('/api/webhooks/{id}/try/', { params: { path: { id } } })),
    onSettled: refresh,
  });
  return (
    <section aria-labelledby="webhooks">
      <h2 id="webhooks" className="mb-1 text-base font-semibold">
        Telling other systems
      </h2>
      <p className="mb-2 max-w-[80ch] text-second">
        An address here hears of every release and withdrawal as it happens, signed so that it can tell whom
        it comes from. What is not heard is sent again, for seven hours.
      </p>
      {make.data && (
        <ShownOnce key={make.data.id} text={make.data.secret}>
          Copy the secret for <b>{make.data.url}</b> now.
        </ShownOnce>
      )}
      <form
        className="mb-2 flex items-center gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate();
        }}
      >
        <label className="flex items-center gap-2 text-[13px] text-second">
          Address
          <input
            className="input input-sm w-[320px] text-base-content"
            required
            maxLength={500}
            placeholder="https://…"
            value={url}
            onChange={(event) => setUrl(event.target.value)}
          />
        </label>
        <button type="submit" className="btn btn-sm" disabled={!url.trim() || make.isPending}>
          Tell it
        </button>
      </form>
      <Refused of={[make, drop, tryOut]} />
      <ul>
        {list.data?.map((one) => (
          <li key={one.id} className="py-0.5">
            <span className="flex items-center gap-3">
              {one.url}
              <span className="text-second">
                {one.deliveries[0] ? said(one.deliveries[0]) : 'nothing told yet'}
              </span>
              <button
                type="button"
                className="btn btn-xs"
                aria-label={`Try ${one.url}`}
                onClick={() => tryOut.mutate(one.id)}
              >
                Try it
              </button>
              <button
                type="button"
                className="btn btn-xs"
                aria-label={`Tell ${one.url} no more`}
                onClick={() => drop.mutate(one.id)}
              >
                Tell no more
              </button>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
