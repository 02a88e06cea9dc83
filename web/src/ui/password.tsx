/** The own password, changed by who knows the one of now. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { ApiError, api } from '../api/client';
import { session } from '../api/queries';
import { Dialog } from './dialog';
import { useElsewhere } from './elsewhere';
import { SecretField } from './secret';

export function PasswordButton() {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="cursor-pointer hover:underline" onClick={() => setOpen(true)}>
        password
      </button>
      {open && <PasswordDialog close={() => setOpen(false)} />}
    </>
  );
}

const FIELDS = [
  { name: 'old', label: 'Password now', complete: 'current-password' },
  { name: 'new', label: 'New password, ten characters or more', complete: 'new-password' },
  { name: 'again', label: 'The new one again', complete: 'new-password' },
] as const;

export function PasswordDialog({ close }: { close: () => void }) {
  const { elsewhere, password } = useQuery(session).data ?? {};
  return (
    <Dialog title="Change your password" close={close}>
      {elsewhere && password === false ? (
        <p>You have no password here. An administrator can hand you a link to choose one.</p>
      ) : (
        <Change />
      )}
      <Connect />
    </Dialog>
  );
}

function Change() {
  const [fields, setFields] = useState({ old: '', new: '', again: '' });
  const change = useMutation({
    mutationFn: () => api.POST('/api/password/', { body: { old: fields.old, new: fields.new } }),
  });
  const errors = change.error instanceof ApiError ? change.error.errors : {};
  const differs = fields.again !== '' && fields.again !== fields.new;
  if (change.isSuccess)
    return (
      <p role="status">
        It is changed. Other browsers that were signed in with the old one are not any more.
      </p>
    );
  return (
    <form
      className="space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      {FIELDS.map((one) => {
        const wrong = one.name === 'again' ? (differs ? 'It is another one.' : undefined) : errors[one.name];
        return (
          <SecretField
            key={one.name}
            label={one.label}
            complete={one.complete}
            value={fields[one.name]}
            wrong={wrong}
            onChange={(value) => setFields({ ...fields, [one.name]: value })}
          />
        );
      })}
      {change.error && Object.keys(errors).length === 0 && (
        <p role="alert" className="text-error">
          {change.error.message}
        </p>
      )}
      <button
        type="submit"
        className="btn btn-primary btn-sm"
        disabled={change.isPending || fields.new === '' || fields.new !== fields.again}
      >
        Change it
      </button>
    </form>
  );
}

/** Where the organisation has a provider of sign-ins: have it known who one is there. */
function Connect() {
  const { elsewhere, password, connects, refused } = useQuery(session).data ?? {};
  const connect = useElsewhere();
  if (!elsewhere) return null;
  return (
    <div className="mt-4 border-t border-rule pt-3 text-second">
      {connects ? (
        <button
          type="button"
          className="btn btn-sm"
          disabled={connect.isPending}
          onClick={() => connect.mutate()}
        >
          Connect with {elsewhere}
        </button>
      ) : (
        <p>
          You sign in with {elsewhere}
          {password && ', too'}.
        </p>
      )}
      {(connect.error?.message || refused) && (
        <p role="alert" className="mt-2 text-error">
          {connect.error?.message ?? refused}
        </p>
      )}
    </div>
  );
}
