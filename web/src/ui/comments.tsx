/** What people say of a node, or of the whole. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, body } from '../api/client';
import { session } from '../api/queries';
import { useReader } from '../api/roles';
import { when } from './format';
import { Refused } from './states';

export function Comments({ portfolio, study, node }: { portfolio: number; study: number; node?: string }) {
  const client = useQueryClient();
  const key = ['comments', study, node ?? ''];
  const found = useQuery({
    queryKey: key,
    queryFn: () =>
      body(
        api.GET('/api/studies/{id}/comments/', {
          params: { path: { id: study }, query: node ? { node } : {} },
        }),
      ),
  });
  const me = useQuery(session).data?.user;
  const [text, setText] = useState('');
  const reader = useReader();
  const again = () => client.invalidateQueries({ queryKey: ['comments', study] });
  const say = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/studies/{id}/comments/', {
          params: { path: { id: study } },
          body: { text, ...(node ? { node } : {}) },
        }),
      ),
    onSuccess: () => {
      setText('');
      void again();
    },
  });
  const remove = useMutation({
    mutationFn: (id: number) => body(api.DELETE('/api/comments/{id}/', { params: { path: { id } } })),
    onSettled: again,
  });
  return (
    <section aria-labelledby={`comments-${study}`} className="text-[13px]">
      <h2 id={`comments-${study}`} className="mb-1 font-semibold">
        Comments
      </h2>
      <ul>
        {found.data?.map((one) => (
          <li key={one.id} className="border-b border-rule py-1.5">
            {!node && one.node_name && (
              <b className="mr-1.5">
                {one.node ? (
                  <Link className="hover:underline" to={`/p/${portfolio}/s/${study}/series/${one.node}`}>
                    {one.node_name}
                  </Link>
                ) : (
                  one.node_name
                )}
              </b>
            )}
            <span className="whitespace-pre-wrap">{one.text}</span>
            <span className="block text-xs text-second">
              {one.made_by}, {when(one.made_at)}
              {one.made_by === me && (
                <button type="button" className="link ml-2" {...reader} onClick={() => remove.mutate(one.id)}>
                  take back
                </button>
              )}
            </span>
          </li>
        ))}
      </ul>
      <form
        className="mt-2 flex gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          say.mutate();
        }}
      >
        <input
          aria-label={node ? 'A comment on this node' : 'A comment on the whole'}
          className="input input-sm min-w-0 flex-1"
          maxLength={2000}
          placeholder={node ? 'on this node' : 'on the whole'}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <button type="submit" className="btn btn-sm" disabled={!text.trim() || say.isPending} {...reader}>
          Say it
        </button>
      </form>
      <Refused of={[say, remove]} className="mt-1" />
    </section>
  );
}
