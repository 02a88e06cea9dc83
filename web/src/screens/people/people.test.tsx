import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { Join } from '../sign-in/join';
import { People } from './people';

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const person = (id: number, name: string, more: Partial<Schema['Person']> = {}): Schema['Person'] => ({
  id,
  name,
  administrator: false,
  active: true,
  invited: false,
  last_sign_in: '2026-11-02T08:30:00Z',
  ...more,
});

function open({ role = 'keeper', administrator = false } = {}) {
  const list: Schema['Member'][] = [
    { id: 1, name: 'ines', role: 'keeper', invited: false, active: true },
    { id: 2, name: 'omar', role: 'reader', invited: true, active: true },
  ];
  const traces = Array.from({ length: 3 }, (_, i) => ({
    id: 9 - i,
    at: '2026-11-02T08:30:00Z',
    who: 'ines',
    by: i === 1 ? 'night job' : '',
    portfolio: 1,
    words: `did ${9 - i}`,
  }));
  let asked = 0;
  const calls = serve(({ method, path, body }) => {
    if (path === '/api/session/') return { body: { user: 'ines', administrator, demo: null } };
    if (path === '/api/portfolios/') return { body: [{ id: 1, name: 'Garden', role, load: {} }] };
    if (path === '/api/portfolios/1/studies/') return { body: [] };
    if (path === '/api/people/' && method === 'POST')
      return { status: 201, body: { id: 5, name: 'omar', link: '/join#of-omar' } };
    if (path === '/api/people/')
      return { body: [person(1, 'ines', { administrator: true }), person(3, 'mara')] };
    if (path === '/api/portfolios/1/trail/')
      return { body: { count: 3, traces: asked++ % 2 ? traces.slice(2) : traces.slice(0, 2) } };
    if (path === '/api/portfolios/1/members/') {
      if (method === 'GET') return { body: list };
      const given = body as { name: string; role: 'planner' };
      if (given.name === 'omar') return { status: 409, body: { detail: 'omar is a reader already.' } };
      const made = { id: 4, ...given, invited: true, active: true };
      list.push(made);
      return { status: 201, body: { ...made, link: '/join#secret-of-mara' } };
    }
    if (path === '/api/members/1/' && method === 'DELETE')
      return { status: 409, body: { detail: 'Somebody has to keep this portfolio.' } };
    if (path === '/api/members/2/' && method === 'PATCH') {
      Object.assign(list[1] as object, body);
      return { body: list[1] };
    }
    if (path === '/api/members/2/link/')
      return { status: 201, body: { id: 2, name: 'omar', link: '/join#again' } };
    if (path === '/api/people/3/') return { body: person(3, 'mara', body as object) };
    return undefined;
  });
  show(<People />, '/p/:portfolio/people', '/p/1/people');
  return calls;
}

