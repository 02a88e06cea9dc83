import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { show } from '../../test/serve';
import { Ledger } from './ledger';

const entry = (id: number, changes: Partial<Schema['Correction']> = {}): Schema['Correction'] => ({
  id,
  key: [`P${id}`, 'S1'],
  name: `P${id} | S1`,
  period: '2025-W10',
  received: 120,
  value: 31,
  unjudged: false,
  rule: 'tail',
  score: 7.25,
  reason: 'till error',
  made_by: 'ines',
  made_at: '2026-11-02T08:30:00Z',
  reverted_by: null,
  reverted_at: null,
  holds: true,
  ...changes,
});
const ledger: Schema['Ledger'] = {
  corrections: [
    entry(1),
    entry(2, { value: null, holds: false }),
    entry(3, { reverted_by: 'omar', reverted_at: '2026-11-03T10:00:00Z' }),
  ],
  n_standing: 2,
  n_reverted: 1,
  level: 'group',
  levels: ['group', 'department'],
  moved: [
    { name: 'Ferns', count: 2, added: 4, removed: 89, unknown: 0 },
    { name: 'Herbs', count: 1, added: 0, removed: 0, unknown: 1200 },
  ],
};

function open(revert: { status: number; body: unknown } = { status: 200, body: { reverted: 2 } }) {
  const asked: string[] = [];
  const posted: unknown[] = [];
  vi.stubGlobal('fetch', async (input: Request) => {
    const { pathname, searchParams } = new URL(input.url);
    if (input.method === 'POST') {
      posted.push(await input.json());
      return new Response(JSON.stringify(revert.body), { status: revert.status });
    }
    if (pathname.endsWith('/corrections/')) asked.push(searchParams.toString());
    return new Response(JSON.stringify(pathname === '/api/portfolios/' ? [] : ledger));
  });
  show(<Ledger />, '/p/:portfolio/intake/ledger', '/p/1/intake/ledger?key=P');
  return { asked, posted };
}

describe('the ledger of corrections', () => {
  it('tells what stands from what was reverted and what a later file overtook', async () => {
    open();
    const rows = (await screen.findAllByRole('row')).map((row) => row.textContent);
    expect(rows.find((text) => text?.includes('P1 | S1'))).toContain('1203');
    expect(rows.find((text) => text?.includes('P2 | S1'))).toContain('unknown');
    expect(rows.find((text) => text?.includes('P2 | S1'))).toContain('not in force: the value was revised');
    expect(rows.find((text) => text?.includes('P3 | S1'))).toContain('reverted by omar');
    expect(screen.queryByRole('checkbox', { name: 'Choose P3 | S1, 2025-W10' })).toBeNull();
    expect(screen.getByText('2 values in force, 1 reverted')).toBeDefined();
  });

  it('adds up the volume that was moved, by the level that is asked for', async () => {
    const { asked } = open();
    const moved = await screen.findByRole('region', { name: 'Volume moved' });
    expect(within(moved).getAllByRole('row').at(-1)?.textContent).toBe('all34891,200');
    fireEvent.change(within(moved).getByRole('combobox'), { target: { value: 'department' } });
    await waitFor(() => expect(asked.at(-1)).toBe('state=standing&key=P&level=department'));
  });

  it('asks for what is chosen above it, and downloads the same', async () => {
    const { asked } = open();
    fireEvent.click(await screen.findByRole('button', { name: 'reverted' }));
    fireEvent.change(screen.getByLabelText('Series'), { target: { value: 'fern & co' } });
    await waitFor(() => expect(new URLSearchParams(asked.at(-1)).get('key')).toBe('fern & co'));
    expect(screen.getByRole('link', { name: 'Download as CSV' }).getAttribute('href')).toBe(
      '/api/portfolios/1/corrections/file/?state=reverted&key=fern%20%26%20co',
    );
  });

  it('reverts all that stand at once, and no others', async () => {
    const { posted } = open();
    const all = await screen.findByRole('checkbox', { name: 'All in force' });
    expect(screen.getByRole('button', { name: 'Revert' })).toHaveProperty('disabled', true);
    fireEvent.click(all);
    fireEvent.click(screen.getByRole('button', { name: 'Revert 2' }));
    await waitFor(() => expect(posted).toEqual([{ ids: [1, 2] }]));
    await waitFor(() =>
      expect(screen.getByRole('button', { name: 'Revert' })).toHaveProperty('disabled', true),
    );
  });

  it('says why nothing was reverted', async () => {
    open({ status: 409, body: { detail: 'A study is running.' } });
    fireEvent.click(await screen.findByRole('checkbox', { name: 'Choose P1 | S1, 2025-W10' }));
    fireEvent.click(screen.getByRole('button', { name: 'Revert 1' }));
    expect((await screen.findByRole('alert')).textContent).toBe('A study is running. Nothing was reverted.');
    expect(screen.getByRole('checkbox', { name: 'Choose P1 | S1, 2025-W10' })).toHaveProperty(
      'checked',
      true,
    );
  });
});
