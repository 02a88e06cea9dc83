import { cleanup, fireEvent, screen } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { serve, show } from '../test/serve';
import { PasswordButton } from './password';

HTMLDialogElement.prototype.showModal = function () {
  this.open = true;
};
HTMLDialogElement.prototype.close = function () {
  this.open = false;
};

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe('the own password', () => {
  it('is changed once the new one stands there twice, and what is wrong is said at its field', async () => {
    let known = 'quiet-garden';
    const calls = serve(({ path, body }) => {
      if (path === '/api/session/')
        return { body: { elsewhere: 'Hollowmere sign-in', password: true, connects: true, refused: '' } };
      const asked = body as { old: string; new: string };
      if (asked.old !== known) {
        const errors = { old: ['This is not your password.'] };
        return { status: 400, body: { detail: 'old: This is not your password.', errors } };
      }
      known = asked.new;
      return { status: 204, body: undefined };
    });
    show(<PasswordButton />, '/', '/');
    fireEvent.click(screen.getByRole('button', { name: 'password' }));
    const type = (label: RegExp, value: string) =>
      fireEvent.change(screen.getByLabelText(label), { target: { value } });
    const button = () => screen.getByRole<HTMLButtonElement>('button', { name: 'Change it' });
    type(/^Password now/, 'loud-garden');
    type(/^New password/, 'a-new-long-one');
    type(/^The new one again/, 'another');
    expect(screen.getByRole('alert').textContent).toBe('It is another one.');
    expect(button().disabled).toBe(true);
    type(/^The new one again/, 'a-new-long-one');
    fireEvent.click(button());
    await screen.findByText('This is not your password.');
    type(/^Password now/, 'quiet-garden');
    fireEvent.click(button());
    await screen.findByText(/It is changed/);
    expect(calls.map((one) => one.path).filter((path) => path !== '/api/session/')).toEqual([
      '/api/password/',
      '/api/password/',
    ]);
    expect(screen.getByRole('button', { name: 'Connect with Hollowmere sign-in' })).toBeTruthy();
  });

  it('is not asked for where there is none', async () => {
    serve(() => ({
      body: { elsewhere: 'Hollowmere sign-in', password: false, connects: false, refused: '' },
    }));
    show(<PasswordButton />, '/', '/');
    fireEvent.click(screen.getByRole('button', { name: 'password' }));
    expect(await screen.findByText(/You have no password here/)).toBeTruthy();
    expect(screen.queryByLabelText(/^Password now/)).toBeNull();
  });
});
