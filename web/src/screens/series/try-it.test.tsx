import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { type Call, serve, show } from '../../test/serve';
import { TryIt } from './try-it';
import { WorkingsPage } from './workings';

const node = {
  node: 60,
  name: 'Spade × Wrencote',
  method: 'ets(A,N,N)',
  season_length: 1,
  frequency: 'W',
  kind: { words: 'weekly, smooth' },
  scores: [{ method: 'naive' }],
  parts: [],
} as unknown as Schema['Node'];

interface Asked {
  methods: string[];
  actuals: (number | null)[];
  drivers: Record<string, (number | null)[]>;
}

/** What the server says: A fits best; each actual that is typed lengthens the past. */
function answer({ methods, actuals }: Asked): Schema['Tries'] {
  const history = [10, 12, 11, ...actuals];
  return {
    periods: ['a', 'b', 'c', 'd', 'e', 'f'].slice(0, history.length + 2),
    n_past: history.length,
    history,
    tries: methods.map((text, i) => ({
      text,
      model: text,
      words: 'in words',
      problem: text.includes('?') ? 'Write the form as ets(E,T,S).' : '',
      notes: [],
      parameters: [],
      criteria: {},
      tried: [],
      fitted: [10, 11, 11.5],
      residuals: [0, 1, -0.5],
      forecast: [20 + i, 21],
      bands: [],
      total_forecast: [20 + i, 41 + i],
      totals: [],
      measures: { MAE: 1 + i, ME: 0.25 - i },
    })),
    best: { MAE: 0 },
  };
}

/** A trend to choose; a change of it is a new text. */
function form({ method, change }: { method: string; change?: { value: string } }): Schema['Form'] {
  const options = ['N', 'A', 'Ad'].map((value) => ({ value, label: value }));
  const trend = {
    name: 'trend',
    label: 'Trend',
    kind: 'choice',
    value: 'N',
    options,
    least: 0,
    most: 0,
    group: '',
  };
  const menu = { ...trend, name: 'method', label: 'Method' };
  const text = change ? `ets(A,${change.value},N)` : method;
  return { method: text, problem: '', family: 'ets', menu, fields: [trend] };
}

function open(kept: { status?: number; body?: unknown } = { status: 201, body: {} }): Call[] {
  const calls = serve(({ path, body }) => {
    if (path.endsWith('/try/')) return { body: answer(body as Asked) };
    if (path.endsWith('/form/')) return { body: form(body as Parameters<typeof form>[0]) };
    return path.endsWith('/keep/') ? kept : undefined;
  });
  show(<TryIt study={3} portfolio={1} node={node} title="Spade" actions={null} />, '/', '/');
  return calls;
}

const asked = (calls: Call[]) => calls.filter((one) => one.path.endsWith('/try/')).at(-1)?.body as Asked;

