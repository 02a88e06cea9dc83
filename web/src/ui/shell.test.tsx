import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { Route, Routes, useLocation } from 'react-router';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import { SignIn } from '../screens/sign-in/sign-in';
import { serve, show } from '../test/serve';
import { Shell } from './shell';

const load = { n_series: 2758, last: '2026-W43' };
const line = (name: string, depth: number, parent: number) => ({ name, depth, parent, series: 1 });
const sheet = {
  rows: [line('All products', 0, -1), { ...line('Lavender', 1, 0), code: 'P1042' }],
  columns: [line('All centres', 0, -1), line('Coast', 1, 0), line('Hills', 1, 0)],
  node: [0, 1, 2, 3, 4],
  row: [0, 0, 1, 1, 1],
  column: [0, 1, 0, 1, 2],
};

interface World {
  user?: string | null;
  run?: { state: string; step?: string; done?: number; of?: number };
  portfolios?: unknown[];
}

function Here() {
  const { pathname } = useLocation();
  return <p data-testid="here">{pathname}</p>;
}
const here = () => screen.getByTestId('here').textContent;

function open(address: string, { user = 'ines', run = { state: 'done' }, portfolios }: World = {}) {
  let signedIn = user;
  const calls = serve(({ method, path, body }) => {
    if (path === '/api/session/') {
      if (method === 'DELETE') signedIn = null;
      if (method === 'POST') {
        if ((body as { password: string }).password !== 'hollow') {
          return { status: 400, body: { detail: 'Name or password is wrong.' } };
        }
        signedIn = 'demo';
      }
      return { body: { user: signedIn, demo: { username: 'demo', password: 'hollow' } } };
    }
    if (path === '/api/portfolios/') return { body: portfolios ?? [{ id: 1, name: 'Garden', load }] };
    if (path.endsWith('/studies/')) return { body: [{ id: 8, run: { step: '', done: 0, of: 0, ...run } }] };
    if (path.endsWith('/releases/')) return { body: [{ number: 4, origin: '2026-W43' }] };
    return path === '/api/studies/8/field/' ? { body: sheet } : undefined;
  });
  show(
    <>
      <Routes>
        <Route path="/sign-in" element={<SignIn />} />
        <Route element={<Shell />}>
          <Route path="/p/:portfolio/s/:study/series/:node" element={<input aria-label="a field" />} />
          <Route path="*" element={<input aria-label="a field" />} />
        </Route>
      </Routes>
      <Here />
    </>,
    '*',
    address,
  );
  return calls;
}

const rail = () => screen.findByRole('navigation', { name: 'Places' });

