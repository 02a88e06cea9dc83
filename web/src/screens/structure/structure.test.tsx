import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { aboveOf, firstFolds, unfolded, waysOf } from './fold';
import { Kin } from './kin';
import { layersOf } from './layers';
import { asked, draftOf, Other } from './other';
import { EMPTY, pasted } from './rows';
import { gapBefore } from './structure';

const structure: Schema['Structure'] = {
  formula: '(group > product) * store',
  pruning: null,
  pruned_until: '',
  names: ['product', 'store', 'group'],
  edges: '',
  top: 'aa',
  rows: [],
  values: ['group: Herbs', 'group: Ferns'],
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
  levels: [
    {
      name: 'all × all',
      possible: 1,
      empty: 0,
      occurring: 1,
      single: 0,
      same_as: '',
      equal: 0,
      example: '',
      kept: 1,
    },
  ],
  findings: [],
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

  it('folds each way of telling nodes apart', () => {
    const ways = waysOf(structure.levels);
    expect(ways).toEqual([
      ['all', 'group', 'product'],
      ['all', 'store'],
    ]);
    expect(unfolded(structure.levels, ways, [1, 1])).toEqual([true, true, true, true, false]);
    expect(firstFolds(structure.levels, ways, 4)).toEqual([1, 1]);
    // lines lead to the nearest level that is shown
    const above = structure.levels.map((one) => one.above);
    expect(aboveOf(above, [true, false, true, false, true])).toEqual([[], [0], [0, 1]]);
  });

  it('is drawn by hand, row by row or from a sheet', async () => {
    const rows = [EMPTY, { total: 'Shop', below: 'store: S0' }];
    expect(pasted('one cell', rows, 0)).toBeUndefined();
    expect(pasted('Chain\tShop\tchain\r\nChain\tgroup: Herbs\n', rows, 0)).toEqual([
      { total: 'Chain', below: 'Shop', level: 'chain' },
      { total: 'Chain', below: 'group: Herbs', level: '' },
      rows[1],
    ]);
    const draft = { ...draftOf(structure), way: 'rows' as const, rows };
    expect(asked(draft)).toEqual({ rows: [rows[1]], time_levels: [], pruning: null });
    expect(asked({ ...draft, rows: [EMPTY] })).toBeUndefined();

    const finding = '4 series are in no row, and stand below “in no row”: P1 × S1.';
    const calls = serve(({ method }) =>
      method === 'POST' ? { body: { ...counted, findings: [finding] } } : undefined,
    );
    show(<Other study={7} portfolio={1} structure={structure} />, '/', '/');
    fireEvent.click(screen.getByRole('radio', { name: 'drawn by hand' }));
    fireEvent.change(screen.getByLabelText('Total, row 1'), { target: { value: 'Shop' } });
    fireEvent.change(screen.getByLabelText('What lies below it, row 1'), {
      target: { value: 'store: S0' },
    });
    await screen.findByText(finding);
    await waitFor(() =>
      expect(calls.at(-1)?.body).toEqual({
        rows: [{ total: 'Shop', below: 'store: S0', level: '' }],
        time_levels: [],
        pruning: null,
      }),
    );
    fireEvent.click(screen.getByRole('button', { name: 'Add a row' }));
    fireEvent.click(screen.getByRole('button', { name: 'Remove row 2' }));
    expect(screen.queryByLabelText('Total, row 2')).toBeNull();
  });

  it('is followed from node to node', async () => {
    const node = (name: string, level: string) => ({
      node: name.toLowerCase(),
      name,
      level,
      base: 10,
      forecast: 8,
    });
    serve(({ path }) => {
      const top = path.includes('/nodes/aa/');
      const itself = top ? node('All', 'all') : node('Herbs', 'group');
      const below = { level: 'group', n_nodes: 25, nodes: [node('Herbs', 'group')] };
      return { body: { itself, parents: top ? [] : [node('All', 'all')], children: top ? [below] : [] } };
    });
    show(<Kin study={7} portfolio={1} top="aa" />, '/', '/');
    await screen.findByText('and 24 smaller ones');
    fireEvent.click(screen.getByRole('link', { name: 'Herbs' }));
    await screen.findByText('It is a series; nothing lies below it.');
    expect(screen.getByRole('link', { name: 'All' }).getAttribute('href')).toBe('/?node=all');
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
