import { fireEvent, screen, waitFor } from '@testing-library/react';
import { useState } from 'react';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { Adjustments } from './adjustments';
import { AdjustHandles } from './handles';
import { AdjustPicked } from './picked';

const laid: Schema['Laid'] = {
  node: 'a',
  name: 'Herbs × Coast',
  periods: ['2026-W44', '2026-W45'],
  statistical: [10, 20],
  statistical_bands: [],
  before: [10, 20],
  after: [11, 22],
  bands: [],
  total: { before: 30, after: 33, change: 3, percent: 10 },
  n_changed: 7,
  n_series: 40,
  n_above: 1,
  movers: [],
  n_adjustments: 1,
  kept: [],
};

const one = (id: number, state: string, more: Partial<Schema['Adjustment']> = {}): Schema['Adjustment'] => ({
  id,
  act: id,
  node: `n${id}`,
  name: `Node ${id}`,
  words: '+10 %',
  spread: 'forecast',
  first: '2026-W44',
  last: '2026-W45',
  reason: 'spring fair',
  made_by: 'mara',
  made_at: '2026-11-29T10:00:00Z',
  state,
  problem: '',
  before: 100,
  after: 110,
  ...more,
});

type Asked = { changes: Schema['AskedChangeRequest'][]; reason: string; preview: boolean };

beforeEach(() => vi.useRealTimers());

describe('adjusting', () => {
  it('shows what a change would do, wants a reason, and keeps it for all that are marked', async () => {
    const calls = serve(({ method, path, body }) => {
      if (path === '/api/studies/3/adjustments/')
        return (body as Asked).changes[0]?.amount === -200
          ? { status: 400, body: { detail: 'amount: It would fall below zero.' } }
          : { body: laid };
      if (method === 'GET')
        return { body: { adjustments: [], can_undo: true, can_redo: false, reasons: ['fair'] } };
      return { body: {} };
    });
    const picked = new Set(['a', 'b']);
    const panel = (
      <AdjustPicked portfolio={1} study={3} picked={picked} ahead={laid.periods} close={() => undefined} />
    );
    show(panel, '/', '/');
    const keep = screen.getByRole('button', { name: 'Keep this change' });
    fireEvent.change(screen.getByLabelText('Amount'), { target: { value: '10' } });
    expect((await screen.findByText(/Herbs × Coast: 30 → 33/)).parentElement?.textContent).toContain(
      '7 of 40 series change with it, and 1 above them',
    );
    expect(keep).toHaveProperty('disabled', true);
    fireEvent.change(screen.getByLabelText('Reason'), { target: { value: 'spring fair' } });
    fireEvent.click(keep);
    await waitFor(() => expect(calls.some((call) => (call.body as Asked)?.preview === false)).toBe(true));
    const kept = calls.find((call) => (call.body as Asked)?.preview === false)?.body as Asked;
    expect(kept.changes[0]).toMatchObject({ nodes: ['a', 'b'], change: 'percent', amount: 10 });
    expect(kept.reason).toBe('spring fair');

    fireEvent.change(screen.getByLabelText('Amount'), { target: { value: '-200' } });
    expect((await screen.findByRole('alert')).textContent).toContain('below zero');
    expect(keep).toHaveProperty('disabled', true);
    fireEvent.keyDown(window, { key: 'z', ctrlKey: true });
    await waitFor(() => expect(calls.at(-1)?.path ?? '').toMatch(/adjustments/));
    expect(calls.some((call) => call.path === '/api/portfolios/1/adjustments/undo/')).toBe(true);
  });

  it('lists what became of each, and asks about those that were left out', async () => {
    const calls = serve(({ method }) =>
      method === 'GET'
        ? {
            body: {
              adjustments: [
                one(3, 'left', { problem: 'It has moved.', before: null, after: null }),
                one(2, 'laid'),
                one(1, 'undone'),
              ],
              can_undo: true,
              can_redo: true,
              reasons: [],
            },
          }
        : { status: 204 },
    );
    show(<Adjustments portfolio={1} study={3} />, '/', '/');
    expect(await screen.findByText('It has moved.')).toBeDefined();
    expect(screen.getByText(/One is left out of this study/)).toBeDefined();
    fireEvent.click(screen.getByRole('button', { name: 'Keep' }));
    await waitFor(() => expect(calls.some((call) => call.path === '/api/adjustments/3/decide/')).toBe(true));
    await waitFor(() =>
      expect(screen.getAllByRole('button', { name: 'Withdraw' })[1]).toHaveProperty('disabled', false),
    );
    fireEvent.click(screen.getAllByRole('button', { name: 'Withdraw' })[1] as HTMLElement);
    await waitFor(() =>
      expect(calls.some((call) => call.method === 'DELETE' && call.path === '/api/adjustments/2/')).toBe(
        true,
      ),
    );
  });

  it('moves a period by the keys of its handle, never below zero', () => {
    function Held() {
      const [values, setValues] = useState<number[]>([100, 1]);
      return (
        <AdjustHandles
          handles={[0, 1].map((lead) => ({ lead, x: 0, y: 0 }))}
          ahead={laid.periods}
          values={values}
          valueAt={() => 0}
          onSet={(lead, value) => setValues(values.map((old, i) => (i === lead ? value : old)))}
        />
      );
    }
    show(<Held />, '/', '/');
    const [first, second] = screen.getAllByRole('slider') as [HTMLElement, HTMLElement];
    fireEvent.keyDown(first, { key: 'ArrowUp' });
    fireEvent.keyDown(first, { key: 'PageDown' });
    expect(first.getAttribute('aria-valuenow')).toBe('82');
    fireEvent.keyDown(second, { key: 'PageDown' });
    expect(second.getAttribute('aria-valuenow')).toBe('0');
  });
});
