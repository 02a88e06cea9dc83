/** Where a link of an invitation leads: choose a password, and be signed in. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { ApiError, api, body } from '../../api/client';
import { session } from '../../api/queries';
import { SecretField } from '../../ui/secret';
import { Refused } from '../../ui/states';
import { Door } from './door';

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
    <Door>
      <Refused of={[ask]} />
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
          <SecretField
            label="Password, ten characters or more"
            complete="new-password"
            value={fields.password}
            wrong={wrong}
            onChange={(password) => setFields({ ...fields, password })}
          />
          <SecretField
            label="The same again"
            complete="new-password"
            value={fields.again}
            wrong={differs ? 'It is another one.' : undefined}
            onChange={(again) => setFields({ ...fields, again })}
          />
          <button
            type="submit"
            className="btn btn-primary w-full"
            disabled={join.isPending || fields.password === '' || fields.password !== fields.again}
          >
            Come in
          </button>
        </form>
      )}
    </Door>
  );
}
