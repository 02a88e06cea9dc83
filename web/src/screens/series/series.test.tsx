import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { useLocation } from 'react-router';
import { describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { Series } from './series';

type Node = Schema['Node'];

const score = (method: string, rmsse: number | null, gain: number | null, origins = 3): Schema['Score'] => ({
  method,
  mae: rmsse,
  wape: rmsse && 10 * rmsse,
  rmsse,
  gain,
  origins,
});
const band = { level: 80, low: [8, 8], high: [12, 12] };
const origin = (period: string, at: number, forecast: (number | null)[]): Schema['Origin'] => ({
  period,
  at,
  method: 'mean',
  brief: 'mean',
  forecast,
  missed: forecast.map((v, lead) => (v === null ? null : 3 - 2 * lead)),
  held: forecast.map((v, lead) => (v === null ? null : lead)),
  bands: [band],
  wape: 7.5,
});
const node: Node = {
  node: 'n5',
  name: 'Fork × Coast',
  level: 'product × store',
  trail: [
    [
      { name: 'All products', node: 'n0' },
      { name: 'Tools', node: 'n1' },
      { name: 'Fork', code: 'P1042', node: 'n2' },
    ],
    [
      { name: 'All centres', node: 'n2' },
      { name: 'Coast', node: 'n5' },
    ],
  ],
  previous: 'n4',
  next: null,
  place: 2,
  n_on_level: 2,
  frequency: 'W',
  season_length: 52,
  periods: ['2026-W01', '2026-W02', '2026-W03', '2026-W04', '2026-W05', '2026-W06'],
  n_past: 4,
  history: [9, 10, 13, 11],
  received: null,
  base: [10, 10],
  statistical: [10, 10],
  statistical_bands: [],
  adjusted_by: [],
  forecast: [10, 10],
  bands: [band],
  sums: [11, 23],
  sum_bands: [{ level: 80, low: [8, 18], high: [14, 28] }],
  method: 'mean',
  family: 'mean',
  searched: false,
  reason: 'The recipe’s first choice.',
  brief: 'theta',
  parts: [],
  plan: '',
  kept: '',
  kind: { words: 'seasonal, smooth', interval: 1, variation: 0.1, empty: 0.2, window: null },
  parameters: [{ name: 'mean', value: 10 }],
  scores: [score('seasonal-naive', 1.2, 0), score('mean', 0.9, 25), score('naive', null, null, 0)],
  published: score('published', 0.85, 29),
  hits: [{ level: 80, share: 0.75 }],
  usual_error: 2,
  origins: [origin('2026-W01', 0, [null, null]), origin('2026-W02', 1, [10, 10])],
};

function Here() {
  const { pathname, search } = useLocation();
  return <p data-testid="here">{pathname + search}</p>;
}
const here = () => screen.getByTestId('here').textContent;

function open(changes: Partial<Node> = {}, search = '') {
  const calls = serve(({ path }) => {
    if (/nodes\/n\d+\/$/.test(path)) return { body: { ...node, ...changes } };
    if (path.endsWith('/released/')) return { body: { release: null, mean: [] } };
    if (path.endsWith('/parts/')) return { body: { method: '', periods: [], parts: [] } };
    return undefined;
  });
  show(
    <>
      <Series />
      <Here />
    </>,
    '/p/:portfolio/s/:study/series/:node',
    `/p/1/s/7/series/n5${search}`,
  );
  return calls;
}

const why = async () =>
  (await screen.findByRole('heading', { name: 'Why this method' })).nextElementSibling?.textContent;

describe('one series', () => {
  it('lists errors by origin and lead, says which no band held, and moves the handle by them', async () => {
    open();
    const map = await screen.findByRole('region', { name: /Errors by origin and lead/ });
    const rows = within(map)
      .getAllByRole('row')
      .map((row) => [...row.children].map((cell) => cell.textContent));
    expect(rows).toEqual([
      ['Origin', '1', '2'],
      ['2026-W01', '', ''],
      ['2026-W02', '○ +3.0', '+1.0'],
    ]);
    fireEvent.click(within(map).getByRole('button', { name: '+1.0' }));
    expect(here()).toContain('origin=2026-W02');
  });

  it.each<[string, Partial<Node>]>([
    ['The recipe’s first choice. Its error is 25 % below the seasonal naive’s.', {}],
    [
      'Better here than theta. Its error is 5 % above the seasonal naive’s.',
      {
        reason: 'Better here than theta.',
        scores: [score('seasonal-naive', 1.2, 0), score('mean', 0.9, -5)],
      },
    ],
    // where the seasonal naive could not be fitted, has no error, or is what was chosen, there is nothing to compare
    ['The recipe’s first choice.', { scores: [score('naive', 1.2, null), score('mean', 0.9, null)] }],
    ['The recipe’s first choice.', { method: 'seasonal-naive' }],
    ['Too new.', { reason: 'Too new.', scores: [score('mean', null, null, 0)] }],
    ['Kept by ines: as agreed.', { kept: 'kept by ines: as agreed' }],
    [
      'A series without a past, like Spade at 80 %.',
      { plan: 'A series without a past, like Spade at 80 %.', history: [null, null] },
    ],
    ['Sold until 2026-W30, by plan.', { plan: 'Sold until 2026-W30, by plan.', method: null }],
    [
      'Kept by ines: as agreed. Sold until 2026-W30, by plan.',
      { plan: 'Sold until 2026-W30, by plan.', kept: 'kept by ines: as agreed' },
    ],
    ['No sale for more than a season: forecast as zero.', { method: null, reason: '' }],
    [
      'No sale for more than a season: forecast as zero. Gathers 3 series that are pruned.',
      { method: null, reason: 'Gathers 3 series that are pruned.' },
    ],
    [
      'Sold in season only, and nothing ahead lies in its season: forecast as zero.',
      { method: null, kind: { ...node.kind, words: 'in season only' } },
    ],
  ])('says why: %s', async (sentence, changes) => {
    open(changes);
    expect(await why()).toBe(sentence);
  });

  it('lists methods from best to worst, marks the chosen one and the least of each measure', async () => {
    open();
    const table = within(await screen.findByRole('region', { name: 'Methods tried, over all origins' }));
    const rows = table.getAllByRole('row').map((row) => row.textContent);
    expect(rows[1]).toBe('mean chosen0.909.00.900+25.03');
    expect(rows[2]).toBe('seasonal-naive1.2012.01.2000.03');
    expect(rows[3]).toBe('naive––––0');
    expect(rows[4]).toContain('published reconciled with the other levels');
    const least = table.getAllByText('0.900')[0];
    expect(least?.className).toContain('font-semibold');
  });

  it('hands the methods on as cells, with what is published, unrounded', async () => {
    const writeText = vi.fn(async () => {});
    vi.stubGlobal('navigator', { ...navigator, clipboard: { writeText } });
    open({ scores: [score('mean', 0.90123, 25), score('naive', null, null, 0)] });
    fireEvent.click(await screen.findByRole('button', { name: 'Copy: Methods tried' }));
    await screen.findByText('Copied');
    expect(writeText).toHaveBeenCalledWith(
      [
        'Method\tMAE\tWAPE %\tRMSSE\tGain %\tOrigins',
        'mean\t0.90123\t9.0123\t0.90123\t25\t3',
        'naive\t\t\t\t\t0',
        'published\t0.85\t8.5\t0.85\t29\t3',
      ].join('\n'),
    );
  });

  it('shows an origin of the address against what came, and one that had nothing to go on', async () => {
    open({}, '?origin=2026-W02');
    const line = await screen.findByText(/From 2026-W02, 2 weeks:/);
    // of 13 and 11, the 80 % band of 8 to 12 holds one
    expect(line.parentElement?.textContent).toContain('error 7.5 % of volume, 1 of 2 inside the 80 % band');
    cleanup();
    open({}, '?origin=2026-W01');
    expect((await screen.findByText('From 2026-W01:')).parentElement?.textContent).toContain(
      'there was nothing to forecast from yet',
    );
  });

  it('leads up its trail, and to the one before by k but no further than the last by j', async () => {
    open({}, '?page=look');
    const title = await screen.findByRole('heading', { level: 1 });
    expect(title.textContent).toBe('Tools › ForkP1042×Coast');
    expect(within(title).getByRole('link', { name: 'Tools' }).getAttribute('href')).toBe(
      '/p/1/s/7/series/n1',
    );
    expect(screen.getByRole('button', { name: 'j ›' })).toHaveProperty('disabled', true);
    fireEvent.keyDown(window, { key: 'j' });
    expect(here()).toContain('/series/n5');
    fireEvent.keyDown(window, { key: 'k', ctrlKey: true });
    expect(here()).toContain('/series/n5');
    fireEvent.keyDown(window, { key: 'k' });
    await waitFor(() => expect(here()).toContain('/series/n4'));
  });

  it('keeps the page, the span and the origin in the address', async () => {
    open();
    fireEvent.click(await screen.findByRole('button', { name: 'all' }));
    await waitFor(() => expect(here()).toContain('span=all'));
    fireEvent.click(screen.getByRole('button', { name: 'Workings' }));
    await waitFor(() => expect(here()).toContain('page=workings'));
    fireEvent.click(screen.getByRole('button', { name: 'Forecast' }));
    await waitFor(() => expect(here()).toBe('/p/1/s/7/series/n5?span=all'));
  });

  it('asks for the forms since each origin only where the method looks for its form', async () => {
    const plain = open();
    await why();
    expect(plain.some(({ path }) => path.endsWith('/tested/'))).toBe(false);
    cleanup();
    const searching = open({ method: 'arima(best)', searched: true });
    await waitFor(() => expect(searching.some(({ path }) => path.endsWith('/tested/'))).toBe(true));
  });

  it('says what failed and asks again', async () => {
    serve(() => ({ status: 500, body: { detail: 'The disk is full.' } }));
    show(<Series />, '/p/:portfolio/s/:study/series/:node', '/p/1/s/7/series/n5');
    expect((await screen.findByRole('alert')).textContent).toContain('The disk is full.');
    serve(({ path }) => (/nodes\/n\d+\/$/.test(path) ? { body: node } : undefined));
    fireEvent.click(screen.getByRole('button', { name: /again/i }));
    expect(await why()).toContain('The recipe’s first choice');
  });
});
