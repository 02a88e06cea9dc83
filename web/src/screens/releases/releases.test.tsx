import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schema } from '../../api/client';
import { type Call, serve, show } from '../../test/serve';
import { Releases } from './releases';

const release = (number: number): Schema['Release'] => ({
  id: 40 + number,
  portfolio: 1,
  study: 7,
  study_name: 'Usual',
  number,
  published_by: 'ines',
  published_at: '2026-11-02T08:30:00Z',
  note: 'as agreed on Monday',
  origin: '2026-W43',
  first: '2026-W44',
  last: '2027-W03',
  n_series: 6,
  n_nodes: 1012,
  checks: [],
  total: [10, 11],
  prepared_by: null,
  n_adjustments: 1,
  withdrawal: null,
  engine: '1',
  sha256: 'f00d',
});
const draft: Schema['Draft'] = {
  study: 8,
  study_name: 'With prices',
  holds: true,
  adjustments: [],
  two_signatures: false,
  prepared: null,
  published_as: null,
  checks: [
    { name: 'adds up', holds: true, found: 'largest gap 0' },
    { name: 'no negatives', holds: true, found: '0 of 78' },
  ],
  n_series: 6,
  n_nodes: 12,
  past_periods: ['2026-W43', '2026-W44'],
  periods: ['2026-W45', '2026-W46'],
  total: { history: [9, 10], mean: [10, 11], bands: [{ level: 80, low: [8, 8], high: [12, 13] }] },
  last_release: release(1),
};

/** A server that has one release, publishes once, and makes and takes back tokens. */
const moved = { node: 'n1', name: 'Rue', before: 10, after: 14, change: 4, because: 'what planners changed' };
const bridge: Schema['Bridge'] = {
  release: 1,
  first: '2026-W45',
  last: '2026-W46',
  before: 100,
  after: 96,
  change: -4,
  percent: -4,
  parts: [
    { name: 'series that are gone', change: 0, n_series: 0, series: [] },
    { name: 'what planners changed', change: 4, n_series: 1, series: [moved] },
    { name: 'what actuals since have taught', change: -8, n_series: 2, series: [] },
  ],
  movers: [moved],
};

const hook: Schema['Webhook'] = {
  id: 5,
  url: '',
  made_by: 'ines',
  made_at: '2026-11-02T08:30:00Z',
  deliveries: [
    {
      id: 9,
      event: 'release.published',
      made_at: '2026-11-02T08:30:00Z',
      attempts: 2,
      next_at: '2026-11-02T08:31:00Z',
      delivered_at: null,
      answer: '503 Busy',
    },
  ],
};

function open(
  changes: Partial<Schema['Draft']> = {},
  publish: { status: number; body: unknown } | null = null,
  bridged: { status?: number; body: unknown } = { body: bridge },
  role = 'keeper',
) {
  const releases = [release(1)];
  const tokens: Schema['Token'][] = [];
  const hooks: Schema['Webhook'][] = [];
  const calls = serve(({ method, path, body }) => {
    if (path === '/api/portfolios/') return { body: [{ id: 1, name: 'Garden', role, load: {} }] };
    if (path === '/api/portfolios/1/studies/') return { body: [{ id: 8, run: { state: 'done' } }] };
    if (path === '/api/portfolios/1/releases/') return { body: releases };
    if (path === '/api/studies/8/bridge/') return bridged;
    if (path === '/api/studies/8/comments/') return { body: [] };
    if (path === '/api/portfolios/1/adjustments/')
      return { body: { adjustments: [], can_undo: false, can_redo: false, reasons: [] } };
    if (path === '/api/studies/8/draft/') {
      const last = releases.length > 1 ? { published_as: 2 } : {};
      return { body: { ...draft, ...changes, ...last } };
    }
    if (path === '/api/studies/8/publish/') {
      if (publish) return publish;
      releases.unshift({ ...release(2), note: (body as { note: string }).note });
      return { status: 201, body: releases[0] };
    }
    if (path === '/api/tokens/' && method === 'POST') {
      const made = {
        ...(body as { name: string; scope: 'read' }),
        id: 3,
        created_at: '2026-11-27T08:00:00Z',
        expires_at: '2027-11-27T08:00:00Z',
      };
      tokens.push(made);
      return { status: 201, body: { ...made, token: 'tansy-0123456789abcdef' } };
    }
    if (path === '/api/portfolios/1/webhooks/' && method === 'POST') {
      hooks.push({ ...hook, url: (body as { url: string }).url });
      return { status: 201, body: { ...hooks[0], secret: 'whsec_once' } };
    }
    if (path === '/api/portfolios/1/webhooks/') return { body: hooks };
    if (path === '/api/webhooks/5/try/') return { status: 201, body: hook.deliveries[0] };
    if (path === '/api/webhooks/5/') return { status: 204, body: hooks.pop() };
    if (path === '/api/tokens/3/') return { status: 204, body: tokens.pop() };
    return path === '/api/tokens/' ? { body: tokens } : undefined;
  });
  show(<Releases />, '/p/:portfolio/releases', '/p/1/releases');
  return calls;
}

