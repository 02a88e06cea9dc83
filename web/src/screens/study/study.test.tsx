import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { serve, show } from '../../test/serve';
import { StudyScreen } from './study';

const run: Schema['Run'] = {
  id: 1,
  state: 'running',
  step: 'fit and backtest',
  done: 250,
  of: 1000,
  seconds_left: 30,
  attempts: 1,
  stop_requested: false,
  message: '',
  queued_at: '2026-11-23T08:00:00Z',
  started_at: '2026-11-23T08:00:01Z',
  finished_at: null,
};
const study: Schema['Study'] = {
  id: 7,
  portfolio: 1,
  portfolio_name: 'Garden',
  name: 'Default',
  made_by: 'ines',
  made_at: '2026-11-23T08:00:00Z',
  n_series: 18,
  last_period: '2026-W43',
  rmsse: null,
  gain: null,
  tasks_computed: null,
  tasks_reused: null,
  archived_at: null,
  run,
};

/** A server with these studies, which may be changed while the test runs. */
function withStudies(list: Schema['Study'][]) {
  return serve(({ method, path }) => {
    if (path === '/api/portfolios/') return { body: [] };
    if (path === '/api/portfolios/1/studies/' && method === 'GET') return { body: list };
    if (method === 'POST') return { body: study };
    return undefined;
  });
}

function open() {
  show(<StudyScreen />, '/p/:portfolio/study', '/p/1/study');
}

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe('the Study screen', () => {
  it('says what the default recipe does while there is no study, and starts it with one click', async () => {
    const calls = withStudies([]);
    open();
    await screen.findByText('No study yet');
    fireEvent.click(screen.getByRole('button', { name: 'Run the default recipe' }));
    await waitFor(() => expect(calls.some((call) => call.method === 'POST')).toBe(true));
    expect(calls.find((call) => call.method === 'POST')?.path).toBe('/api/portfolios/1/studies/');
  });

  it('shows the step, how much is done and the time left, and can be stopped', async () => {
    const calls = withStudies([study]);
    open();
    const progress = await screen.findByRole('region', { name: 'Progress' });
    expect(progress.textContent).toContain('fit and backtest: 250 of 1,000 tasks, about 30 s left');
    expect(within(progress).getByRole('progressbar').getAttribute('value')).toBe('0.25');
    expect(
      (screen.getByRole('button', { name: 'Run the default recipe' }) as HTMLButtonElement).disabled,
    ).toBe(true);
    fireEvent.click(within(progress).getByRole('button', { name: 'Stop' }));
    await waitFor(() => expect(calls.some((call) => call.path === '/api/studies/7/stop/')).toBe(true));
  });

  it('asks again while something runs, and rests when all is done', async () => {
    const list = [study];
    const calls = withStudies(list);
    open();
    await screen.findByRole('region', { name: 'Progress' });
    list[0] = {
      ...study,
      rmsse: 0.763,
      gain: 26.94,
      tasks_computed: 252,
      tasks_reused: 1512,
      run: { ...run, state: 'done' },
    };
    const link = await screen.findByRole('link', { name: 'Default #7' });
    expect(link.getAttribute('href')).toBe('/p/1/s/7/field');
    const row = screen.getByRole('row', { name: /Default #7/ }).textContent;
    expect(row).toContain('0.763+26.9');
    expect(row).toContain('252 computed, 1,512 used again');
    const asked = calls.length;
    await new Promise((resolve) => setTimeout(resolve, 900));
    expect(calls.length).toBe(asked);
  });

  it('says why a run failed, and runs it again', async () => {
    const message = "product 'P1' has no group";
    const calls = withStudies([{ ...study, run: { ...run, state: 'failed', message } }]);
    open();
    await screen.findByText(message);
    fireEvent.click(screen.getByRole('button', { name: 'Run it again' }));
    await waitFor(() => expect(calls.some((call) => call.path === '/api/studies/7/run/')).toBe(true));
  });

  it('says in words when the server does not answer well, and offers to try again', async () => {
    serve(() => ({ status: 500, body: { detail: 'The disk is full.' } }));
    open();
    expect((await screen.findByRole('alert')).textContent).toContain('The disk is full.');
    expect(screen.getByRole('button', { name: 'Try again' })).toBeTruthy();
  });

  it('brings the hundred newest, and earlier ones when they are asked for', async () => {
    const many = Array.from({ length: 103 }, (_, i) => ({
      ...study,
      id: 203 - i,
      name: `Study ${203 - i}`,
      run: { ...run, state: 'done' as const },
    }));
    let asked = 0;
    serve(({ path }) => {
      if (path === '/api/portfolios/') return { body: [{ id: 1, name: 'Garden', role: 'reader', load: {} }] };
      if (path !== '/api/portfolios/1/studies/') return undefined;
      asked += 1;
      return { body: asked === 1 ? many.slice(0, 100) : many.slice(100) };
    });
    open();
    expect(await screen.findByText(/Study 104/)).toBeDefined();
    expect(screen.queryByText(/Study 103/)).toBeNull();
    fireEvent.click(screen.getByRole('button', { name: 'Earlier studies' }));
    expect(await screen.findByText(/Study 101/)).toBeDefined();
    expect(screen.queryByRole('button', { name: 'Earlier studies' })).toBeNull();
    await waitFor(() =>
      expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Run the default recipe' }).disabled).toBe(
        true,
      ),
    );
  });
});
