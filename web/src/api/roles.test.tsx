import { cleanup, screen, waitFor } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { serve, show } from '../test/serve';
import { useReader } from './roles';

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

function Keep() {
  return (
    <button type="button" disabled={false} {...useReader()}>
      Keep
    </button>
  );
}

describe('what changes something', () => {
  it.each(['reader', 'planner', 'keeper'])('is greyed for a reader alone: %s', async (role) => {
    const calls = serve(() => ({ body: [{ id: 4, name: 'Garden', role }] }));
    show(<Keep />, '/p/:portfolio/plans', '/p/4/plans');
    await waitFor(() => expect(calls).toHaveLength(1));
    const button = screen.getByRole<HTMLButtonElement>('button', { name: 'Keep' });
    await waitFor(() => expect(button.disabled).toBe(role === 'reader'));
    expect(button.title).toBe(role === 'reader' ? 'You are a reader here; planners do this' : '');
  });
});
