import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { drawn } from '../../test/drawn';
import { serve, show } from '../../test/serve';
import { StructureScreen } from '../structure/structure';
import { Backtest } from './backtest';

const METHODS = ['seasonal-naive', 'naive', 'mean', 'theta', 'drift', 'ets(best)'];
/** RMSSE, WAPE, MAE, bias and gain of each method on each level; a level is half a point better than the one before. */
const figures = (level: number) =>
  [1.2, 1.5, 0.9, 0.7, 1.9, 0.8, 0.75, 0.65].map((base) => {
    const at = base - 0.05 * level;
    const row = [at, 100 * at, 10 * at, base === 1.9 ? -30 : 5, 100 * (1 - at / 1.2)];
    return [row, row, row.map((value) => value + 0.1)];
  });
const summary: Schema['Summary'] = {
  edges: '',
  accuracy: {
    levels: [
      { name: 'all', labels: ['all'], n_nodes: 1 },
      { name: 'group × all', labels: ['group', 'all'], n_nodes: 3 },
      { name: 'all × region', labels: ['all', 'region'], n_nodes: 2 },
      { name: 'group × region', labels: ['group', 'region'], n_nodes: 6 },
      { name: 'all nodes', labels: [], n_nodes: 12 },
    ],
    measures: ['RMSSE', 'WAPE', 'MAE', 'bias', 'gain'],
    methods: [...METHODS, 'choice per series', 'published'],
    briefs: [...METHODS, 'choice per series', 'published'],
    parts: [],
    reconciliations: ['none', 'bottom-up', 'variance'],
    bands: [95, 80],
    by_method: [0, 1, 2, 3, 4].map(figures),
    by_reconciliation: [0, 1, 2, 3, 4].map((level) => [
      [0.7 - 0.01 * level, 40],
      [0.8, 41.26],
      [0.6, null],
    ]),
    coverage: [0, 1, 2, 3, 4].map(() => [
      [0.94, 0.79],
      [0.95, 0.8],
      [null, 0.78],
    ]),
    cells: [6, 18, 12, 36, 72].map((n) => [n, n, n, n / 2, n, n, n, n]),
    shared: [6, 18, 12, 36, 72].map((n) => Array(8).fill(n / 2)),
    chosen: { theta: 7, mean: 1 },
    zero_by_decision: 2,
  },
  n_series: 6,
  n_nodes: 12,
  origins: ['2026-W01', '2026-W14'],
  frequency: 'W',
  leads: 2,
  largest_gap: 0,
  reconciliation: 'variance',
  reconciled_by: ['combined', 'combined', 'variance'],
  seconds: {},
  peak_memory_mb: 500,
};

const texts = (region: HTMLElement) =>
  within(region)
    .getAllByRole('row')
    .map((row) => [...row.children].map((cell) => cell.textContent));

describe('the backtest', () => {
  function open(search = '', body: unknown = summary) {
    serve(() => ({ body }));
    show(<Backtest />, '/p/:portfolio/s/:study/backtest', `/p/1/s/7/backtest${search}`);
  }

  it('shows methods from best to worst under what is published, on the finest level at first', async () => {
    open();
    const rows = texts(await screen.findByRole('region', { name: 'Over all leads' }));
    expect(rows.slice(1).map((row) => row[0])).toEqual([
      'published the choice, reconciled',
      'choice per series before reconciliation',
      'theta',
      'ets(best)',
      'mean',
      'seasonal-naive',
      'naive',
      'drift',
    ]);
    expect(rows[3]).toEqual(['theta', '0.550', '55.0', '5.50', '+5.0 too low', '+54.2', '18', '18', '7', '']);
    expect(rows[8]?.[4]).toBe('−30.0 too high');
    expect(screen.getByText(/judged on all 36 values that it covers/)).toBeDefined();
    expect(screen.getByText(/2 ended series are forecast as zero/)).toBeDefined();
  });

  it('draws the four best by the chosen measure beside the seasonal naive and what is published', async () => {
    open();
    await screen.findByRole('img', { name: 'RMSSE of the methods by lead' });
    const names = () =>
      drawn
        .at(-1)
        ?.series.filter((one) => one.type === 'line')
        .map((one) => one.name);
    expect(names()).toEqual(['theta', 'ets(best)', 'mean', 'seasonal-naive', 'published']);
    fireEvent.click(screen.getByRole('button', { name: 'gain' }));
    await screen.findByRole('img', { name: 'gain of the methods by lead' });
    expect(names()?.[0]).toBe('theta'); // the most, not the least
    fireEvent.click(screen.getByRole('button', { name: 'bias' }));
    await screen.findByRole('img', { name: 'bias of the methods by lead' });
    expect(names()).not.toContain('drift'); // farthest from zero, though the lowest
  });

  it('takes level and measure from the address, and changes them there', async () => {
    open('?level=all&measure=WAPE');
    await screen.findByRole('img', { name: 'WAPE of the methods by lead' });
    expect(screen.getByText(/judged on all 6 values/)).toBeDefined();
    fireEvent.change(screen.getByLabelText('Level'), { target: { value: '4' } });
    await waitFor(() => expect(screen.getByText(/judged on all 72 values/)).toBeDefined());
  });

  it('sets coverage beside its nominal level, by lead, and leaves empty what was not tested', async () => {
    open('?page=bands');
    expect(texts(await screen.findByRole('region', { name: /Share of actuals inside the bands/ }))).toEqual([
      ['Band', 'all leads', '1', '2'],
      ['95 %', '94.0', '95.0', '–'],
      ['80 %', '79.0', '80.0', '78.0'],
    ]);
  });
});

