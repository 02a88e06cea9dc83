import { fireEvent, screen, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schema } from '../../api/client';
import { releasesOptions } from '../../charts/releases';
import { serve, show } from '../../test/serve';
import { TrackPage } from './track';

const measures = (wape: number | null): Omit<Schema['TrackLevel'], 'name' | 'n_nodes'> => ({
  wape,
  wape_statistical: wape,
  bias: wape === null ? null : -2.5,
  gain: wape === null ? null : 12.4,
  held: [{ level: 80, share: wape === null ? null : 0.79 }],
  tracking: wape === null ? null : 3.25,
});

const track: Schema['Track'] = {
  release: 1,
  id: 5,
  origin: '2026-W43',
  periods: ['2026-W44', '2026-W45', '2026-W46'],
  n_came: 1,
  sentence: 'R1 from 2026-W43: 1 of 3 periods have come.',
  levels: [
    { name: 'all', n_nodes: 1, ...measures(4.2) },
    { name: 'product', n_nodes: 40, ...measures(38.1) },
  ],
  kinds: [{ name: 'erratic', n_nodes: 31, ...measures(41.7) }],
  leads: [{ period: '2026-W44', actual: 90, forecast: 100, naive: 120, ...measures(38.1) }],
  adjustments: [
    {
      name: 'Herbs',
      words: '+10 %',
      reason: 'fair',
      made_by: 'mara',
      periods: 1,
      gained: -12,
      percent: -30,
      tracking: -1,
      brought: 'did harm: 12 units further off (−30 %)',
    },
    {
      name: 'Ferns',
      words: '+5',
      reason: 'fair',
      made_by: 'mara',
      periods: 0,
      gained: 0,
      percent: null,
      tracking: null,
      brought: 'nothing of it has come yet',
    },
  ],
  n_adjustments: 70,
  by_reason: [
    {
      name: 'fair',
      periods: 1,
      gained: -12,
      percent: -30,
      tracking: -1,
      brought: 'did harm: 12 units further off (−30 %)',
    },
  ],
  by_planner: [],
  left: [{ node: 'n1', name: 'Rue', actual: 9, forecast: 3, error: 6, outside: 1, of: 1, tracking: 1 }],
  n_series: 40,
};

const release = (number: number, first: string) =>
  ({
    id: number + 4,
    number,
    origin: '2026-W43',
    first,
    last: '2026-W46',
    withdrawal: null,
  }) as Schema['Release'];

const draft = {
  past_periods: ['2026-W42', '2026-W43', '2026-W44'],
  periods: ['2026-W45', '2026-W46'],
  total: { history: [80, 85, 90], mean: [1, 1], bands: [] },
} as unknown as Schema['Draft'];

describe('the track of a release', () => {
  it('shows first the newest release of which something has come, and opens its misses', async () => {
    const calls = serve(({ path }) => (path.includes('/track/') ? { body: track } : { body: [] }));
    const list = [release(2, '2026-W45'), release(1, '2026-W44')];
    show(<TrackPage portfolio={1} study={3} list={list} draft={draft} />, '/', '/');
    expect(await screen.findByText(/1 of 3 periods have come/)).toBeDefined();
    expect(calls.some((call) => call.path === '/api/releases/5/track/')).toBe(true);
    const left = screen.getByRole('region', { name: /Series that left/ });
    expect(within(left).getByRole('link', { name: 'Rue' }).getAttribute('href')).toBe('/p/1/s/3/series/n1');
    const kinds = screen.getByRole('region', { name: 'By kind of demand' });
    expect(within(kinds).getByRole('row', { name: /erratic 31 41.7 .*3.3$/ })).toBeDefined();
    expect(screen.getByText(/The 2 of 70 that brought or cost most/)).toBeDefined();
    expect(screen.getAllByText('did harm: 12 units further off (−30 %)')).toHaveLength(2);
    fireEvent.change(screen.getByLabelText('Release'), { target: { value: '2' } });
    expect(await screen.findByText(/R1 from 2026-W43: 1 of 3/)).toBeDefined();
    expect(calls.some((call) => call.path === '/api/releases/6/track/')).toBe(true);
  });

  it('draws each release from its own first period', () => {
    const one = { release: 1, origin: '2026-W43', low: [], high: [] };
    const { series } = releasesOptions(
      draft.past_periods,
      draft.periods,
      [80, 85, 90],
      [{ ...one, periods: ['2026-W44', '2026-W45'], forecast: [100, 110] }],
      new Proxy({}, { get: () => '#000' }) as never,
    );
    expect(series.map((line) => [line.name, line.data])).toEqual([
      ['sold', [80, 85, 90, null, null]],
      ['R1', [null, null, 100, 110, null]],
    ]);
  });
});
