import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { api, body } from '../../api/client';
import { session } from '../../api/queries';
import { SecretField } from '../../ui/secret';
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
        {signIn.isError && (
          <p role="alert" className="text-error">
            {signIn.error.message}
          </p>
        )}
        <button type="submit" className="btn btn-primary w-full" disabled={signIn.isPending}>
          Sign in
        </button>
      </form>
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
