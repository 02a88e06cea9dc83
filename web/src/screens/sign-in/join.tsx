/** Where a link of an invitation leads: choose a password, and be signed in. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { ApiError, api, body } from '../../api/client';
import { session } from '../../api/queries';

export function Join() {
  useQuery(session); // brings the cookie that goes along with what is sent
  const client = useQueryClient();
  const navigate = useNavigate();
  const [secret] = useState(useLocation().hash.slice(1));
  const [fields, setFields] = useState({ password: '', again: '' });
  const ask = useMutation({ mutationFn: () => body(api.POST('/api/join/', { body: { secret } })) });
  const look = ask.mutate;
  useEffect(() => {
    window.history.replaceState(window.history.state, '', '/join'); // the secret does not stay in the address
    look();
  }, [look]);
  const join = useMutation({
    mutationFn: () => body(api.POST('/api/join/', { body: { secret, password: fields.password } })),
    onSuccess: () => {
      client.clear();
      navigate('/', { replace: true });
    },
  });
  const differs = fields.again !== '' && fields.again !== fields.password;
  const wrong =
    join.error instanceof ApiError ? (join.error.errors.password ?? join.error.message) : join.error?.message;
  return (
    <main className="mx-auto mt-[14vh] w-[340px] p-4">
      <h1 className="mb-1 flex items-center gap-2 text-xl font-semibold">
        <img src="/static/mark.svg" alt="" width="26" height="26" />
        Tansy
      </h1>
      {ask.isError && (
        <p role="alert" className="text-error">
          {ask.error.message}
        </p>
      )}
      {ask.data && (
        <form
          className="space-y-3"
          onSubmit={(event) => {
            event.preventDefault();
            join.mutate();
          }}
        >
          <p className="mb-4 text-second">
            Welcome, <b className="text-base-content">{ask.data.name}</b>. Choose a password; you sign in with
            it and this name from now on.
          </p>
          <input type="hidden" autoComplete="username" value={ask.data.name} readOnly />
          <label className="block">
            Password, ten characters or more
            <input
              className="input mt-1 w-full"
              type="password"
              autoComplete="new-password"
              required
              value={fields.password}
              onChange={(event) => setFields({ ...fields, password: event.target.value })}
            />
          </label>
          <label className="block">
            The same again
            <input
              className="input mt-1 w-full"
              type="password"
              autoComplete="new-password"
              required
              value={fields.again}
              onChange={(event) => setFields({ ...fields, again: event.target.value })}
            />
          </label>
          {(differs || wrong) && (
            <p role="alert" className="text-error">
              {differs ? 'It is another one.' : wrong}
            </p>
          )}
          <button
            type="submit"
            className="btn btn-primary w-full"
            disabled={join.isPending || fields.password === '' || fields.password !== fields.again}
          >
            Come in
          </button>
        </form>
      )}
    </main>
  );
}
