import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { type Call, serve, show } from '../../test/serve';
import { DriversPage } from './drivers';

const node = { node: 5, name: 'Fork', frequency: 'W', season_length: 52 } as unknown as Schema['Node'];
const effect = (driver: string, change: number, p: number): Schema['Effect'] => ({
  name: driver,
  driver,
  coefficient: { name: driver, value: 0.4, error: 0.1, z: 4, p },
  move: `${driver} is on`,
  change,
  low: change - 1,
  high: change + 1,
  explained: 12.3,
  x: [0, 1],
  y: [5, 9],
  line: [5, 9],
});
const found: Schema['Drivers'] = {
  method: 'arima(1,0,0) + x(promotion, holiday)',
  asked: 'arima(best) + x(promotion, holiday)',
  problem: '',
  periods: ['2026-W05', '2026-W06'],
  drivers: [
    { name: 'promotion', ahead: [0, 1] },
    { name: 'holiday', ahead: [0, 0] },
    { name: 'price', ahead: [5, 5] },
  ],
  effects: [effect('promotion', 4, 0.0001), effect('holiday', -0.5, 0.4)],
  parts: [{ name: 'level and trend', values: [5, 5] }],
  forecast: [5, 9],
  notes: ['price did not vary'],
  has_drivers: true,
};

interface Asked {
  methods: string[];
  drivers: Record<string, (number | null)[]>;
}

/** A promotion lifts sales by four; planned is one in the second week. */
function tried({ methods, drivers }: Asked): Schema['Tries'] {
  const plan = [0, 1].map((planned, i) => drivers.promotion?.[i] ?? planned);
  return {
    periods: ['2026-W04', '2026-W05', '2026-W06'],
    n_past: 1,
    history: [5],
    tries: [{ text: methods[0] ?? '', problem: '', forecast: plan.map((on) => 5 + 4 * on), measures: {} }],
    best: {},
  };
}

function open(changes: Partial<Schema['Drivers']> = {}): Call[] {
  const calls = serve(({ path, body }) => {
    if (path.endsWith('/drivers/')) return { body: { ...found, ...changes } };
    return path.endsWith('/try/') ? { body: tried(body as Asked) } : undefined;
  });
  show(<DriversPage study={3} node={node} title="Fork" actions={null} />, '/', '/');
  return calls;
}

const plan = () => screen.getByRole('region', { name: 'What another plan would do' });

describe('drivers', () => {
  it('says what each driver does in units, and greys what may as well be zero', async () => {
    open();
    const table = within(await screen.findByRole('region', { name: 'What each driver does' }));
    const [, promotion, holiday] = table.getAllByRole('row');
    expect(promotion?.textContent).toBe('promotion is on+4.00+3.00 to +5.00promotion 0.4000.100< 0.00112.3');
    expect(promotion?.className).not.toContain('text-second');
    expect(holiday?.textContent).toContain('−0.50−1.50 to +0.50');
    expect(holiday?.className).toContain('text-second');
    expect(screen.getByText('price did not vary')).toBeDefined();
  });

  it('shows what another plan would do, in all weeks or in one, and forgets it when asked', async () => {
    const calls = open();
    await waitFor(() => expect(plan().textContent).toContain('nothing is saved'));
    // price has no effect in this method, so there is nothing to plan
    expect(within(plan()).queryByLabelText('price in 2026-W05')).toBeNull();
    const all = within(plan()).getByLabelText('promotion in all periods');
    fireEvent.change(all, { target: { value: '1' } });
    fireEvent.keyDown(all, { key: 'Enter' });
    await waitFor(() => expect(plan().textContent).toContain('+4.0 units over 2 weeks: 18 instead of 14'));
    expect(calls.at(-1)?.body).toEqual(expect.objectContaining({ drivers: { promotion: [1, 1] } }));
    fireEvent.change(within(plan()).getByLabelText('promotion in 2026-W06'), { target: { value: '0' } });
    await waitFor(() => expect(plan().textContent).toContain('14 instead of 14'));
    fireEvent.click(screen.getByRole('button', { name: 'as planned again' }));
    await waitFor(() => expect(plan().textContent).toContain('nothing is saved'));
  });

  it('keeps a plan when a field is left that says nothing or no number', async () => {
    open();
    await waitFor(() => expect(plan().textContent).toContain('nothing is saved'));
    const all = within(plan()).getByLabelText('promotion in all periods');
    fireEvent.change(all, { target: { value: '1' } });
    fireEvent.blur(all);
    await waitFor(() => expect(plan().textContent).toContain('18 instead of 14'));
    for (const value of ['', 'much']) {
      fireEvent.change(all, { target: { value } });
      fireEvent.blur(all);
    }
    expect(plan().textContent).toContain('18 instead of 14');
  });

  it('asks for the effects of a method as it is written', async () => {
    open();
    const text = await screen.findByLabelText('Method with drivers');
    await waitFor(() => expect(text).toHaveProperty('value', 'arima(best) + x(promotion, holiday)'));
    const asked: string[] = [];
    vi.stubGlobal('fetch', async (input: Request) => {
      asked.push(new URL(input.url).searchParams.get('method') ?? '');
      return new Response(JSON.stringify({ ...found, problem: "There is no driver 'rain'." }));
    });
    fireEvent.change(text, { target: { value: ' regression(rain) ' } });
    fireEvent.click(screen.getByRole('button', { name: 'Show its effects' }));
    expect((await screen.findByRole('alert')).textContent).toBe("There is no driver 'rain'.");
    expect(asked).toContain('regression(rain)');
  });

  it.each([
    ['This method has no drivers.', false],
    ['None of the drivers varied here, so no effect can be estimated.', true],
  ])('says %s', async (sentence, has_drivers) => {
    open({ has_drivers, effects: [] });
    expect(await screen.findByText(sentence)).toBeDefined();
    expect(screen.queryByRole('region', { name: 'What another plan would do' })).toBeNull();
  });
});
