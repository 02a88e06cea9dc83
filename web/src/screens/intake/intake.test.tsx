import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { useLocation } from 'react-router';
import { describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { Append } from './append';
import { Intake, pasted } from './intake';

const appended: Schema['Appended'] = {
  new_periods: ['2026-W44', '2026-W45'],
  n_new: 1500,
  total_new: 4200,
  n_revised: 2,
  revised_by: -12,
  revisions: [{ key: ['P1', 'S1'], period: '2026-W43', old: null, new: 7 }],
  n_new_series: 7,
  new_series: [1, 2, 3, 4, 5, 6].map((i) => [`N${i}`, 'S1']),
  n_silent: 0,
  silent_series: [],
};
const load = (id: number, changes: Partial<Schema['Load']> = {}): Schema['Load'] => ({
  id,
  file_name: `week-${id}.csv`,
  sha256: 'abcdef0123456789',
  loaded_by: 'ines',
  loaded_at: '2026-11-02T08:30:00Z',
  n_rows: 90_000,
  n_refused: 3,
  n_series: 2758,
  total: 1_234_567,
  frequency: 'W',
  n_periods: 182,
  season_length: 52,
  key_names: [],
  levels: {},
  first: '2023-W18',
  last: '2026-W45',
  findings: [],
  driver_names: ['price'],
  n_ahead: 13,
  appended,
  is_used: false,
  ...changes,
});
const first = load(1, { last: '2026-W43', appended: null });

function Here() {
  return <p data-testid="here">{useLocation().pathname}</p>;
}
const here = () => screen.getByTestId('here').textContent;

function open(loads: Schema['Load'][], seen = '2026-W43', role = 'keeper') {
  const calls = serve(({ method, path }) => {
    if (path === '/api/portfolios/') {
      const [newest] = loads;
      return { body: newest ? [{ id: 1, name: 'Garden', load: newest, role }] : [] };
    }
    if (path === '/api/portfolios/1/loads/') return { body: loads };
    if (path === '/api/portfolios/1/studies/') {
      return { body: [{ id: 8, name: 'Usual', last_period: seen, run: { state: 'done' } }] };
    }
    if (method === 'DELETE') return { status: 204, body: loads.shift() };
    if (path === '/api/studies/8/again/') return { status: 201, body: {} };
    return undefined;
  });
  show(
    <>
      <Intake />
      <Here />
    </>,
    '/p/:portfolio/*',
    '/p/1/intake',
  );
  return calls;
}

describe('handing in a file', () => {
  it('takes pasted cells as a file, and nothing for nothing', async () => {
    expect(pasted(' \n\t')).toBeUndefined();
    const file = pasted('week\tunits\n2026-W01\t3\n');
    expect([file?.name, await file?.text()]).toEqual(['pasted-cells.tsv', 'week\tunits\n2026-W01\t3\n']);
  });

  it('offers to look at a first file, and says why it could not be read', async () => {
    open([]);
    const look = await screen.findByRole('button', { name: 'Look at it' });
    expect(await screen.findByRole('heading', { name: 'Bring in your sales to begin' })).toBeDefined();
    expect(look).toHaveProperty('disabled', true);
    fireEvent.click(screen.getByRole('button', { name: 'cells of a spreadsheet' }));
    fireEvent.paste(screen.getByRole('textbox'), {
      clipboardData: { getData: () => 'week\tunits\n2026-W01\t3\n2026-W02\t4\n' },
    });
    expect(screen.getByText(/2 rows below it/)).toBeDefined();
    vi.stubGlobal(
      'fetch',
      async () => new Response('{"detail":"The file has no header row."}', { status: 400 }),
    );
    fireEvent.click(look);
    expect((await screen.findByRole('alert')).textContent).toBe('The file has no header row.');
  });

  it('shows the first lines of many pasted cells, and keeps all of them', async () => {
    open([]);
    fireEvent.click(await screen.findByRole('button', { name: 'cells of a spreadsheet' }));
    const field = screen.getByRole('textbox');
    const rows = `week\tunits\n${'2026-W01\t3\n'.repeat(5000)}`;
    fireEvent.paste(field, { clipboardData: { getData: () => rows } });
    expect(screen.getByText(/5,000 rows below it/)).toBeDefined();
    expect((field as HTMLTextAreaElement).value.length).toBeLessThan(4100);
    let sent: FormData | undefined;
    vi.stubGlobal('fetch', async (_: string, init: RequestInit) => {
      sent = init.body as FormData;
      return new Response('{"id": 12}', { status: 201 });
    });
    fireEvent.click(screen.getByRole('button', { name: 'Look at it' }));
    await screen.findByText('elsewhere');
    expect(sent?.get('sales')).toHaveProperty('size', rows.length);
  });

  it('sends a file with what stands beside it to the open portfolio', async () => {
    open([load(2), first]);
    const add = await screen.findByRole('button', { name: 'Add to Garden' });
    const file = new File(['week,units\n'], 'week-46.csv');
    fireEvent.change(screen.getByLabelText(/^Sales/), { target: { files: [file] } });
    fireEvent.change(screen.getByLabelText(/^Attributes, drivers and edges/), {
      target: { files: [new File(['x'], 'prices.csv'), new File(['y'], 'stores.csv')] },
    });
    const names: string[] = [];
    vi.stubGlobal('fetch', async (_: string, init: RequestInit) => {
      for (const value of (init.body as FormData).values()) names.push((value as File).name);
      return new Response('{"id": 12}', { status: 201 });
    });
    fireEvent.click(add);
    await waitFor(() => expect(here()).toBe('/p/1/append/12'));
    expect(names).toEqual(['week-46.csv', 'prices.csv', 'stores.csv']);
  });
});

describe('what has been loaded', () => {
  it.each([
    ['keeper', '/api/portfolios/1/archive/'],
    ['signer', undefined],
  ])('is an archive for who keeps it, for a %s', async (role, expected) => {
    open([load(2), first], '2026-W43', role);
    await screen.findByRole('table', { name: '' });
    const link = screen.queryByRole('link', { name: 'All of it as one archive' });
    expect(link?.getAttribute('href')).toBe(expected);
  });

  it('says what there is, and lets the newest addition be undone', async () => {
    const calls = open([load(2), first]);
    const loaded = within(await screen.findByRole('region', { name: 'Garden' }));
    expect(
      loaded.getByText(/2,758 series of 182 weeks, 2023-W18 to 2026-W45; 1,234,567 units/),
    ).toBeDefined();
    expect(loaded.getByText('Drivers: price, known 13 weeks ahead.')).toBeDefined();
    const undo = await loaded.findAllByRole('button', { name: 'Undo' });
    expect(undo).toHaveLength(1);
    fireEvent.click(undo[0] as HTMLElement);
    await waitFor(() => expect(screen.queryByRole('button', { name: 'Undo' })).toBeNull());
    expect(calls.find((one) => one.method === 'DELETE')?.path).toBe('/api/loads/2/');
  });

  it('does not take back what a study has used, and offers to run that study again', async () => {
    const calls = open([load(2, { is_used: true }), first]);
    const undo = await screen.findByRole('button', { name: 'Undo' });
    expect(undo).toHaveProperty('disabled', true);
    expect(undo.title).toContain('A study has used this load');
    fireEvent.click(await screen.findByRole('button', { name: 'Run it again from 2026-W45' }));
    await waitFor(() => expect(here()).toBe('/p/1/study'));
    expect(calls.some((one) => one.path === '/api/studies/8/again/')).toBe(true);
  });

  it('offers no second run of a study that has seen all', async () => {
    open([load(2), first], '2026-W45');
    await screen.findByRole('button', { name: 'Undo' });
    expect(screen.queryByRole('button', { name: /^Run it again/ })).toBeNull();
  });
});

describe('later actuals', () => {
  function append(answer: (onlyLook: boolean) => { status?: number; body?: unknown }) {
    const calls = serve(({ method, path, body }) => {
      if (path === '/api/uploads/12/append/') return answer((body as { only_look: boolean }).only_look);
      if (path === '/api/uploads/12/')
        return method === 'DELETE' ? { status: 204 } : { body: { file_name: 'w46.csv' } };
      return path === '/api/portfolios/' ? { body: [{ id: 1, name: 'Garden' }] } : undefined;
    });
    show(
      <>
        <Append />
        <Here />
      </>,
      '/p/:portfolio/append/:upload',
      '/p/1/append/12',
    );
    return calls;
  }

  it('are looked at before they are put to the history', async () => {
    append(() => ({ body: { appended, findings: [], n_refused: 3 } }));
    const brings = await screen.findByRole('region', { name: 'What it brings' });
    expect([...within(brings).getAllByRole('listitem')].map((one) => one.textContent)).toEqual([
      '1,500 new values in 2026-W44 to 2026-W45, 4,200 units.',
      '2 revised values, by −12 units in all.',
      '7 new series (N1 × S1, N2 × S1, N3 × S1, N4 × S1, N5 × S1 and 2 more)',
      '0 silent series: sold in the last season, no row in the new periods',
    ]);
    expect(within(brings).getByRole('table').textContent).toContain('Largest revisions, 1 of 2');
    expect(within(brings).getAllByRole('row')[1]?.textContent).toBe('P1 × S12026-W43unknown7+7');
    expect(screen.getByText('Nothing odd was found.')).toBeDefined();
    fireEvent.click(screen.getByRole('button', { name: 'Add it' }));
    await waitFor(() => expect(screen.getByText('elsewhere')).toBeDefined());
  });

  it('cannot be added while something is wrong with them, and can be discarded', async () => {
    const calls = append(() => ({ status: 400, body: { detail: 'Row 7 belongs to no period.' } }));
    expect((await screen.findByRole('alert')).textContent).toBe(
      'Row 7 belongs to no period. Nothing was loaded.',
    );
    expect(screen.getByRole('button', { name: 'Add it' })).toHaveProperty('disabled', true);
    fireEvent.click(screen.getByRole('button', { name: 'Discard the file' }));
    await screen.findByText('elsewhere');
    expect(calls.at(-1)?.method).toBe('DELETE');
  });

  it('say so when somebody else was faster', async () => {
    append((onlyLook) =>
      onlyLook
        ? { body: { appended, findings: [], n_refused: 0 } }
        : { status: 409, body: { detail: 'Another load came in since you looked.' } },
    );
    fireEvent.click(await screen.findByRole('button', { name: 'Add it' }));
    expect((await screen.findByRole('alert')).textContent).toContain(
      'Another load came in since you looked.',
    );
  });
});
