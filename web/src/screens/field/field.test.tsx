import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { useLocation, useNavigate } from 'react-router';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import { serve, show } from '../../test/serve';
import { Field } from './field';
import type { Line, Sheet } from './tree';

// jsdom lays nothing out: every row and column counts as in sight. No other file of tests has the Field in it.
vi.mock('@tanstack/react-virtual', () => ({
  useVirtualizer: ({ count, estimateSize }: { count: number; estimateSize: () => number }) => ({
    getVirtualItems: () =>
      Array.from({ length: count }, (_, index) => ({ index, start: index * estimateSize() })),
    scrollToIndex: () => {},
    measure: () => {},
  }),
}));

const line = (name: string, depth: number, parent: number, series: number): Line => ({
  name,
  depth,
  parent,
  series,
});
const spark = btoa(String.fromCharCode(10, 20, 30));
const CHANGED = { node: ['1'], change: [-15], periods: ['2026-W44', '2026-W45'] };

const sheet: Sheet = {
  rows: [
    line('All products', 0, -1, 4),
    line('Tools', 1, 0, 4),
    line('Fork', 2, 1, 2),
    line('Spade', 2, 1, 2),
  ],
  columns: [line('All centres', 0, -1, 4), line('Coast', 1, 0, 2), line('Hills', 1, 0, 2)],
  adjusted: [],
  node: ['n0', 'n1', 'n2', 'n3', 'n4', 'n5', 'n6'],
  row: [0, 1, 2, 3, 2, 3, 2],
  column: [0, 0, 0, 0, 1, 1, 2],
  gain: [20, 10, -20, 30, -40, 5, null],
  wape: [12, 20, 85, 30, 95, 40, null],
  rmsse: [0.6, 0.7, 1.1, 0.8, 1.3, 0.9, null],
  kinds: ['seasonal, smooth', 'ended'],
  kind: [0, 0, 0, 0, 0, 1, 0],
  spark: Array.from({ length: 7 }, () => spark),
  n_past: 2,
};

function Here() {
  const { pathname, search } = useLocation();
  return <p data-testid="here">{pathname + search}</p>;
}

function open(search = '', answer: { status?: number; body?: unknown } = { body: sheet }) {
  serve(({ path }) => (path.endsWith('/adjusted/') ? { body: CHANGED } : answer));
  show(
    <>
      <Field />
      <Here />
    </>,
    '/p/:portfolio/s/:study/:place/*',
    `/p/1/s/7/field${search}`,
  );
}

/** The Field at its address, and a way back to it from any other. */
function FieldOnly() {
  const navigate = useNavigate();
  return useLocation().pathname.endsWith('/field') ? (
    <Field />
  ) : (
    <button type="button" onClick={() => navigate(-1)}>
      Back
    </button>
  );
}

beforeEach(() => sessionStorage.clear());

const here = () => screen.getByTestId('here').textContent;
const names = () =>
  screen.getAllByRole('rowheader').map((one) => one.querySelector('[title]')?.getAttribute('title'));
const places = () =>
  screen.getAllByRole('columnheader').map((one) => one.querySelector('[title]')?.textContent);
const current = () => document.querySelector('.current')?.getAttribute('aria-label');

