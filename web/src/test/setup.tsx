/**
 * All files of tests share one page, which is five times as fast. So pictures are stood in for here, once for all, and
 * after every test the page, what stood in for the server, and what the browser kept are gone.
 */
import { cleanup, configure } from '@testing-library/react';
import { afterEach, beforeEach, vi } from 'vitest';
import { drawn } from './drawn';

vi.mock('../charts/chart', () => ({
  Chart: ({ label, options }: { label: string; options: { series: [] } }) => {
    drawn.push(options);
    return <div role="img" aria-label={label} />;
  },
}));

configure({ asyncUtilTimeout: 10_000 }); // what a test waits for may come late on a busy machine

beforeEach(() => {
  vi.stubGlobal(
    'ResizeObserver',
    class {
      observe() {}
      disconnect() {}
    },
  ); // jsdom lays nothing out
});

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
  localStorage.clear();
  drawn.length = 0;
});
