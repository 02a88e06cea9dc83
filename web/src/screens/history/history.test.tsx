import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { useLocation } from 'react-router';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { AllSeries, change, nextDimension } from './all-series';
import { CoverageScreen } from './coverage';
import { OneSeries } from './one-series';

function Here() {
  const { pathname, search } = useLocation();
  return <p data-testid="here">{pathname + decodeURIComponent(search)}</p>;
}
const here = () => screen.getByTestId('here').textContent;

describe('all series over time', () => {
  const group = (name: string, series: string | null): Schema['Group'] => ({
    name,
    label: `${name} (all)`,
    n_series: 3,
    now: 120,
    before: 100,
    year_before: null,
    series,
  });
  const overview: Schema['Overview'] = {
    periods: Array.from({ length: 20 }, (_, i) => `2026-W${i + 10}`),
    last: 4,
    n_series: 6,
    shares: [0.5],
    units: [[1, 2]],
    scaled: [[1, 1]],
    total: [6, 12],
    count: [6, 6],
    n_groups: 61,
    groups: [group('Ferns', null), group('Fork', 's12')],
    dimensions: ['department', 'group', 'product'],
  };

  function open(search = '') {
    const asked: URLSearchParams[] = [];
    vi.stubGlobal('fetch', async (input: Request) => {
      const ask = new URL(input.url).searchParams;
      asked.push(ask);
      return new Response(JSON.stringify({ ...overview, last: Number(ask.get('last') ?? 4) }));
    });
    show(
      <>
        <AllSeries />
        <Here />
      </>,
      '/p/:portfolio/intake/*',
      `/p/1/intake/all${search}`,
    );
    return asked;
  }

  it('says by how much something moved, unless nothing was there before', () => {
    expect([change(120, 100), change(80, 100), change(5, 0), change(5, null), change(900, 10)]).toEqual([
      '+20.0',
      '−20.0',
      '–',
      '–',
      'more than 999',
    ]);
    expect(nextDimension(['a', 'b'], 'a')).toBe('b');
    expect(nextDimension(['a', 'b'], 'b')).toBeUndefined();
  });

  it('opens a group into the next finer dimension, and a single series as itself', async () => {
    const asked = open();
    const row = (await screen.findByRole('button', { name: 'Ferns (all)' })).closest('tr');
    expect(row?.textContent).toBe('Ferns (all)3120100+20+20.0–');
    expect(screen.getByRole('link', { name: 'Fork (all)' }).getAttribute('href')).toBe(
      '/p/1/intake/series/s12',
    );
    expect(screen.getByText('The 60 that moved most of 61.')).toBeDefined();
    fireEvent.click(screen.getByRole('button', { name: 'Ferns (all)' }));
    await waitFor(() => expect(here()).toBe('/p/1/intake/all?within=department=Ferns&by=group'));
    await waitFor(() => expect(asked.at(-1)?.getAll('within')).toEqual(['department=Ferns']));
    expect(screen.getByLabelText('by')).toHaveProperty('value', 'group');
  });

  it('leads back along the way that was taken', async () => {
    open('?within=department=A=B&within=group=Ferns&by=product&scale=units');
    expect(await screen.findByRole('img', { name: /6 series over time, in units/ })).toBeDefined();
    const way = screen.getByRole('navigation', { name: 'Choice' });
    expect(way.textContent).toBe('all series › A=B › Ferns, 6 series');
    fireEvent.click(within(way).getByRole('button', { name: 'A=B' }));
    await waitFor(() => expect(here()).toBe('/p/1/intake/all?scale=units&within=department=A=B&by=group'));
    fireEvent.click(within(way).getByRole('button', { name: 'all series' }));
    await waitFor(() => expect(here()).toBe('/p/1/intake/all'));
  });

  it('compares with the same number of periods before', async () => {
    const asked = open();
    fireEvent.click(await screen.findByRole('button', { name: '13 periods' }));
    await waitFor(() => expect(asked.at(-1)?.get('last')).toBe('13'));
    expect(await screen.findByRole('columnheader', { name: 'The 13 before' })).toBeDefined();
  });

  it('offers no more periods than there are, and says nothing of those before a short history', async () => {
    const found = {
      ...overview,
      periods: ['a', 'b', 'c'],
      last: 3,
      groups: [{ ...group('Fork', 's1'), before: null }],
    };
    vi.stubGlobal('fetch', async () => new Response(JSON.stringify(found)));
    show(<AllSeries />, '/p/:portfolio/intake/*', '/p/1/intake/all');
    const row = await screen.findByRole('row', { name: /Fork/ });
    expect(
      within(row)
        .getAllByRole('cell')
        .slice(2)
        .map((one) => one.textContent),
    ).toEqual(['120', '–', '–', '–', '–']);
    expect(screen.queryByRole('button', { name: '4 periods' })).toBeNull();
  });
});

