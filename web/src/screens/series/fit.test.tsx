import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { type Call, serve, show } from '../../test/serve';
import { DriversPage } from './drivers';
import { FitPage } from './fit';
import { LookPage, shownAs } from './look';

const node = {
  node: 7,
  name: 'Ferns × Coast',
  method: 'ets(A,N,N)',
  season_length: 12,
  frequency: 'M',
  kind: { words: 'smooth' },
  origins: [{}, {}],
  parts: [],
} as unknown as Schema['Node'];

const asked = (calls: Call[], end: string) => calls.filter((call) => call.path.endsWith(end)).length;

/** What the server says of a method: as many AR terms as its text has, the second of them weak. */
function fitted(method: string): Schema['Fit'] {
  const wrong = method.includes('x(rain)');
  const p = Number(/arima\((\d)/.exec(method)?.[1] ?? 2);
  return {
    periods: ['a', 'b', 'c', 'd'],
    n_past: 3,
    history: [3, 4, 5],
    fit: {
      text: method,
      problem: wrong ? 'there is no driver rain' : '',
      model: wrong ? undefined : method === 'arima(best)' ? 'arima(2,0,0)' : method,
      words: 'in words',
      basis: wrong ? undefined : method.includes(',1,') ? 'arima 1 0' : 'arima 0 0',
      notes: [],
      parameters: [],
      criteria: { aicc: 100 + p },
      forecast: [6],
      measures: { RMSE: 10 - p },
    },
    diagnosis: wrong
      ? null
      : {
          coefficients: Array.from({ length: p }, (_, i) => ({
            name: `ar${i + 1}`,
            value: 0.5,
            error: 0.1,
            z: 5,
            p: i === 1 ? 0.4 : 0.0001,
          })),
          estimated: ['ar1', 'mean'],
          correlation: [
            [1, 0.95],
            [0.95, 1],
          ],
          roots: [{ of: 'phi', real: 0.98, imaginary: 0 }],
          standardised: [0, 1, -1],
          acf: [0.1],
          pacf: [0.1],
          noise: 0.3,
          box: [1],
          box_p: [0.4],
          expected: [-1, 0, 1],
          sorted_errors: [-1, 0, 1],
          judgement: [`judged ${method}`],
        },
    search:
      method === 'arima(best)'
        ? [
            { model: 'arima(3,0,0)', aicc: 90, refused: 'roots that all but cancel' },
            { model: 'arima(2,0,0)', aicc: 102, refused: '' },
          ]
        : [],
    variance: null,
  } as unknown as Schema['Fit'];
}

const drivers = {
  method: 'arima(1,0,0) + x(promotion)',
  asked: 'arima(best) + x(promotion)',
  problem: '',
  periods: ['2026-01', '2026-02'],
  drivers: [{ name: 'promotion', ahead: [0, 1] }],
  effects: [
    {
      name: 'promotion',
      driver: 'promotion',
      coefficient: { name: 'promotion', value: 4, error: 1, z: 4, p: 0.0001 },
      move: 'promotion on',
      change: 4,
      low: 2,
      high: 6,
      explained: 12.5,
      x: [0, 1],
      y: [5, 9],
      line: [5, 9],
    },
  ],
  parts: [{ name: 'level and trend', values: [6, 6] }],
  forecast: [6, 10],
  notes: [],
};

/** Orders as steppers; a change of one is a new text. */
function form({ method, change }: { method: string; change?: { name: string; value: number } }) {
  const orders = Object.fromEntries(
    (/\((.*)\)/.exec(method)?.[1] ?? '').split(',').map((v, i) => ['pdq'[i], v]),
  );
  if (change) orders[change.name] = String(change.value);
  const labels = { p: 'p, past values', d: 'd, differences', q: 'q, past errors' };
  const fields = Object.entries(labels).map(([name, label]) => ({
    name,
    label,
    kind: 'count',
    value: Number(orders[name]),
    options: [],
    least: 0,
    most: 3,
    group: '',
  }));
  const menu = { ...fields[0], name: 'method', label: 'Method', kind: 'choice', value: 'arima(1,0,1)' };
  const text = change ? `arima(${orders.p},${orders.d},${orders.q})` : method;
  return { method: text, problem: '', family: 'arima', menu, fields };
}

function answers(call: Call & { url?: string }) {
  if (call.path.endsWith('/form/')) return { body: form(call.body as Parameters<typeof form>[0]) };
  if (call.path.endsWith('/drivers/')) return { body: drivers };
  if (call.path.endsWith('/try/')) {
    const plan = (call.body as { drivers: Record<string, (number | null)[]> }).drivers;
    const lift = (plan.promotion?.[0] ?? 0) * 4;
    return {
      body: {
        periods: ['x', 'y', 'z'],
        n_past: 1,
        history: [5],
        best: {},
        tries: [{ forecast: [6 + lift, 10] }],
      },
    };
  }
  return undefined;
}

/** Fits answer by the method in their address, which `serve` does not show: read from the request itself. */
function open(page: React.ReactNode): Call[] {
  const calls = serve(answers);
  const plain = globalThis.fetch;
  vi.stubGlobal('fetch', async (input: Request) => {
    const address = new URL(input.url);
    if (address.pathname.endsWith('/fit/')) {
      calls.push({ method: 'GET', path: address.pathname, body: undefined });
      return new Response(JSON.stringify(fitted(address.searchParams.get('method') ?? '')), {
        headers: { 'Content-Type': 'application/json' },
      });
    }
    if (address.pathname.endsWith('/tested/')) {
      const tested = address.searchParams.getAll('method').map((method, i) => ({
        method,
        problem: '',
        measures: { MAE: 5 + i, RMSSE: 0.9 - 0.1 * i },
        origins: [
          { period: '2025-01', model: 'arima(1,0,0)', change: '' },
          { period: '2025-02', model: 'arima(2,0,0)', change: 'AR terms 1 to 2' },
        ],
      }));
      return new Response(JSON.stringify(tested), { headers: { 'Content-Type': 'application/json' } });
    }
    return plain(input);
  });
  show(page, '/', '/');
  return calls;
}

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe('Fit', () => {
  const page = <FitPage study={1} portfolio={1} node={node} title="Ferns" actions={null} />;

  it('fits anew with every step, greys what is weak and says what that means', async () => {
    const calls = open(page);
    expect(await screen.findByText('judged arima(1,0,1)')).toBeTruthy();
    expect(screen.queryByText(/Grey: p above/)).toBeNull();
    fireEvent.click(screen.getByRole('button', { name: 'p, past values: one more' }));
    expect(await screen.findByText('judged arima(2,0,1)')).toBeTruthy();
    const table = screen.getByRole('region', { name: 'Coefficients' });
    expect(within(table).getByRole('row', { name: /ar2/ }).className).toContain('text-second');
    expect(screen.getByText(/Grey: p above 0.05/)).toBeTruthy();
    expect(screen.getByRole('img', { name: '1 reciprocal roots, 1 next to the unit circle' })).toBeTruthy();
    expect(asked(calls, '/fit/')).toBe(3); // two models and the search, each once
  });

  it('puts models beside the search, marks the best out of sample, and tells when AICc cannot compare', async () => {
    open(page);
    const beside = await screen.findByRole('region', { name: 'Beside each other' });
    await waitFor(() => expect(within(beside).getAllByTitle('the least').length).toBeGreaterThan(1));
    expect(within(beside).getByText(/AICc compares these models/)).toBeTruthy();
    expect(within(beside).getByRole('row', { name: /^Search arima\(2,0,0\)/ }).textContent).toContain(
      '0.800 ✓',
    );
    fireEvent.click(screen.getByRole('button', { name: 'd, differences: one more' }));
    expect(await within(beside).findByText(/AICc is not comparable here/)).toBeTruthy();
    expect(screen.getByText('AR terms 1 to 2')).toBeTruthy();
  });

  it('shows the path of the search with what was refused, and takes a model from it', async () => {
    open(page);
    fireEvent.click(await screen.findByRole('button', { name: /^Search/ }));
    expect(await screen.findByText('2 models tried, by AICc')).toBeTruthy();
    expect(screen.getByText('refused: roots that all but cancel')).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'arima(3,0,0)' }));
    expect(await screen.findByText('judged arima(3,0,0)')).toBeTruthy();
    expect(screen.getByRole('button', { name: /^B/ }).getAttribute('aria-pressed')).toBe('true');
  });

  it('says what is wrong with a text and keeps it', async () => {
    open(page);
    const text = await screen.findByLabelText('Method as text');
    fireEvent.change(text, { target: { value: 'arima(1,0,0) + x(rain)' } });
    fireEvent.blur(text);
    expect((await screen.findByRole('alert')).textContent).toBe('there is no driver rain');
    expect((screen.getByLabelText('Method as text') as HTMLTextAreaElement).value).toContain('rain');
    // with one model left there is nothing to compare
    expect(screen.queryByText(/AICc compares these models/)).toBeNull();
  });
});

