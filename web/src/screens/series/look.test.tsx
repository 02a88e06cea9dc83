import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { type Call, serve, show } from '../../test/serve';
import { LookPage, shownAs } from './look';

const node = { node: 5, name: 'Fork', frequency: 'M', season_length: 12 } as unknown as Schema['Node'];
const look: Schema['Look'] = {
  periods: ['2025-01', '2025-02'],
  history: [4, 0],
  shown: [4, 0],
  acf: [0.5],
  pacf: [0.5],
  noise: 0.2,
  season_length: 12,
  years: {
    what: 'month',
    places: ['January', 'February'],
    years: [2025],
    values: [[4], [0]],
    usual: [4, null],
  },
  parts: { trend: [2, 2], season: [1, 1], rest: [1, 1], multiplied: true },
  advice: ['The season is strong: difference at lag 12.'],
};

/** The server cannot take logarithms of this series: it has a zero. */
function open(of: Partial<Schema['Node']> = {}) {
  const asked: string[] = [];
  const calls = serve(() => undefined);
  vi.stubGlobal('fetch', async (input: Request) => {
    const { pathname, searchParams } = new URL(input.url);
    asked.push(searchParams.toString());
    const refused = searchParams.get('logs') === 'true';
    const body = refused ? { detail: 'Logarithms need values above zero; 2025-02 is 0.' } : look;
    expect(pathname).toContain('/look/');
    return new Response(JSON.stringify(body), { status: refused ? 400 : 200 });
  });
  show(<LookPage study={3} node={{ ...node, ...of }} title="Fork" actions={null} />, '/', '/');
  return { asked, calls: calls as Call[] };
}

describe('looking at a series', () => {
  it('says in words what is drawn', () => {
    expect(shownAs({ d: 0, seasonal_d: 0, logs: false }, 12, 'month')).toBe('Units a month');
    expect(shownAs({ d: 2, seasonal_d: 0, logs: false }, 12, 'month')).toBe(
      'Units a month, differenced twice',
    );
    expect(shownAs({ d: 1, seasonal_d: 1, logs: true }, 12, 'month')).toBe(
      'Logarithms of units a month, differenced once and at lag 12',
    );
  });

  it('differences at the press of a key, as often as it makes sense', async () => {
    const { asked } = open();
    await screen.findByText('Units a month');
    fireEvent.keyDown(window, { key: 'd' });
    await screen.findByText('Units a month, differenced once');
    fireEvent.keyDown(window, { key: 's' });
    await waitFor(() => expect(asked.at(-1)).toContain('seasonal_d=1'));
    fireEvent.keyDown(window, { key: 'd' });
    fireEvent.keyDown(window, { key: 'd' });
    await screen.findByText('Units a month, differenced at lag 12'); // after twice comes not at all
    fireEvent.keyDown(window, { key: 's', ctrlKey: true });
    expect(screen.getByText('Units a month, differenced at lag 12')).toBeDefined();
  });

  it('offers no seasonal difference where there is no season', async () => {
    const { asked } = open({ season_length: 1 });
    await screen.findByText('Units a month');
    expect(screen.queryByRole('checkbox', { name: /season before/ })).toBeNull();
    fireEvent.keyDown(window, { key: 's' });
    fireEvent.keyDown(window, { key: 'd' });
    await waitFor(() => expect(asked.at(-1)).toContain('d=1'));
    expect(asked.every((one) => one.includes('seasonal_d=0'))).toBe(true);
  });

  it('says why logarithms cannot be, and leads back to the values', async () => {
    open();
    fireEvent.click(await screen.findByRole('checkbox', { name: /Logarithms/ }));
    expect((await screen.findByRole('alert')).textContent).toContain('2025-02 is 0');
    fireEvent.click(screen.getByRole('button', { name: 'Show the values themselves' }));
    expect(await screen.findByText('Units a month')).toBeDefined();
    expect(screen.queryByRole('alert')).toBeNull();
  });

  it('tabulates month by year with the usual month, tinted by size, and takes the series apart', async () => {
    open();
    const table = within(await screen.findByRole('region', { name: 'month by year' }));
    expect(table.getAllByRole('row').map((row) => row.textContent)).toEqual([
      'month2025mean',
      'January4.04.0',
      'February0.0–',
    ]);
    const [large, none] = [table.getAllByText('4.0')[0], table.getByText('0.0')];
    expect(large?.style.background).not.toBe(none.style.background);
    fireEvent.click(screen.getByRole('button', { name: 'Trend, season, rest' }));
    for (const name of ['Trend', 'Season, a factor', 'Rest, a factor'])
      expect(screen.getByRole('img', { name })).toBeDefined();
    expect(screen.getByText(/multiplied give/)).toBeDefined();
    expect(screen.getByText('The season is strong: difference at lag 12.')).toBeDefined();
  });
});
