import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { KindsScreen } from './kinds';

const entry = (
  series: string,
  name: string,
  changes: Partial<Schema['KindEntry']> = {},
): Schema['KindEntry'] => ({
  series,
  name,
  kind: 'lumpy',
  by_hand: false,
  first_sale: '2024-W01',
  last_sale: null,
  interval: 2.456,
  variation: 0.6,
  empty: 0.594,
  trend: 0.1,
  season: null,
  entropy: 0.97,
  volume: 41.2,
  ...changes,
});
const kinds: Schema['Kinds'] = {
  n_series: 8,
  volume: 200,
  kinds: [
    { kind: 'smooth', count: 0, volume: 0, examples: [] },
    { kind: 'lumpy', count: 3, volume: 50, examples: [entry('s4', 'Bench × Coast')] },
  ],
  series: [entry('s4', 'Bench × Coast'), entry('s6', 'Bench × Hills', { by_hand: true })],
  movable: ['smooth', 'ended'],
  cloud: { interval: [2.4, 2.5], variation: [0.6, 0.7] },
};

function open(search = '', move: { status?: number; body?: unknown } = { body: { moved: 1 } }) {
  const calls = serve(({ method, path }) => {
    if (path === '/api/portfolios/1/kinds/') return method === 'POST' ? move : { body: kinds };
    if (path === '/api/portfolios/') return { body: [{ id: 1, name: 'Garden', load: {} }] };
    if (path === '/api/portfolios/1/studies/') return { body: [{ id: 8, run: { state: 'done' } }] };
    return undefined;
  });
  show(<KindsScreen />, '/p/:portfolio/intake/kinds', `/p/1/intake/kinds${search}`);
  return calls;
}

describe('kinds of demand', () => {
  it('counts series and volume of each kind, in words, and opens one that has series', async () => {
    open();
    const smooth = await screen.findByRole('button', { name: 'smooth' });
    expect(smooth).toHaveProperty('disabled', true);
    const row = screen.getByRole('button', { name: 'lumpy' }).closest('tr');
    expect([...(row?.children ?? [])].map((cell) => cell.textContent)).toEqual([
      'lumpysells now and then, sizes vary',
      '3',
      '37.5',
      '25.0',
      'Bench × Coast',
    ]);
    fireEvent.click(screen.getByRole('button', { name: 'lumpy' }));
    expect(await screen.findByRole('heading', { name: 'lumpy, 3 series' })).toBeDefined();
    expect(screen.getByRole('button', { name: 'lumpy' }).getAttribute('aria-pressed')).toBe('true');
    expect(screen.getByText('The 2 largest are shown.')).toBeDefined();
    const link = await screen.findByRole('link', { name: 'show only these in the Field' });
    expect(link.getAttribute('href')).toBe('/p/1/s/8/field?kind=lumpy');
  });

  it('shows the figures behind a kind, a dash where there is none, and what was set by hand', async () => {
    open('?kind=lumpy');
    const members = await screen.findByRole('region', { name: 'lumpy, 3 series' });
    const [, coast, hills] = within(members).getAllByRole('row');
    expect([...(coast?.children ?? [])].slice(1).map((cell) => cell.textContent)).toEqual([
      'Bench × Coast',
      'lumpy',
      '41',
      '2.46',
      '0.60',
      '–',
      '0.10',
      '0.97',
      '59',
      '2024-W01',
      '–',
    ]);
    expect(hills?.textContent).toContain('lumpy (by hand)');
  });

  it('moves the chosen series to another kind, or back to what the figures say', async () => {
    const calls = open('?kind=lumpy');
    const to = await screen.findByLabelText(/^Move the chosen ones to/);
    expect(to).toHaveProperty('disabled', true);
    fireEvent.click(screen.getByRole('checkbox', { name: 'Choose Bench × Coast' }));
    fireEvent.click(screen.getByRole('checkbox', { name: 'Choose Bench × Hills' }));
    fireEvent.click(screen.getByRole('checkbox', { name: 'Choose Bench × Coast' }));
    fireEvent.change(screen.getByLabelText(/^Move 1 to/), { target: { value: 'ended' } });
    await waitFor(() =>
      expect(screen.getByLabelText(/^Move the chosen ones to/)).toHaveProperty('disabled', true),
    );
    fireEvent.click(screen.getByRole('checkbox', { name: 'Choose Bench × Hills' }));
    fireEvent.change(screen.getByLabelText(/^Move 1 to/), { target: { value: 'own' } });
    await waitFor(() =>
      expect(calls.filter((one) => one.method === 'POST').map((one) => one.body)).toEqual([
        { series: ['s6'], kind: 'ended' },
        { series: ['s6'], kind: null },
      ]),
    );
  });

  it('says why a series could not be moved, and keeps what was chosen', async () => {
    open('?kind=lumpy', { status: 400, body: { detail: 'That series is gone.' } });
    fireEvent.click(await screen.findByRole('checkbox', { name: 'Choose Bench × Coast' }));
    fireEvent.change(screen.getByLabelText(/^Move 1 to/), { target: { value: 'smooth' } });
    expect((await screen.findByRole('alert')).textContent).toBe('That series is gone.');
    expect(screen.getByRole('checkbox', { name: 'Choose Bench × Coast' })).toHaveProperty('checked', true);
  });
});
