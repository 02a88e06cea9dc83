import { fireEvent, screen, waitFor } from '@testing-library/react';
import { useState } from 'react';
import { describe, expect, it } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { MethodForm } from './method-form';

type Field = Schema['Field'];
type Ask = { method: string; change?: { name: string; value: unknown }; estimates?: Record<string, number> };

const field = (name: string, kind: string, value: unknown, more: Partial<Field> = {}): Field => ({
  name,
  label: name,
  kind,
  value: value as Field['value'],
  options: [],
  least: 0,
  most: 3,
  group: '',
  ...more,
});
const options = (...values: string[]) => values.map((value) => ({ value, label: value }));

/** A server that knows one family, whose text is its fields as JSON; anything else cannot be read. */
function form(text: string): Schema['Form'] {
  const menu = field('method', 'choice', 'a', { label: 'Method', options: options('a', 'b') });
  let own: Record<string, unknown>;
  try {
    own = JSON.parse(text);
  } catch {
    return { method: text, problem: 'no method', family: '', menu: { ...menu, value: '' }, fields: [] };
  }
  return {
    method: text,
    problem: '',
    family: 'ets',
    menu,
    fields: [
      field('trend', 'choice', own.trend, { options: options('N', 'A') }),
      field('p', 'count', own.p, { group: 'Past' }),
      field('drift', 'flag', own.drift),
      field('drivers', 'names', own.drivers, { options: options('log price', 'promotion') }),
      field('window', 'number', own.window, { least: 1 }),
      field('alpha', 'share', own.alpha, { label: 'level weight', most: 1 }),
    ],
  };
}

const TEXT = JSON.stringify({ trend: 'N', p: 1, drift: false, drivers: 'log price', window: 4, alpha: null });

function Held({ text }: { text: string }) {
  const [now, setNow] = useState(text);
  return (
    <>
      <MethodForm study={3} node="n7" text={now} estimates={{ alpha: 0.31 }} noun="week" onChange={setNow} />
      <output data-testid="text">{now}</output>
    </>
  );
}

async function open(text = TEXT) {
  const calls = serve(({ body }) => {
    const { method, change } = body as Ask;
    if (!change) return { body: form(method) };
    if (change.value === 3) return { body: { ...form(method), problem: 'p goes up to 2.' } };
    if (change.name === 'method') return { body: form(JSON.stringify({ p: 0 })) };
    return { body: form(JSON.stringify({ ...JSON.parse(method), [change.name]: change.value })) };
  });
  show(<Held text={text} />, '/', '/');
  await screen.findByLabelText('Method');
  return calls;
}

const said = () => JSON.parse(screen.getByTestId('text').textContent ?? '{}') as Record<string, unknown>;
const becomes = (name: string, value: unknown) => waitFor(() => expect(said()[name]).toBe(value));

describe('a method as fields', () => {
  it('shows each kind of field and sends what is changed, one after the other', async () => {
    const calls = await open();
    expect(screen.getByText('Past')).toBeDefined();
    fireEvent.change(screen.getByLabelText('trend'), { target: { value: 'A' } });
    await becomes('trend', 'A');
    fireEvent.click(screen.getByLabelText('drift'));
    await becomes('drift', true);
    fireEvent.click(screen.getByLabelText('promotion'));
    await becomes('drivers', 'log price, promotion');
    fireEvent.click(screen.getByLabelText('log price'));
    await becomes('drivers', 'promotion');
    fireEvent.change(screen.getByLabelText('window'), { target: { value: '' } });
    await becomes('window', null);
    expect(calls.at(-1)?.body).toMatchObject({
      change: { name: 'window', value: null },
      estimates: { alpha: 0.31 },
    });
    expect(calls.at(-1)?.path).toBe('/api/studies/3/nodes/n7/form/');
  });

  it('loses no step of a hand that is faster than the server', async () => {
    await open();
    const more = screen.getByRole('button', { name: 'p: one more' });
    fireEvent.click(more);
    fireEvent.change(screen.getByLabelText('trend'), { target: { value: 'A' } });
    fireEvent.click(more); // while the first is on its way
    await waitFor(() => expect(screen.getByRole('alert').textContent).toBe('p goes up to 2.'));
    expect(said()).toMatchObject({ p: 2, trend: 'A' });
  });

  it('gives a weight from where it was estimated, within its range, and lets it be estimated again', async () => {
    await open();
    const estimate = screen.getByRole('checkbox', { name: 'estimate' });
    expect(screen.getByRole('slider', { name: 'level weight' })).toHaveProperty('value', '0.31');
    expect(screen.getByText('90 % of the weight on the last 7 weeks')).toBeDefined();
    fireEvent.click(estimate);
    await becomes('alpha', 0.31);
    fireEvent.change(screen.getByLabelText('level weight, number'), { target: { value: '7' } });
    await becomes('alpha', 1);
    fireEvent.click(screen.getByRole('checkbox', { name: 'estimate' }));
    await becomes('alpha', null);
  });

  it('follows a drag at once, and asks only for where it is', async () => {
    const calls = await open();
    const slider = screen.getByRole('slider', { name: 'level weight' });
    const before = calls.length;
    for (const value of ['0.4', '0.5', '0.6', '0.7']) fireEvent.change(slider, { target: { value } });
    expect(slider).toHaveProperty('value', '0.7');
    await becomes('alpha', 0.7);
    expect(calls.slice(before).filter(({ body }) => (body as Ask).change).length).toBe(2);
  });

  it('takes any text, and shows the menu alone for one that is no method', async () => {
    await open();
    const text = screen.getByLabelText('Method as text');
    fireEvent.change(text, { target: { value: 'ets(A,' } });
    fireEvent.keyDown(text, { key: 'Enter' });
    await waitFor(() => expect(screen.getByLabelText('Method')).toHaveProperty('value', ''));
    expect(screen.queryByLabelText('trend')).toBeNull();
    expect(screen.getByRole('option', { name: 'written by hand' })).toBeDefined();
    fireEvent.change(screen.getByLabelText('Method'), { target: { value: 'b' } });
    await becomes('p', 0);
  });
});