const report: Schema['Report'] = {
  kinds: [
    { name: 'smooth', n_series: 4 },
    { name: 'new', n_series: 2 },
  ],
  by_kind: [
    [1, 0.9, 0.8, 0.7, null, 0.6, 0.5, 0.55].map((v) => [v, v, v, v, v]),
    [0.4, 0.9, 0.8, 0.7, null, null, 0.5, 0.55].map((v) => [v, v, v, v, v]),
  ],
  kind_coverage: [
    [0.96, 0.81],
    [null, 0.7],
  ],
  coverage_error: [0, 1, 2, 3, 4].map(() => [0.01, 0.02]),
  between: [0, 1, 2, 3, 4].map(() => [0.05, 0.1, 0.7, 0.1, 0.05]),
  probabilities: [0.025, 0.1, 0.9, 0.975],
  interval_score: [0, 1, 2, 3, 4].map(() => [4.2, 2.1]),
  gain_cuts: [-10, 0, 10],
  gains: [1, 2, 3, 0],
  n_worse: 3,
  seconds: [0, 1.25, 0, 0, 0, 0],
};
const reported = { ...summary, accuracy: { ...summary.accuracy, report } };

describe('what the backtest says beyond pooled errors', () => {
  function open(search: string, body: unknown = reported) {
    serve(() => ({ body }));
    show(<Backtest />, '/p/:portfolio/s/:study/backtest', `/p/1/s/7/backtest${search}`);
  }

  it('sums it up for a manager', async () => {
    open('');
    const said = await screen.findByText(/Tested from 2 origins, 2 weeks ahead/);
    expect(said.textContent).toContain('errs 58 % less than repeating last season, on 6 series.');
    expect(said.textContent).toContain('On 3 of them it errs more.');
    expect(said.textContent).toContain('94.0 % of the actuals lay in the 95 % band');
    expect(said.textContent).toContain('Forecasts of the total were 65.0 % off, and 5.0 % too low');
  });

  it('says what the learner goes by, and has no page for it without one', async () => {
    const drives = {
      groups: [
        { name: 'price', worse: 12.5 },
        { name: 'how far ahead', worse: -0.2 },
      ],
      effects: [
        {
          driver: 'price',
          relative: true,
          points: [
            { at: -20, change: 31 },
            { at: 0, change: 0 },
          ],
        },
        {
          driver: 'holiday',
          relative: false,
          points: [
            { at: 0, change: 0 },
            { at: 1, change: -8 },
          ],
        },
      ],
    };
    open('?page=learner', { ...summary, accuracy: { ...summary.accuracy, report: { ...report, drives } } });
    const rows = texts(await screen.findByRole('region', { name: /What the learner goes by/ }));
    expect(rows.slice(1).map((row) => row.slice(0, 2))).toEqual([
      ['price', '+12.5 %'],
      ['how far ahead', '−0.2 %'],
    ]);
    const effects = screen.getByRole('region', { name: /What a driver does/ });
    expect(effects.textContent).toContain('20 % lower+31.0 %as usual0.0 %');
    expect(effects.textContent).toContain('00.0 %1−8.0 %');
    cleanup();
    open('?page=learner');
    await screen.findByRole('img', { name: 'RMSSE of the methods by lead' });
    expect(screen.queryByRole('button', { name: 'Learner' })).toBeNull();
  });

  it('marks who errs least on each kind, and opens the series that lost', async () => {
    open('?page=kinds');
    const table = await screen.findByRole('region', { name: /Who errs least on which kind/ });
    const rows = within(table).getAllByRole('row').slice(1);
    const bold = rows.map((row) => [
      row.children[0]?.textContent,
      ...[...row.children].slice(1).map((cell) => cell.className.includes('underline')),
    ]);
    expect(bold[0]).toEqual(['published', false, false]);
    expect(bold).toContainEqual(['ets(best)', true, false]);
    expect(bold).toContainEqual(['seasonal-naive', false, true]);
    const gains = texts(screen.getByRole('region', { name: /Series by gain/ }));
    expect(gains.slice(1).map((row) => row.slice(0, 2))).toEqual([
      ['10 % worse and more', '1'],
      ['0 to 10 % worse', '2'],
      ['0 to 10 % better', '3'],
      ['10 % better and more', '0'],
    ]);
    expect(screen.getByRole('link', { name: /Open them/ }).getAttribute('href')).toBe(
      '/p/1/s/7/field?lens=gain',
    );
  });

  it('holds bands against their promise by level and kind, and shows where actuals fell', async () => {
    open('?page=bands&level=all');
    const levels = texts(await screen.findByRole('region', { name: /By level/ }));
    expect(levels[1]).toEqual(['all', '1', '94.0 ± 1.0', '79.0 ± 2.0', '4.20', '2.10']);
    const kinds = texts(screen.getByRole('region', { name: /By kind of demand/ }));
    expect(kinds[2]).toEqual(['new', '2', '–', '70.0']);
    const between = texts(screen.getByRole('region', { name: /Where actuals fall/ }));
    expect(between.slice(1).map((row) => row.slice(0, 3))).toEqual([
      ['below 2.5 %', '2.5', '5.0'],
      ['2.5 % to 10 %', '7.5', '10.0'],
      ['10 % to 90 %', '80.0', '70.0'],
      ['90 % to 97.5 %', '7.5', '10.0'],
      ['above 97.5 %', '2.5', '5.0'],
    ]);
  });

  it('says so of a study that was run before', async () => {
    open('?page=kinds', summary);
    expect(await screen.findByText(/run it again to see them/)).toBeDefined();
  });
});

