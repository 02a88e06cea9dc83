import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { api, body } from '../../api/client';
import { session } from '../../api/queries';
import { useElsewhere } from '../../ui/elsewhere';
import { SecretField } from '../../ui/secret';
import { Refused } from '../../ui/states';
import { Door } from './door';

export function SignIn() {
  const who = useQuery(session);
  const client = useQueryClient();
  const navigate = useNavigate();
  const from = (useLocation().state as { from?: string } | null)?.from ?? '/';
  const [username, setUsername] = useState('');
  const [password, setPassword] = useState('');
  const signIn = useMutation({
    mutationFn: () => body(api.POST('/api/session/', { body: { username, password } })),
    onSuccess: (data) => {
      client.setQueryData(session.queryKey, data);
      navigate(from, { replace: true });
    },
  });
  const elsewhere = useElsewhere();
  const demo = who.data?.demo;
  return (
    <Door>
      <p className="mb-5 text-second">Forecasts for thousands of series, tested before they are trusted.</p>
      <form
        className="space-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          signIn.mutate();
        }}
      >
        <label className="block">
          Name
          <input
            className="input mt-1 w-full"
            autoComplete="username"
            required
            value={username}
            onChange={(event) => setUsername(event.target.value)}
          />
        </label>
        <SecretField label="Password" complete="current-password" value={password} onChange={setPassword} />
        <Refused of={[signIn]} />
        <button type="submit" className="btn btn-primary w-full" disabled={signIn.isPending}>
          Sign in
        </button>
      </form>
      {who.data?.elsewhere && (
        <div className="mt-3">
          <button
            type="button"
            className="btn w-full"
            disabled={elsewhere.isPending}
            onClick={() => elsewhere.mutate()}
          >
            Sign in with {who.data.elsewhere}
          </button>
        </div>
      )}
      {(elsewhere.error?.message || who.data?.refused) && (
        <p role="alert" className="mt-3 text-error">
          {elsewhere.error?.message ?? who.data?.refused}
        </p>
      )}
      {demo && (
        <p className="mt-5 border-t border-rule pt-3 text-second">
          This is the demo: name <b className="text-base-content">{demo.username}</b>, password{' '}
          <b className="text-base-content">{demo.password}</b>.{' '}
          <button
            type="button"
            className="link"
            onClick={() => {
              setUsername(demo.username);
              setPassword(demo.password);
            }}
          >
            Fill them in
          </button>
        </p>
      )}
    </Door>
  );
}
