/** For tests: a screen at an address, and a server that answers from a list. */
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { render } from '@testing-library/react';
import { MemoryRouter, Route, Routes } from 'react-router';
import { vi } from 'vitest';

export interface Call {
  method: string;
  path: string;
  body: unknown;
}

type Answer = (call: Call) => { status?: number; body?: unknown } | undefined;

/** Answer every request from `answer`; returns the calls as they come. What has no answer is a 404. */
export function serve(answer: Answer): Call[] {
  const calls: Call[] = [];
  vi.stubGlobal('fetch', async (input: Request) => {
    const text = input.method === 'GET' ? '' : await input.text();
    const call = {
      method: input.method,
      path: new URL(input.url).pathname,
      body: text ? JSON.parse(text) : undefined,
    };
    calls.push(call);
    let found = answer(call) ?? { status: 404, body: { detail: `nothing at ${call.path}` } };
    // asked by every screen for the own role; a test that answers all questions alike has no portfolio
    if (call.path === '/api/portfolios/' && !Array.isArray(found.body)) found = { body: [] };
    const status = found.status ?? 200;
    return new Response(status === 204 ? null : JSON.stringify(found.body), {
      status,
      headers: { 'Content-Type': 'application/json' },
    });
  });
  return calls;
}

/** Show `screen` at `address`, which follows `pattern`; other addresses say where they are. */
export function show(screen: React.ReactNode, pattern: string, address: string) {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return render(
    <QueryClientProvider client={client}>
      <MemoryRouter initialEntries={[address]}>
        <Routes>
          <Route path={pattern} element={screen} />
          <Route path="*" element={<p>elsewhere</p>} />
        </Routes>
      </MemoryRouter>
    </QueryClientProvider>,
  );
}