describe('another choice', () => {
  it('is tried as it is set, and kept as a study of its own', async () => {
    const rule = { measure: 'squared', margin: 2, own: 10, fallback: '' };
    const calls = serve(({ path, method }) => {
      if (!path.endsWith('/choice/')) return { body: summary };
      if (method === 'POST') return { status: 201, body: { id: 8 } };
      return {
        body: {
          as_run: rule,
          candidates: ['theta', 'mean'],
          levels: [
            {
              name: 'all',
              n_nodes: 1,
              n_changed: 1,
              rmsse: 0.9,
              rmsse_as_run: 1,
              mean_absolute: null,
              mean_absolute_as_run: 1,
            },
          ],
          methods: [{ method: 'theta', brief: 'theta', n_nodes: 1, n_as_run: 0 }],
        },
      };
    });
    show(<Backtest />, '/p/:portfolio/s/:study/backtest', '/p/1/s/7/backtest?page=choice');
    const table = texts(await screen.findByRole('region', { name: /Error by level/ }));
    expect(table[1]).toEqual(['all', '1', '1', '0.900', '1.000', '−10.0 %', '–', '–']);
    const keep = () =>
      screen.getByRole<HTMLButtonElement>('button', { name: 'Run a study with this choice' });
    expect(keep().disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('Margin, standard errors'), { target: { value: '1' } });
    fireEvent.click(screen.getByRole('button', { name: 'absolute' }));
    fireEvent.change(screen.getByLabelText('Stands first'), { target: { value: 'theta' } });
    await waitFor(() => expect(keep().disabled).toBe(false));
    fireEvent.change(screen.getByLabelText('Margin, standard errors'), { target: { value: '99' } }); // not taken
    fireEvent.click(keep());
    await waitFor(() => expect(calls.at(-1)?.method).toBe('POST'));
    expect(calls.at(-1)?.body).toEqual({ measure: 'absolute', margin: 1, own: 10, fallback: 'theta' });
  });
});

/** What a press of a button in a section would keep as a file, line by line. */
async function kept(section: HTMLElement, button: RegExp): Promise<string[]> {
  const files: Blob[] = [];
  URL.createObjectURL = (file) => `blob:${files.push(file as Blob)}`;
  URL.revokeObjectURL = () => {};
  vi.spyOn(HTMLAnchorElement.prototype, 'click').mockImplementation(() => {});
  fireEvent.click(within(section).getByRole('button', { name: button }));
  return ((await files[0]?.text()) ?? '').trim().split('\r\n');
}