describe('one series as received', () => {
  const series: Schema['SeriesView'] = {
    series: 's0',
    previous: null,
    next: 's1',
    place: 1,
    n_series: 2,
    name: 'P1 | S1',
    labels: ['Fork', 'Coast'],
    periods: ['2025-W01', '2025-W02', '2025-W03'],
    season_length: 52,
    frequency: 'W',
    received: [4, 80, 0],
    corrected: [4, 8, null],
    reasons: { '1': 'till error', '2': 'closed' },
    switches: {},
  };

  it('lists each correction beside what was received, and leads to the next series', async () => {
    serve(() => ({ body: series }));
    show(<OneSeries />, '/p/:portfolio/intake/series/:series', '/p/1/intake/series/s0');
    expect((await screen.findByRole('heading', { level: 1 })).textContent).toBe('Intake › Fork × Coast');
    expect(screen.getAllByRole('row').map((row) => row.textContent)).toEqual([
      'PeriodReceivedCorrected toReason',
      '2025-W02808till error',
      '2025-W030unknownclosed',
    ]);
    expect(screen.queryByRole('link', { name: 'the one before' })).toBeNull();
    expect(screen.getByRole('link', { name: 'the next' }).getAttribute('href')).toBe('/p/1/intake/series/s1');
  });
});

describe('coverage', () => {
  const coverage: Schema['Coverage'] = {
    periods: ['2025-W01', '2025-W02', '2025-W03'],
    series: ['Fork', 'Spade'],
    refs: ['s0', 's1'],
    orders: { 'first sale': [0, 1], volume: [1, 0], 'empty periods': [0, 1] },
    volume: [1500, 2],
    empty: [0.25, 0.5],
    cells: btoa(String.fromCharCode(0, 1, 8, 2, 1, 4)),
  };
  beforeEach(() => {
    // jsdom paints nothing
    vi.stubGlobal('ImageData', class {});
    HTMLCanvasElement.prototype.getContext = (() => null) as never;
  });

  it('is read by the arrow keys, in the chosen order, and opens a series by Enter', async () => {
    serve(() => ({ body: coverage }));
    show(
      <>
        <CoverageScreen />
        <Here />
      </>,
      '/p/:portfolio/intake/*',
      '/p/1/intake/coverage',
    );
    const picture = await screen.findByRole('application', { name: /^Coverage of 2 series over 3 periods/ });
    const read = () => screen.getByRole('status').textContent;
    expect(read()).toContain('Point at a series');
    fireEvent.keyDown(picture, { key: 'ArrowRight' }); // from the newest period, no further
    expect(read()).toBe(
      'Fork, 2025-W03: sales class 6 of 6. Sold 1,500 in all; 25 % of its periods are empty.',
    );
    fireEvent.keyDown(picture, { key: 'ArrowLeft' });
    expect(read()).toContain('2025-W02: zero');
    fireEvent.keyDown(picture, { key: 'ArrowLeft' });
    expect(read()).toContain('2025-W01: no value');
    fireEvent.keyDown(picture, { key: 'ArrowDown' });
    expect(read()).toContain('Spade, 2025-W01: negative');
    fireEvent.click(screen.getByRole('button', { name: 'volume' }));
    expect(read()).toContain('Fork, 2025-W01');
    fireEvent.keyDown(picture, { key: 'Enter' });
    await waitFor(() => expect(here()).toBe('/p/1/intake/series/s0'));
  });
});
