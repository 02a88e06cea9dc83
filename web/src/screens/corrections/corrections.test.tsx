import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { type Call, serve, show } from '../../test/serve';
import { Corrections } from './corrections';
import { Ledger } from './ledger';

const suspicion = (id: number, over: Partial<Schema['Suspicion']> = {}): Schema['Suspicion'] => ({
  id,
  series: `s${id}`,
  name: `P${id} × S0`,
  rule: 'spike',
  words: 'far off',
  period: '2025-W10',
  start: 1,
  length: 1,
  score: 9 - id,
  received: 90,
  expected: 12,
  low: 5,
  high: 19,
  median: 11,
  interpolated: 13,
  ratio: null,
  state: 'open',
  ...over,
});

const found: Schema['Search'] = {
  id: 4,
  load: 1,
  is_current: true,
  made_by: 'ines',
  made_at: '2026-11-02T09:00:00Z',
  rules: { find: ['spike'] },
  n_found: 3,
  counts: { open: 3, accepted: 0, dismissed: 0 },
  values: { open: 7, accepted: 0, dismissed: 0 },
  found: [suspicion(1), suspicion(2), suspicion(3, { rule: 'level-shift', ratio: 2 })],
};
const history = {
  position: 1,
  name: 'P1 × S0',
  labels: ['Lavender', 'Wrencote'],
  periods: ['a', 'b', 'c'],
  season_length: 52,
  frequency: 'W',
  received: [1, 90, 1],
  corrected: [1, 90, 1],
  reasons: {},
  switches: {},
};

function desk(decided: { status?: number; body?: unknown } = { body: { count: 1 } }): Call[] {
  const calls = serve(({ method, path }) => {
    if (path.endsWith('/decisions/')) return decided;
    if (path.endsWith('/searches/')) return { body: found, status: method === 'POST' ? 201 : 200 };
    if (path.includes('/series/')) return { body: history };
    return undefined;
  });
  show(<Corrections />, '/p/:portfolio/intake/corrections', '/p/1/intake/corrections');
  return calls;
}

const decisions = (calls: Call[]) =>
  calls.filter((call) => call.path.endsWith('/decisions/')).map((c) => c.body);

beforeEach(() => {
  Element.prototype.scrollIntoView = vi.fn();
});
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe('the desk of corrections', () => {
  it('works from the keyboard: choose a replacement, accept, and go on to the next', async () => {
    const calls = desk();
    const value = await screen.findByRole('region', { name: 'The value in its context' });
    expect(value.textContent).toContain('P1 × S0, 2025-W10');
    fireEvent.keyDown(window, { key: '2' });
    fireEvent.keyDown(window, { key: 'a' });
    await waitFor(() => expect(value.textContent).toContain('P2 × S0, 2025-W10'));
    expect(decisions(calls)).toEqual([{ decision: 'accept', ids: [1], replace: 'median', reason: '' }]);
    expect(screen.getByText(/1 corrected/)).toBeTruthy();
    fireEvent.keyDown(window, { key: 'd' });
    await waitFor(() => expect(decisions(calls)).toHaveLength(2));
    expect(decisions(calls)[1]).toMatchObject({ decision: 'dismiss', ids: [2] });
  });

  it('takes a value and a reason given by hand', async () => {
    const calls = desk();
    fireEvent.change(await screen.findByLabelText('or a value'), { target: { value: '14' } });
    fireEvent.change(screen.getByLabelText('reason'), { target: { value: 'store says so' } });
    fireEvent.click(screen.getByRole('button', { name: /^Accept a/ }));
    await waitFor(() => expect(decisions(calls)).toHaveLength(1));
    expect(decisions(calls)[0]).toMatchObject({ replace: 'value', value: 14, reason: 'store says so' });
  });

  it('accepts all above a score at once, but no shift of level, which is told and not corrected', async () => {
    const calls = desk();
    fireEvent.change(await screen.findByLabelText('score from'), { target: { value: '5' } });
    fireEvent.click(screen.getByRole('button', { name: 'Accept 2 …' }));
    expect(decisions(calls)).toHaveLength(0); // so many at once are asked about first
    fireEvent.click(screen.getByRole('button', { name: 'Cancel' }));
    fireEvent.click(screen.getByRole('button', { name: 'Accept 2 …' }));
    fireEvent.click(screen.getByRole('button', { name: 'Yes, accept 2' }));
    await waitFor(() => expect(decisions(calls)).toHaveLength(1));
    expect(decisions(calls)[0]).toMatchObject({ ids: [1, 2], replace: 'expected' });
    fireEvent.click(screen.getByRole('button', { name: 'P3 × S0' }));
    const value = screen.getByRole('region', { name: 'The value in its context' });
    expect(value.textContent).toContain('2.00 times');
    expect(within(value).queryByRole('button', { name: /^Accept/ })).toBeNull();
  });

  it('says that nothing was changed when the server refuses', async () => {
    desk({ status: 409, body: { detail: 'One of these values is corrected already.' } });
    await screen.findByRole('region', { name: 'The value in its context' });
    fireEvent.keyDown(window, { key: 'a' });
    expect((await screen.findByRole('alert')).textContent).toContain(
      'corrected already. Nothing was changed.',
    );
  });
});

describe('the ledger', () => {
  it('reverts what is chosen and shows the volume moved', async () => {
    const row = {
      id: 7,
      key: ['P1', 'S0'],
      name: 'P1 × S0',
      period: '2025-W10',
      received: 90,
      value: null,
      unjudged: true,
      rule: 'closure',
      score: null,
      reason: 'refit',
      made_by: 'ines',
      made_at: '2026-11-02T09:00:00Z',
      reverted_by: null,
      reverted_at: null,
      holds: true,
    };
    const calls = serve(({ path }) => {
      if (path.endsWith('/revert/')) return { body: { count: 1 } };
      return {
        body: {
          corrections: [row, { ...row, id: 8, reverted_by: 'ines', reverted_at: '2026-11-03T09:00:00Z' }],
          n_standing: 1,
          n_reverted: 1,
          level: 'store',
          levels: ['store'],
          moved: [{ name: 'S0', count: 1, added: 0, removed: 0, unknown: 90 }],
        },
      };
    });
    show(<Ledger />, '/p/:portfolio/intake/ledger', '/p/1/intake/ledger');
    expect((await screen.findByRole('region', { name: 'Volume moved' })).textContent).toContain('90');
    const boxes = screen.getAllByRole('checkbox', { name: 'Choose P1 × S0, 2025-W10' });
    expect(boxes).toHaveLength(1); // what is reverted stays in the list, and cannot be reverted again
    fireEvent.click(boxes[0] as HTMLElement);
    fireEvent.click(screen.getByRole('button', { name: 'Revert 1' }));
    await waitFor(() => expect(calls.find((c) => c.path.endsWith('/revert/'))?.body).toEqual({ ids: [7] }));
  });
});