describe('trying methods', () => {
  beforeEach(() => {
    HTMLElement.prototype.scrollTo = vi.fn() as never;
    HTMLDialogElement.prototype.showModal = function () {
      this.open = true;
    };
    HTMLDialogElement.prototype.close = vi.fn();
  });

  it('begins with the method of the series beside last season, and marks the best of each measure', async () => {
    const calls = open();
    expect(await screen.findAllByRole('img', { name: /^Try [AB]:/ })).toHaveLength(2);
    expect(asked(calls)).toEqual({ methods: ['ets(A,N,N)', 'seasonal-naive'], actuals: [], drivers: {} });
    const rows = within(screen.getAllByRole('table')[1] as HTMLElement).getAllByRole('row');
    expect(rows[1]?.textContent).toContain('1.00 ✓');
    expect(rows[1]?.textContent).toContain('+0.25 too low');
    expect(rows[2]?.textContent).toContain('−0.75 too high');
    expect(rows[2]?.textContent).not.toContain('✓');
  });

  it('asks anew when a control is turned, a try is added, or an actual is made up', async () => {
    const calls = open();
    await screen.findAllByRole('img');
    fireEvent.change(await screen.findByLabelText('Trend'), { target: { value: 'Ad' } });
    await waitFor(() => expect(asked(calls).methods[0]).toBe('ets(A,Ad,N)'));
    fireEvent.click(screen.getByRole('button', { name: '+ one more' }));
    await waitFor(() => expect(asked(calls).methods).toHaveLength(3));
    fireEvent.change(screen.getByLabelText('Actual of d, made up'), { target: { value: '30' } });
    await waitFor(() => expect(asked(calls).actuals).toEqual([30]));
    await screen.findByLabelText('Actual of e, made up');
    fireEvent.change(screen.getByLabelText('Actual of d, made up'), { target: { value: '' } });
    await waitFor(() => expect(screen.queryByLabelText('Actual of e, made up')).toBeNull());
  });

  it('says what is wrong with a method in its place, and does not offer to keep it', async () => {
    open();
    await screen.findAllByRole('img');
    const notation = (await screen.findByLabelText('Method as text')) as HTMLElement;
    fireEvent.change(notation, { target: { value: 'ets(?)' } });
    fireEvent.keyDown(notation, { key: 'Enter' });
    expect((await screen.findByRole('alert')).textContent).toContain('Write the form');
    expect(screen.getByRole('button', { name: 'Keep A …' })).toHaveProperty('disabled', true);
  });

  it('keeps a method for all series of its kind, with a reason, and says why it could not', async () => {
    const calls = open({ status: 400, body: { detail: 'This study is gone.' } });
    await screen.findAllByRole('img');
    fireEvent.click(screen.getByRole('button', { name: 'Keep A …' }));
    const keep = screen.getByRole('button', { name: 'Keep' });
    expect(keep).toHaveProperty('disabled', true);
    fireEvent.click(screen.getByLabelText('all smooth series'));
    fireEvent.change(screen.getByLabelText('Reason'), { target: { value: 'as agreed' } });
    fireEvent.click(keep);
    expect((await screen.findByRole('alert')).textContent).toContain('This study is gone.');
    expect(calls.at(-1)?.body).toEqual({ method: 'ets(A,N,N)', reason: 'as agreed', kind: 'smooth' });
  });
});

describe('workings', () => {
  it('of a blend come first, and those of its parts can be picked', async () => {
    const calls = serve(() => ({ body: { detail: 'no' }, status: 422 }));
    const blend = { ...node, method: 'blend(mean; learner; naive)', brief: 'mean of learner, naive' };
    const parts = ['learner', 'naive'];
    show(<WorkingsPage study={3} node={{ ...blend, parts }} title="Spade" actions={null} />, '/', '/');
    expect(await screen.findByText(/each part has workings of its own/)).toBeDefined();
    fireEvent.change(screen.getByLabelText('Method'), { target: { value: 'naive' } });
    expect(await screen.findByText(/the mean of learner, naive; this is one of its parts/)).toBeDefined();
    await waitFor(() => expect(calls).toHaveLength(2));
  });

  it('opens the formula of a cell, and moves by arrow keys to one that is empty and why', async () => {
    const cell = (value: number | null, formula = '', why = '') => ({ value, formula, why });
    const found: Schema['Workings'] = {
      model: 'ets(A,N,N)',
      equation: '',
      columns: [
        { name: 'level', title: 'Level', means: 'after the period' },
        { name: 'fitted', title: 'Fitted', means: 'one period ahead' },
      ],
      labels: ['a', 'b'],
      n_start: 0,
      n_ahead: 0,
      rows: [
        [cell(10), cell(null, '', 'the first value starts the level')],
        [cell(11, '10 + 0.5 × 2'), cell(10, '10')],
      ],
      parameters: [],
      sums: {},
    };
    serve(() => ({ body: found }));
    show(<WorkingsPage study={3} node={node} title="Spade" actions={null} />, '/', '/');
    fireEvent.click(await screen.findByRole('button', { name: '11.000' }));
    expect(screen.getByRole('status').textContent).toContain('10 + 0.5 × 2 = 11.000000');
    fireEvent.keyDown(document.activeElement as Element, { key: 'ArrowUp' });
    expect(screen.getByRole('status').textContent).toContain('10.000000, given');
    fireEvent.keyDown(document.activeElement as Element, { key: 'ArrowRight' });
    expect(screen.getByRole('status').textContent).toContain('empty: the first value starts the level');
  });
});