describe('people', () => {
  it('adds somebody, whose link is shown once, and says why somebody cannot be added', async () => {
    open();
    const name = await screen.findByLabelText('Name to sign in by');
    fireEvent.change(name, { target: { value: 'omar' } });
    fireEvent.click(screen.getByRole('button', { name: 'Add' }));
    expect((await screen.findByRole('alert')).textContent).toBe('omar is a reader already.');
    fireEvent.change(name, { target: { value: 'mara ' } });
    fireEvent.change(screen.getByLabelText('as'), { target: { value: 'signer' } });
    fireEvent.click(screen.getByRole('button', { name: 'Add' }));
    expect((await screen.findByTestId('invitation')).textContent).toBe(
      `${window.location.origin}/join#secret-of-mara`,
    );
    await screen.findByLabelText('Role of mara');
    expect(screen.queryByRole('alert')).toBeNull();
  });

  it('changes a role, makes another link, and says why the last keeper stays', async () => {
    const calls = open();
    fireEvent.change(await screen.findByLabelText('Role of omar'), { target: { value: 'planner' } });
    await waitFor(() =>
      expect(calls).toContainEqual({ method: 'PATCH', path: '/api/members/2/', body: { role: 'planner' } }),
    );
    const rows = screen.getAllByRole('row');
    const of = (text: string) => within(rows.find((row) => row.textContent?.startsWith(text)) as HTMLElement);
    fireEvent.click(of('omar').getByRole('button', { name: 'Another link' }));
    expect((await screen.findByTestId('invitation')).textContent).toContain('/join#again');
    expect(of('ines').queryByRole('button', { name: 'Another link' })).toBeNull();
    fireEvent.click(of('ines').getByRole('button', { name: 'Take out' }));
    expect((await screen.findByRole('alert')).textContent).toContain('has to keep');
  });

  it('shows the trail page by page to keepers', async () => {
    open();
    expect(await screen.findByText('did 9')).toBeDefined();
    expect(screen.getByText('by token night job', { exact: false })).toBeDefined();
    expect(screen.queryByText('did 7')).toBeNull();
    fireEvent.click(screen.getByRole('button', { name: 'Earlier ones (1)' }));
    expect(await screen.findByText('did 7')).toBeDefined();
    expect(screen.queryByText('Everybody on this server')).toBeNull();
  });

  it('shows readers who may do what and no more', async () => {
    const calls = open({ role: 'reader' });
    expect(await screen.findByText('omar')).toBeDefined();
    expect(screen.queryByLabelText('Role of omar')).toBeNull();
    expect(screen.queryByRole('button')).toBeNull();
    expect(calls.some(({ path }) => path.includes('/trail/'))).toBe(false);
  });

  it('lets administrators say who comes in', async () => {
    const calls = open({ administrator: true });
    const row = (await screen.findByText('mara')).closest('tr') as HTMLElement;
    fireEvent.click(within(row).getByRole('button', { name: 'Let in no more' }));
    await waitFor(() =>
      expect(calls).toContainEqual({ method: 'PATCH', path: '/api/people/3/', body: { active: false } }),
    );
    const fields = screen.getAllByLabelText('Name to sign in by');
    fireEvent.change(fields[1] as HTMLElement, { target: { value: 'omar' } });
    fireEvent.click(screen.getByRole('button', { name: 'Invite' }));
    expect((await screen.findByTestId('invitation')).textContent).toContain('/join#of-omar');
    fireEvent.click(screen.getByLabelText('mara is an administrator'));
    await waitFor(() =>
      expect(calls).toContainEqual({
        method: 'PATCH',
        path: '/api/people/3/',
        body: { administrator: true },
      }),
    );
  });
});

describe('a link of an invitation', () => {
  function follow(known: string) {
    const calls = serve(({ path, body }) => {
      if (path === '/api/session/') return { body: { user: null, administrator: false, demo: null } };
      const given = body as { secret: string; password?: string };
      if (given.secret !== known)
        return { status: 422, body: { detail: 'This link has ended or was used.' } };
      if (given.password && given.password.length < 10) {
        const errors = { password: ['It is too short.'] };
        return { status: 400, body: { detail: 'password: It is too short.', errors } };
      }
      return { body: { name: 'mara' } };
    });
    show(<Join />, '/join', '/join#one-secret');
    return calls;
  }

  it('asks for a password twice and brings in', async () => {
    follow('one-secret');
    expect(await screen.findByText('mara')).toBeDefined();
    const type = (label: RegExp, value: string) =>
      fireEvent.change(screen.getByLabelText(label), { target: { value } });
    const come = () => screen.getByRole<HTMLButtonElement>('button', { name: 'Come in' });
    type(/^Password/, 'short');
    type(/^The same/, 'shore');
    expect(screen.getByRole('alert').textContent).toBe('It is another one.');
    expect(come().disabled).toBe(true);
    type(/^The same/, 'short');
    fireEvent.click(come());
    expect(await screen.findByText('It is too short.')).toBeDefined();
    type(/^Password/, 'slow-river-stone');
    type(/^The same/, 'slow-river-stone');
    fireEvent.click(come());
    expect(await screen.findByText('elsewhere')).toBeDefined();
  });

  it('says so when it has ended', async () => {
    follow('another');
    expect((await screen.findByRole('alert')).textContent).toBe('This link has ended or was used.');
    expect(screen.queryByLabelText(/^Password/)).toBeNull();
  });
});
