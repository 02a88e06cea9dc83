/** Everybody who may come in, for administrators. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, body, type Schema } from '../../api/client';
import { when } from '../../ui/format';
import { Failed, Loading, Refused } from '../../ui/states';
import { type Invited, NameField, TheLink } from './link';
import { people } from './queries';

export function Everybody({ me }: { me: string }) {
  const list = useQuery(people);
  const client = useQueryClient();
  const [invited, setInvited] = useState<Invited | null>(null);
  const [name, setName] = useState('');
  const refresh = () => {
    for (const queryKey of [people.queryKey, ['members'], ['trail']]) client.invalidateQueries({ queryKey });
  };
  const path = (id: number) => ({ params: { path: { id } } });
  const change = useMutation({
    mutationFn: ({ id, ...given }: { id: number } & Schema['PatchedPersonChangeRequest']) =>
      body(api.PATCH('/api/people/{id}/', { ...path(id), body: given })),
    onSettled: refresh,
  });
  const link = useMutation({
    mutationFn: (id: number) => body(api.POST('/api/people/{id}/link/', path(id))),
    onSuccess: setInvited,
    onSettled: refresh,
  });
  const invite = useMutation({
    mutationFn: (given: string) => body(api.POST('/api/people/', { body: { name: given } })),
    onSuccess: (one) => {
      setName('');
      setInvited(one);
    },
    onSettled: refresh,
  });
  if (list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  if (list.isPending) return <Loading what="everybody" />;
  return (
    <section aria-labelledby="everybody" className="max-w-[860px]">
      <h2 id="everybody" className="mb-1 text-base font-semibold">
        Everybody on this server
      </h2>
      <p className="mb-2 text-second">
        Administrators keep every portfolio and say who comes in. Who does not come in any more is signed out
        everywhere, tokens too; what they did keeps their name.
      </p>
      <form
        className="mb-3 flex flex-wrap items-center gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          invite.mutate(name.trim());
        }}
      >
        <NameField value={name} onChange={setName} />
        <button type="submit" className="btn btn-sm" disabled={!name.trim() || invite.isPending}>
          Invite
        </button>
        <span className="text-[13px] text-second">Without a role in this portfolio, to load their own.</span>
      </form>
      {invited && <TheLink of={invited} />}
      <Refused of={[change, link, invite]} />
      <table className="sheet">
        <thead>
          <tr>
            <th>Person</th>
            <th>Administrator</th>
            <th>Last sign-in</th>
            <th>Change</th>
          </tr>
        </thead>
        <tbody>
          {list.data.map((one) => (
            <tr key={one.id} className={one.active ? '' : 'text-second'}>
              <td className="font-semibold">
                {one.name}
                {one.name === me && <span className="ml-1 font-normal text-second">you</span>}
              </td>
              <td>
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs"
                  aria-label={`${one.name} is an administrator`}
                  checked={one.administrator}
                  onChange={(event) => change.mutate({ id: one.id, administrator: event.target.checked })}
                />
              </td>
              <td>
                {one.last_sign_in ? when(one.last_sign_in) : one.invited ? 'invited, not yet' : 'never'}
              </td>
              <td className="space-x-3">
                {one.active && one.name !== me && (
                  <button type="button" className="link" onClick={() => link.mutate(one.id)}>
                    {one.invited ? 'Another link' : 'Link for a new password'}
                  </button>
                )}
                <button
                  type="button"
                  className="link"
                  onClick={() => change.mutate({ id: one.id, active: !one.active })}
                >
                  {one.active ? 'Let in no more' : 'Let in again'}
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