describe('Drivers', () => {
  it('says what a driver does, and what another plan would do', async () => {
    open(<DriversPage study={1} node={node} title="Ferns" actions={null} />);
    const row = await screen.findByRole('row', { name: /promotion on/ });
    expect(row.textContent).toContain('+4.00');
    expect(row.textContent).toContain('+2.00 to +6.00');
    const first = await screen.findByLabelText('promotion in 2026-01');
    fireEvent.change(first, { target: { value: '1' } });
    expect(await screen.findByText('+4.0 units over 2 months: 20 instead of 16')).toBeTruthy();
    // leaving the field for all periods empty keeps what was typed
    const all = screen.getByLabelText('promotion in all periods');
    fireEvent.focus(all);
    fireEvent.blur(all);
    expect((first as HTMLInputElement).value).toBe('1');
    fireEvent.click(screen.getByRole('button', { name: 'as planned again' }));
    expect(await screen.findByText(/Change a value below/)).toBeTruthy();
  });
});

describe('Look', () => {
  it('says in words what is drawn', () => {
    expect(shownAs({ d: 0, seasonal_d: 0, logs: false }, 12, 'month')).toBe('Units a month');
    expect(shownAs({ d: 1, seasonal_d: 1, logs: true }, 12, 'month')).toBe(
      'Logarithms of units a month, differenced once and at lag 12',
    );
  });

  it('differences at the press of a key, but not while a field is filled in', async () => {
    const calls = open(<LookPage study={1} node={node} title="Ferns" actions={null} />);
    await waitFor(() => expect(asked(calls, '/look/')).toBe(1));
    fireEvent.keyDown(window, { key: 's' });
    await waitFor(() => expect(asked(calls, '/look/')).toBe(2));
    const d = screen.getByLabelText('Differences') as HTMLSelectElement;
    fireEvent.keyDown(d, { key: 'd' });
    expect(d.value).toBe('0');
    fireEvent.keyDown(window, { key: 'd' });
    expect(d.value).toBe('1');
  });
});
