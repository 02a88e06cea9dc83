import { cleanup, fireEvent, screen } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { serve, show } from '../../test/serve';
import { planOf } from './entries';
import { PlansScreen } from './plans';

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const load = {
  key_names: ['product', 'store'],
  levels: { product: ['group'], store: [] },
  last: '2026-W43',
  driver_names: ['stock', 'price', 'promotion'],
};

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

  it('of prices are for series by key or level, from the first driver that is offered', async () => {
    const sent: unknown[] = [];
    serve(({ method, path, body }) => {
      if (path === '/api/portfolios/') return { body: [{ id: 1, name: 'Garden', load }] };
      if (path === '/api/calendars/') return { body: [{ country: 'DE', regions: ['BY'] }] };
      if (method === 'GET') return { body: [] };
      sent.push(body);
      return { status: 201, body: { id: 1, words: 'price of group Roses is 4.5' } };
    });
    show(<PlansScreen />, '/p/:portfolio/intake/plans', '/p/1/intake/plans');
    const type = (label: string, value: string) =>
      fireEvent.change(screen.getByLabelText(label), { target: { value } });
    fireEvent.click(await screen.findByRole('button', { name: 'a price or promotion' }));
    type('Amount', '4,5');
    type('Last period', '2026-W50');
    type('group', 'Roses');
    fireEvent.click(screen.getByRole('button', { name: 'Add' }));
    expect((await screen.findByText(/Kept: price of group Roses/)).tagName).toBe('OUTPUT');
    fireEvent.click(screen.getByRole('button', { name: 'public holidays' }));
    type('Country, or country and region', 'de-by');
    fireEvent.click(screen.getByRole('button', { name: 'Add' }));
    await screen.findByText(/Kept:/);
    expect(sent).toEqual([
      {
        kind: 'driver',
        name: 'price',
        where: { group: 'Roses' },
        first: null,
        last: '2026-W50',
        change: 'set',
        amount: 4.5,
      },
      { kind: 'holidays', of: 'DE-BY', name: 'holiday' },
    ]);
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

  it('say why one cannot be dropped, and are not dropped by readers', async () => {
    let role = 'planner';
    const plan = {
      id: 4,
      words: 'price of group Roses is 4.5',
      made_by: 'ines',
      made_at: '2026-03-01T08:00:00Z',
    };
    serve(({ method, path }) => {
      if (path === '/api/portfolios/') return { body: [{ id: 1, name: 'Garden', load, role }] };
      if (path === '/api/portfolios/1/plans/') return { body: [plan] };
      if (method === 'GET') return { body: [] };
      return { status: 503, body: { detail: 'Others write something large; try again in a minute.' } };
    });
    show(<PlansScreen />, '/p/:portfolio/intake/plans', '/p/1/intake/plans');
    fireEvent.click(await screen.findByRole('button', { name: `Drop: ${plan.words}` }));
    expect((await screen.findByRole('alert')).textContent).toContain('Others write something large');
    cleanup();
    role = 'reader';
    show(<PlansScreen />, '/p/:portfolio/intake/plans', '/p/1/intake/plans');
    expect(await screen.findByRole('button', { name: `Drop: ${plan.words}` })).toHaveProperty(
      'disabled',
      true,
    );
  });
});