describe('the Field', () => {
  it('is found by Back as it was left: folds, current cell, and the keys', async () => {
    serve(({ path }) => ({ body: path.endsWith('/adjusted/') ? CHANGED : sheet }));
    show(<FieldOnly />, '/p/:portfolio/s/:study/:place/*', '/p/1/s/7/field');
    const grid = await screen.findByRole('grid');
    expect(document.activeElement).not.toBe(grid);
    for (const key of ['ArrowDown', ' ', 'ArrowDown']) fireEvent.keyDown(grid, { key });
    fireEvent.keyDown(grid, { key: ' ', shiftKey: true });
    const [cell, columns] = [current(), places()];
    expect(cell).toContain('Fork');
    fireEvent.keyDown(grid, { key: 'Enter' });
    fireEvent.click(await screen.findByRole('button', { name: 'Back' }));
    await waitFor(() => expect(document.activeElement).toBe(screen.getByRole('grid')));
    expect(names()).toEqual(['All products', 'Tools', 'Fork', 'Spade']);
    expect([current(), places()]).toEqual([cell, columns]);
  });

  it('folds and unfolds products by space, and places by shift and space', async () => {
    open();
    const grid = await screen.findByRole('grid');
    expect(names()).toEqual(['All products', 'Tools']);
    fireEvent.keyDown(grid, { key: 'ArrowDown' });
    fireEvent.keyDown(grid, { key: ' ' });
    expect(names()).toEqual(['All products', 'Tools', 'Fork', 'Spade']);
    expect(grid.getAttribute('aria-rowcount')).toBe('5');
    expect(places()).toEqual(['All centres', 'Coast', 'Hills']);
    fireEvent.keyDown(grid, { key: 'Home' });
    fireEvent.keyDown(grid, { key: ' ', shiftKey: true });
    expect(places()).toEqual(['All centres']);
    fireEvent.click(screen.getByRole('button', { name: 'Fold All products' }));
    expect(names()).toEqual(['All products']);
  });

  it('moves by arrows inside the grid, stops at its edges, and opens the node by Enter', async () => {
    open();
    const grid = await screen.findByRole('grid');
    fireEvent.keyDown(grid, { key: 'ArrowUp' });
    fireEvent.keyDown(grid, { key: 'ArrowLeft' });
    expect(current()).toBe('All products × All centres, gain +20');
    fireEvent.click(screen.getByRole('button', { name: 'Unfold Tools' }));
    for (const key of ['ArrowDown', 'ArrowDown', 'ArrowRight']) fireEvent.keyDown(grid, { key });
    expect(current()).toBe('Fork × Coast, gain −40');
    expect(grid.getAttribute('aria-activedescendant')).toBe(document.querySelector('.current')?.id);
    fireEvent.keyDown(grid, { key: 'End' });
    fireEvent.keyDown(grid, { key: 'PageDown' });
    expect(current()).toBe('not on sale'); // no Spade in the hills: nothing to open
    fireEvent.keyDown(grid, { key: 'Enter' });
    expect(here()).toBe('/p/1/s/7/field');
    fireEvent.keyDown(grid, { key: 'ArrowLeft' });
    fireEvent.keyDown(grid, { key: 'Enter' });
    expect(here()).toBe('/p/1/s/7/series/n5');
  });

  it('tints by the lens of the address, and lists the worst of what is shown', async () => {
    open('?lens=wape');
    const first = await screen.findByRole('heading', { name: 'Look here first' });
    const list = () => within(first.parentElement as HTMLElement).queryAllByRole('listitem');
    expect(list()).toHaveLength(0); // what stands out lies in folded rows
    expect(screen.getByText('None of the cells shown stands out as bad.')).toBeDefined();
    fireEvent.click(screen.getByRole('button', { name: 'Unfold Tools' }));
    expect(list().map((one) => one.textContent)).toEqual([
      'Fork × Coast95 % of volume',
      'Fork × All centres85 % of volume',
    ]);
    fireEvent.click(screen.getByRole('button', { name: 'gain over the seasonal naive' }));
    await waitFor(() => expect(here()).toContain('lens=gain'));
    expect(list()[0]?.textContent).toBe('Fork × Coasterror 40 % above the seasonal naive');
  });

  it('shows one kind of demand alone until it is told not to', async () => {
    open('?kind=ended');
    const only = await screen.findByRole('button', { name: 'only ended, 1 series ✕' });
    fireEvent.click(screen.getByRole('button', { name: 'Unfold Tools' }));
    expect(names()).toEqual(['All products', 'Tools', 'Spade']);
    fireEvent.click(only);
    await waitFor(() => expect(names()).toContain('Fork'));
  });

  it('says how far a study is that has no result yet', async () => {
    open('', { status: 409, body: { detail: 'The study is still running.' } });
    expect(await screen.findByText('This study has no result yet')).toBeDefined();
    expect(screen.getByRole('link', { name: 'See how far it is' }).getAttribute('href')).toBe('/p/1/study');
  });
});