/** A server with a summary, and the structure that belongs to it. */
function serveStructure(body: Schema['Summary']) {
  const levels = body.accuracy.levels.slice(0, -1).map((level, i) => ({
    name: level.name,
    labels: level.labels,
    n_nodes: level.n_nodes,
    volume: 100,
    above: i === 0 ? [] : [i - 1],
    gap: null,
  }));
  const structure: Schema['Structure'] = {
    formula: 'group',
    pruning: null,
    pruned_until: '',
    names: ['group'],
    levels,
    n_shared: 0,
    top: 'aa',
    n_longer: 0,
    edges: '',
    rows: [],
    values: [],
    time_levels: [],
    moved: [],
  };
  return serve(({ method, path }) => {
    if (method === 'POST') return undefined;
    if (path.endsWith('/kin/')) {
      const itself = { node: 'aa', name: 'all', level: 'all', base: 1, forecast: 1 };
      return { body: { itself, parents: [], children: [] } };
    }
    return { body: path.endsWith('/structure/') ? structure : body };
  });
}

describe('tables taken along', () => {
  it('hold every digit, in the order that is shown, and how often a method was chosen', async () => {
    serve(() => ({ body: summary }));
    show(<Backtest />, '/p/:portfolio/s/:study/backtest', '/p/1/s/7/backtest?level=all');
    const lines = await kept(await screen.findByRole('region', { name: 'Over all leads' }), /^CSV/);
    expect(lines[0]).toBe('Method,RMSSE,WAPE,MAE,bias,gain,Values,Values of the gain,Chosen for');
    expect(lines.slice(1, 4).map((line) => line.split(',')[0])).toEqual([
      'published',
      'choice per series',
      'theta',
    ]);
    expect(lines[3]).toMatch(/^theta,0\.7,70,7,5,41\.6\d+,3,3,7$/);
  });

  it('name the levels of the structure, before and after reconciliation', async () => {
    serveStructure(summary);
    show(<StructureScreen />, '/p/:portfolio/s/:study/structure', '/p/1/s/7/structure');
    const lines = await kept(await screen.findByRole('region', { name: 'WAPE by level, %' }), /^CSV/);
    expect(lines[0]).toBe('Level,Nodes,none,bottom-up,variance');
    expect(lines[2]).toBe('group × all,3,40,41.26,');
  });
});

describe('the structure', () => {
  it('counts the nodes of every level, and says that all add up', async () => {
    serveStructure(summary);
    show(<StructureScreen />, '/p/:portfolio/s/:study/structure', '/p/1/s/7/structure');
    const levels = await screen.findByRole('region', { name: 'Levels' });
    expect(levels.textContent).toContain('6 series add up to 12 nodes on 4 levels');
    expect(levels.textContent).toContain('0 of the node (zero to rounding)');
    expect(levels.textContent).toContain('After reconciliation by variance, chosen by the backtest,');
    expect(levels.textContent).toContain('Of the 2 origins tested, it had been combined at 2.');
    // each level is a button with its error before and after what is published
    const group = within(levels).getByRole('button', { name: /^group × all/ });
    expect(group.textContent).toContain('3 nodes, 100 %');
    expect(group.textContent).toContain('0.690 → 0.600');
  });

  it('marks the least error of each level before and after reconciliation, and the one published', async () => {
    serveStructure({ ...summary, reconciled_by: [], largest_gap: 2e-7 });
    show(<StructureScreen />, '/p/:portfolio/s/:study/structure', '/p/1/s/7/structure');
    expect((await screen.findByRole('region', { name: 'Levels' })).textContent).not.toMatch(
      /backtest|tested/,
    );
    const table = await screen.findByRole('region', { name: 'RMSSE by level' });
    const rows = texts(table);
    expect(rows[0]).toEqual([
      'Level',
      'Nodes',
      'before (does not add up)',
      'bottom-up',
      'variance, published',
    ]);
    expect(rows[2]).toEqual(['group × all', '3', '0.690', '0.800', '0.600']);
    const bold = within(table)
      .getAllByText('0.600')
      .every((cell) => cell.className.includes('font-semibold'));
    expect(bold).toBe(true);
    const wape = texts(screen.getByRole('region', { name: 'WAPE by level, %' }));
    expect(wape[1]).toEqual(['all', '1', '40.0', '41.3', '–']);
    expect(screen.getByRole('region', { name: 'Levels' }).textContent).toContain('2.0e-7 of the node.');
  });
});
