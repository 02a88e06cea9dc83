import { cleanup, fireEvent, screen, waitFor } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { Review } from './review';

const preview: Schema['Preview'] = {
  columns: [
    { name: 'week', role: 'time', of: null, reason: 'holds ISO weeks' },
    { name: 'sku', role: 'key', of: null, reason: 'named like a key' },
    { name: 'units', role: 'value', of: null, reason: 'holds numbers' },
    { name: 'returns', role: 'ignored', of: null, reason: 'further numbers' },
  ],
  rows: [['2025-W01', 'A', '3', '0']],
  n_rows: 1,
  layout: 'long',
  sheets: [],
  sheet: null,
  problem: null,
  understood: {
    frequency: 'W',
    first: '2025-W01',
    last: '2025-W09',
    n_periods: 9,
    n_series: 1200,
    n_rows: 10_000,
    n_refused: 2,
    total: 123,
    decimal: 'comma',
    n_missing: 0,
    keys: [{ name: 'sku', count: 1200, levels: ['family'], named_by: 'title' }],
    edges: { file: 'edges.csv', n_totals: 5, n_tops: 2 },
    drivers: [],
    first_rows: { columns: ['line', 'sku', 'period', 'value'], rows: [['2', 'A', '2025-W01', '3']] },
    findings: [
      {
        kind: 'negative',
        count: 2,
        remedy: 'kept, as returns',
        examples: [{ row: 17, column: 'units', text: '-3' }],
      },
    ],
  },
};

function withPreview(found: Schema['Preview'], loads = { status: 201, body: { id: 5 } as unknown }) {
  return serve(({ path }) => {
    if (path.endsWith('/preview/')) return { body: found };
    if (path.endsWith('/load/')) return loads;
    if (path === '/api/uploads/3/') {
      return { body: { id: 3, file_name: 'sales.csv', attribute_names: [], size: 9, made_at: '' } };
    }
    return undefined;
  });
}

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe('the review of a file', () => {
  it('says in figures what would be loaded, and what is odd', async () => {
    withPreview(preview);
    show(<Review />, '/intake/:upload', '/intake/3');
    const region = await screen.findByRole('region', { name: 'What was understood' });
    expect(region.textContent).toContain('1,200 series of 9 weeks, 2025-W01 to 2025-W09');
    expect(region.textContent).toContain('10,000 rows read, 2 left out');
    expect(screen.getByRole('row', { name: /Negative values/ }).textContent).toContain('row 17, units: “-3”');
  });

  it('asks what dates that follow no frequency are to be', async () => {
    const problem = 'sales.csv, column week: the dates lie some 14 days apart';
    const calls = serve(({ path, body }) => {
      if (path !== '/api/uploads/3/preview/')
        return { body: { id: 3, file_name: 'sales.csv', attribute_names: [], size: 9, made_at: '' } };
      const { frequency } = body as { frequency: string | null };
      return { body: frequency ? preview : { ...preview, understood: null, problem } };
    });
    show(<Review />, '/intake/:upload', '/intake/3');
    expect((await screen.findByRole('alert')).textContent).toContain('14 days apart');
    fireEvent.click(screen.getByRole('button', { name: 'four weeks' }));
    await screen.findByRole('region', { name: 'What was understood' });
    expect(calls.at(-1)?.body).toMatchObject({ frequency: '4W' });
    expect(screen.getByRole('button', { name: 'days' })).toBeDefined(); // and may choose again
  });

  it('loads under a name, with the roles and decisions as set', async () => {
    const calls = withPreview(preview);
    show(<Review />, '/intake/:upload', '/intake/3');
    await screen.findByRole('region', { name: 'What was understood' });
    fireEvent.change(screen.getByLabelText('Role of returns'), { target: { value: 'value' } });
    fireEvent.click(screen.getByRole('button', { name: 'unknown' }));
    const load = (await screen.findByRole('button', { name: 'Load 1,200 series' })) as HTMLButtonElement;
    expect(load.disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('Portfolio name'), { target: { value: ' Garden ' } });
    await waitFor(() => expect(load.disabled).toBe(false));
    fireEvent.click(load);
    await screen.findByText('elsewhere');
    expect(calls.find((call) => call.path.endsWith('/load/'))?.body).toEqual({
      name: 'Garden',
      options: {
        time: 'week',
        value: 'returns',
        keys: ['sku'],
        attribute_columns: {},
        gaps: 'unknown',
        duplicates: 'sum',
        copies: 'one',
        empty_keys: 'leave-out',
        totals: 'leave-out',
        driver_columns: [],
        period_columns: [],
        negatives: 'keep',
        unfinished: 'leave-out',
        week_start: 'monday',
        frequency: null,
        first_period: '',
        sheet: null,
        day_first: null,
      },
    });
  });

  it('keeps the rows in view where the file needs the planner, and cannot be loaded', async () => {
    withPreview({ ...preview, understood: null, problem: 'Which column holds the sales cannot be told.' });
    show(<Review />, '/intake/:upload', '/intake/3');
    expect((await screen.findByRole('alert')).textContent).toContain(
      'Which column holds the sales cannot be told.',
    );
    expect(screen.getByText('2025-W01')).toBeTruthy();
    expect((screen.getByRole('button', { name: 'Load' }) as HTMLButtonElement).disabled).toBe(true);
  });

  it('says that nothing was loaded when loading fails', async () => {
    withPreview(preview, {
      status: 400,
      body: { detail: 'name: There is a portfolio named Garden already.' },
    });
    show(<Review />, '/intake/:upload', '/intake/3');
    fireEvent.change(await screen.findByLabelText('Portfolio name'), { target: { value: 'Garden' } });
    const load = screen.getByRole('button', { name: 'Load 1,200 series' }) as HTMLButtonElement;
    await waitFor(() => expect(load.disabled).toBe(false));
    fireEvent.click(load);
    expect((await screen.findByRole('alert')).textContent).toContain('already. Nothing was loaded.');
  });
});