const posted = (calls: Call[], path: string) =>
  calls.filter((one) => one.path === path && one.method === 'POST');

describe('releases', () => {
  it('publishes under the next number, with its note, and then says so', async () => {
    const calls = open();
    const button = await screen.findByRole('button', { name: 'Publish R2' });
    expect(screen.getByRole('region', { name: 'What would go out' }).textContent).toContain(
      'With prices #8: 6 series and the 6 nodes above them, 2026-W45 to 2026-W46',
    );
    fireEvent.change(screen.getByLabelText('Note'), { target: { value: 'with the new prices' } });
    fireEvent.click(button);
    expect(await screen.findByText('With prices #8 is published as R2')).toBeDefined();
    expect(posted(calls, '/api/studies/8/publish/')).toEqual([
      expect.objectContaining({ body: { note: 'with the new prices' } }),
    ]);
    const rows = within(screen.getByRole('region', { name: 'Published' })).getAllByRole('row');
    expect(rows[1]?.textContent).toContain('with the new prices');
    expect(rows[2]?.textContent).toContain('R1');
    expect(rows[2]?.textContent).toContain('1,012');
    expect(screen.queryByRole('button', { name: /^Publish R/ })).toBeNull();
  });

  it('does not publish while a check is broken, and shows which', async () => {
    open({ holds: false, checks: [{ name: 'adds up', holds: false, found: 'largest gap 0.2 at Tools' }] });
    expect(await screen.findByRole('button', { name: 'Publish R2' })).toHaveProperty('disabled', true);
    const row = screen.getByRole('cell', { name: '✗ broken' }).closest('tr');
    expect(row?.textContent).toBe('✗ brokenadds uplargest gap 0.2 at Tools');
  });

  it('says why it could not be published, and keeps the note', async () => {
    open({}, { status: 409, body: { detail: 'Somebody published R2 a moment ago.' } });
    fireEvent.change(await screen.findByLabelText('Note'), { target: { value: 'mine' } });
    fireEvent.click(screen.getByRole('button', { name: 'Publish R2' }));
    expect((await screen.findByRole('alert')).textContent).toBe('Somebody published R2 a moment ago.');
    expect(screen.getByLabelText('Note')).toHaveProperty('value', 'mine');
  });

  it('says what moved since the last release, opens a cause to its series, and says so where nothing can be compared', async () => {
    open();
    const region = await screen.findByRole('region', { name: 'What moved the total since R1' });
    expect(region.textContent).toContain('2026-W45 to 2026-W46: 100 → 96 units, −4 (−4.0 %)');
    expect(within(region).queryByText(/series that are gone/)).toBeNull();
    fireEvent.click(within(region).getByRole('button', { name: /what planners changed/ }));
    expect(within(region).getAllByRole('link', { name: 'Rue' })).toHaveLength(2);
    cleanup();
    open({}, null, { status: 422, body: { detail: 'These forecasts have no period in common.' } });
    expect(await screen.findByText(/no period in common/)).toBeDefined();
    cleanup();
    open({}, null, { status: 500, body: { detail: 'Something went wrong.' } });
    expect((await screen.findByRole('alert')).textContent).toContain('Something went wrong.');
  });

  it('links every release as CSV, Parquet, a workbook and sample paths', async () => {
    open();
    const links = within(await screen.findByRole('region', { name: 'Published' })).getAllByRole('link');
    expect(links.map((one) => one.getAttribute('href'))).toEqual([
      '/api/releases/41/csv/',
      '/api/releases/41/parquet/',
      '/api/releases/41/xlsx/',
      '/api/releases/41/paths/',
    ]);
  });

  it('tells another system, shows the secret once, and says what became of it', async () => {
    const calls = open();
    const address = await screen.findByLabelText('Address');
    fireEvent.change(address, { target: { value: 'https://orders.example/tansy' } });
    fireEvent.click(screen.getByRole('button', { name: 'Tell it' }));
    expect(await screen.findByText('whsec_once')).toBeDefined();
    const region = within(screen.getByRole('region', { name: 'Telling other systems' }));
    expect(await region.findByText(/a release not heard after 2 tries \(503 Busy\); again/)).toBeDefined();
    fireEvent.click(region.getByRole('button', { name: 'Try https://orders.example/tansy' }));
    fireEvent.click(region.getByRole('button', { name: 'Tell https://orders.example/tansy no more' }));
    await waitFor(() =>
      expect(calls.filter((one) => one.path.startsWith('/api/webhooks')).map((one) => one.method)).toEqual([
        'POST',
        'DELETE',
      ]),
    );
  });

  it('shows a token once, with how it is used, and takes it back', async () => {
    open();
    const name = await screen.findByLabelText('Name of the system');
    const make = screen.getByRole('button', { name: 'Make a token' });
    fireEvent.change(name, { target: { value: '  ' } });
    expect(make).toHaveProperty('disabled', true);
    fireEvent.change(name, { target: { value: 'order desk' } });
    fireEvent.click(make);
    const shown = (await screen.findByText('tansy-0123456789abcdef')).parentElement;
    expect(shown?.textContent).toContain('tansy-0123456789abcdef');
    expect(shown?.textContent).toContain('/api/releases/41/csv/');
    fireEvent.click(await screen.findByRole('button', { name: 'Take back order desk' }));
    await waitFor(() => expect(screen.queryByRole('button', { name: 'Take back order desk' })).toBeNull());
  });

  it('says what comes first where no study has been run', async () => {
    serve(({ path }) => ({ body: path === '/api/portfolios/' ? [{ id: 1, name: 'Garden', load: {} }] : [] }));
    show(<Releases />, '/p/:portfolio/releases', '/p/1/releases');
    expect(await screen.findByText('Nothing to publish yet')).toBeDefined();
  });

  it.each([
    ['reader', 'You are a reader; a signer publishes this', false],
    ['planner', 'You are a planner; a signer publishes this', false],
    ['signer', '', true],
    ['keeper', '', true],
  ])('lets a %s do what they may', async (role, said, publishes) => {
    open({}, null, { body: bridge }, role);
    await screen.findByText('What would go out');
    expect(screen.getByRole('heading', { name: 'Published' })).toBeDefined();
    if (said) expect(screen.getByText(said)).toBeDefined();
    expect(screen.queryByRole('button', { name: 'Publish R2' }) !== null).toBe(publishes);
    expect(screen.queryByRole('button', { name: 'Withdraw' }) !== null).toBe(publishes);
    expect(screen.queryByText('Telling other systems') !== null).toBe(role === 'keeper');
    expect(screen.queryByLabelText(/Two pairs of eyes/) !== null).toBe(role === 'keeper');
  });
});
