import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { layersOf } from './layers';
import { asked, draftOf, Other } from './other';
import { gapBefore } from './structure';

const structure: Schema['Structure'] = {
  formula: '(group > product) * store',
  pruning: null,
  pruned_until: '',
  names: ['product', 'store', 'group'],
  n_shared: 0,
  n_longer: 0,
  time_levels: [{ name: '4 weeks', periods: 4, used: false }],
  moved: [],
  levels: [
    { name: 'all × all', labels: ['all', 'all'], n_nodes: 1, volume: 100, above: [], gap: 0.02 },
    { name: 'group × all', labels: ['group', 'all'], n_nodes: 2, volume: 100, above: [0], gap: 0.31 },
    { name: 'all × store', labels: ['all', 'store'], n_nodes: 3, volume: 100, above: [0], gap: 0.1 },
    { name: 'other', labels: ['other'], n_nodes: 1, volume: 8, above: [], gap: 0.1 },
    {
      name: 'product × store',
      labels: ['product', 'store'],
      n_nodes: 9,
      volume: 100,
      above: [1, 2],
      gap: null,
    },
  ],
};
const counted: Schema['Tried'] = {
  levels: [{ name: 'all × all', possible: 1, empty: 0, occurring: 1, single: 0, same_as: '', kept: 1 }],
  possible: 20,
  n_nodes: 15,
  n_fitted: 9,
  lumps: 1,
  n_shared: 6,
  n_longer: 3,
  own_volume: 91.25,
  saved: 40,
  splits: 5,
  splits_taken: 4,
};

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe('the structure', () => {
  it('lies in layers, each level below all that it is a part of', () => {
    const placed = layersOf([[], [0], [0], [1, 2], [3]]);
    expect(placed.map((one) => one.layer)).toEqual([0, 1, 1, 2, 3]);
    expect(placed.map((one) => one.at)).toEqual([0, 0, 1, 0, 0]);
    // nodes that gather others stand just above the series
    expect(layersOf(structure.levels.map((one) => one.above)).map((one) => one.layer)).toEqual([
      0, 1, 1, 1, 2,
    ]);
  });

  it('says where nodes differed most from the sums of their series', () => {
    expect(gapBefore(structure.levels)).toBe(
      ' Before it, forecasts over all leads differed from the sums of their series by up to 31 %, at group × all.',
    );
    expect(gapBefore([])).toBe('');
  });

  it('is asked for as it is typed, once its numbers are some', () => {
    const draft = draftOf(structure);
    expect(asked(draft)).toEqual({ formula: structure.formula, time_levels: [], pruning: null });
    const pruned = { ...draft, prune: true, limits: { mean: '2,5', empty: ' ' }, share: '30' };
    expect(asked(pruned)).toEqual({
      formula: structure.formula,
      time_levels: [],
      pruning: { limits: [{ feature: 'mean', limit: 2.5 }], share: 30, by: 'parts', lump: true },
    });
    expect(asked({ ...pruned, limits: {} })).toBeUndefined();
    expect(asked({ ...pruned, share: 'half' })).toBeUndefined();
    expect(asked({ ...draft, times: ['4 weeks'] })?.time_levels).toEqual(['4 weeks']);
    expect(asked({ ...draft, formula: ' ' })).toBeUndefined();
    expect(draftOf({ ...structure, pruning: asked(pruned)?.pruning ?? null }).limits).toEqual({
      mean: '2.5',
    });
  });

  it('counts while it is typed, and is run as a study', async () => {
    const calls = serve(({ method, path }) => {
      if (method === 'POST' && path.endsWith('/structure/study/')) return { status: 201, body: { id: 9 } };
      return method === 'POST' ? { body: counted } : undefined;
    });
    show(<Other study={7} portfolio={1} structure={structure} />, '/', '/');
    await screen.findByText('15');
    fireEvent.click(screen.getByRole('checkbox', { name: /Prune/ }));
    await screen.findByText('91.3 %');
    const form = screen.getByRole('region', { name: 'Another structure' });
    fireEvent.change(within(form).getByLabelText(/Mean per period/), { target: { value: '5' } });
    await waitFor(() => expect(JSON.stringify(calls)).toContain('"limit":5'));
    fireEvent.click(screen.getByRole('button', { name: 'Run a study with it' }));
    await waitFor(() => expect(calls.some((one) => one.path.endsWith('/structure/study/'))).toBe(true));
  });
});