describe('the rail of places', () => {
  beforeEach(() => {
    localStorage.clear();
    HTMLDialogElement.prototype.showModal = function () {
      this.open = true;
    };
    HTMLDialogElement.prototype.close = vi.fn();
  });

  it('leads to the newest finished study, and says how far each place is', async () => {
    open('/p/1/study');
    const link = async (name: RegExp) => within(await rail()).findByRole('link', { name });
    expect((await link(/^Field/)).getAttribute('href')).toBe('/p/1/s/8/field');
    expect((await link(/^Field/)).textContent).toBe('Field2,758 series');
    expect((await link(/^Intake/)).textContent).toBe('Intake2026-W43 loaded');
    expect((await link(/^Study/)).textContent).toBe('Study1 so far');
    expect((await link(/^Releases/)).textContent).toBe('ReleasesR4 from 2026-W43');
    expect((await link(/^Series/)).getAttribute('href')).toBe('/p/1/s/8/series/top');
  });

  it.each<[string, World['run']]>([
    ['queued', { state: 'queued' }],
    ['running: structure', { state: 'running', step: 'structure', of: 0 }],
    ['running, 66 %', { state: 'running', step: 'fit and backtest', done: 2, of: 3 }],
  ])('says that a study is %s, and links no place that has nothing yet', async (words, run) => {
    open('/p/1/study', run && { run });
    await waitFor(async () => expect((await rail()).textContent).toContain(words));
    expect(within(await rail()).queryByRole('link', { name: /^(Field|Backtest|Releases)/ })).toBeNull();
    expect((await rail()).textContent).toContain('Backtest');
  });

  it('changes between portfolios where there are several', async () => {
    const two = [1, 2].map((id) => ({ id, name: `Garden ${id}`, load }));
    open('/p/1/study', { portfolios: two });
    const picker = await screen.findByLabelText('Portfolio');
    expect(picker.getAttribute('title')).toBe('Garden 1'); // where its name is too long for the rail
    fireEvent.change(picker, { target: { value: '2' } });
    await waitFor(() => expect(here()).toBe('/p/2/study'));
  });

  it('begins at Intake where nothing is loaded', async () => {
    open('/intake', { portfolios: [] });
    const intake = await within(await rail()).findByRole('link', { name: /^Intake/ });
    expect(intake.getAttribute('href')).toBe('/intake');
    expect(intake.textContent).toContain('nothing loaded yet');
  });

  it('jumps to a node by parts of its name or code', async () => {
    open('/p/1/study');
    await rail();
    fireEvent.keyDown(window, { key: '/' });
    const field = await screen.findByLabelText('Part of a name or code');
    fireEvent.change(field, { target: { value: 'LAV hill' } });
    await waitFor(() =>
      expect(screen.getAllByRole('listitem').at(-1)?.textContent).toBe('Lavender × HillsP1042'),
    );
    fireEvent.change(field, { target: { value: 'coast' } });
    const hits = () => within(field.closest('dialog') as HTMLElement).getAllByRole('listitem');
    expect(hits().map((one) => one.textContent)).toEqual(['Coastall products', 'Lavender × CoastP1042']);
    fireEvent.change(field, { target: { value: 'p1042' } });
    expect(hits().map((one) => one.textContent)[0]).toBe('LavenderP1042, all places');
    fireEvent.change(field, { target: { value: 'coast' } });
    fireEvent.keyDown(field, { key: 'ArrowDown' });
    fireEvent.keyDown(field, { key: 'ArrowDown' }); // no further than the last
    fireEvent.keyDown(field, { key: 'Enter' });
    await waitFor(() => expect(here()).toBe('/p/1/s/8/series/3'));
    expect(screen.queryByLabelText('Part of a name or code')).toBeNull();
  });

  it('says when no name fits', async () => {
    open('/p/1/study');
    await rail();
    fireEvent.click(screen.getByRole('button', { name: '/ search' }));
    fireEvent.change(await screen.findByLabelText('Part of a name or code'), { target: { value: 'zebra' } });
    expect(await screen.findByText('No name or code holds all of these.')).toBeDefined();
  });

  it('lists the keys, but not while a field is being filled in', async () => {
    open('/p/1/study');
    await rail();
    fireEvent.keyDown(screen.getByLabelText('a field'), { key: '?' });
    expect(screen.queryByRole('dialog', { name: 'Keys' })).toBeNull();
    fireEvent.keyDown(window, { key: '?', ctrlKey: true });
    expect(screen.queryByRole('dialog', { name: 'Keys' })).toBeNull();
    fireEvent.keyDown(window, { key: '?' });
    const keys = await screen.findByRole('dialog', { name: 'Keys' });
    expect(keys.textContent).toContain('Field: open the node');
    fireEvent(keys, new Event('close'));
    await waitFor(() => expect(screen.queryByRole('dialog', { name: 'Keys' })).toBeNull());
  });

  it('changes the theme and remembers it', async () => {
    open('/p/1/study');
    fireEvent.click(within(await rail()).getByRole('button', { name: 'dark' }));
    expect(document.documentElement.dataset.theme).toBe('night');
    expect(localStorage.getItem('tansy-theme')).toBe('night');
    fireEvent.click(within(await rail()).getByRole('button', { name: 'light' }));
    expect(document.documentElement.dataset.theme).toBe('paper');
  });
});

describe('signing in', () => {
  it('leads a stranger to the door, and back to where they wanted to go', async () => {
    open('/p/1/releases', { user: null });
    await waitFor(() => expect(here()).toBe('/sign-in'));
    fireEvent.change(screen.getByLabelText('Name'), { target: { value: 'demo' } });
    fireEvent.change(screen.getByLabelText('Password'), { target: { value: 'guess' } });
    fireEvent.click(screen.getByRole('button', { name: 'Sign in' }));
    expect((await screen.findByRole('alert')).textContent).toBe('Name or password is wrong.');
    fireEvent.click(screen.getByRole('button', { name: 'Fill them in' }));
    expect(screen.getByLabelText('Password')).toHaveProperty('value', 'hollow');
    fireEvent.click(screen.getByRole('button', { name: 'Sign in' }));
    await waitFor(() => expect(here()).toBe('/p/1/releases'));
  });

  it('forgets everything on the way out', async () => {
    const calls = open('/p/1/study');
    fireEvent.click(within(await rail()).getByRole('button', { name: 'sign out' }));
    await waitFor(() => expect(here()).toBe('/sign-in'));
    expect(calls.some(({ method, path }) => method === 'DELETE' && path === '/api/session/')).toBe(true);
  });
});
