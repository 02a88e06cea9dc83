import { cleanup, fireEvent, screen } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { serve, show } from '../../test/serve';
import { planOf } from './entries';
import { PlansScreen } from './plans';

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const load = { key_names: ['product', 'store'], last: '2026-W43' };

describe('plans', () => {
  it('are made of what was typed', () => {
    const keys = ['product', 'store'];
    expect(
      planOf('arrival', keys, {
        way: 'range',
        'new product': ' N ',
        'new store': 'x',
        start: 'W',
        low: '1,5',
        high: '4',
      }),
    ).toEqual({ kind: 'arrival', keys: { product: 'N', store: 'x' }, start: 'W', low: 1.5, high: 4 });
    expect(planOf('arrival', keys, { way: 'like', 'like product': 'A', share: '60' })).toMatchObject({
      like: { product: 'A' },
      share: 0.6,
    });
    expect(planOf('succession', keys, { old: 'A', new: 'B', share: '100' })).toEqual({
      kind: 'succession',
      key: 'product',
      old: 'A',
      new: 'B',
      share: 1,
    });
    expect(planOf('event', keys, { name: 'fair', periods: '2026-W12, 2027-W13' })).toMatchObject({
      periods: ['2026-W12', '2027-W13'],
    });
    expect(planOf('lifetime', keys, { 'where store': 'x', last: '2026-W50' })).toEqual({
      kind: 'lifetime',
      where: { store: 'x' },
      first: null,
      last: '2026-W50',
    });
  });

  it('say an impossible range at its field, and keep what was typed', async () => {
    serve(({ method, path }) => {
      if (path === '/api/portfolios/') return { body: [{ id: 1, name: 'Garden', load }] };
      if (method === 'GET') return { body: [] };
      return {
        status: 400,
        body: { detail: 'high: too low', errors: { high: ['The upper end, 3, is below the lower end, 9.'] } },
      };
    });
    show(<PlansScreen />, '/p/:portfolio/intake/plans', '/p/1/intake/plans');
    fireEvent.click(await screen.findByRole('button', { name: 'in a range that somebody knows' }));
    fireEvent.change(screen.getByLabelText('From, units a period'), { target: { value: '9' } });
    fireEvent.change(screen.getByLabelText('To, units a period'), { target: { value: '3' } });
    fireEvent.click(screen.getByRole('button', { name: 'Add' }));
    expect((await screen.findByRole('alert')).textContent).toBe(
      'The upper end, 3, is below the lower end, 9.',
    );
    const high = screen.getByLabelText('To, units a period') as HTMLInputElement;
    expect([high.value, high.getAttribute('aria-invalid')]).toEqual(['3', 'true']);
  });
});
