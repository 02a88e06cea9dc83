import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schema } from '../api/client';
import { serve, show } from '../test/serve';
import { Comments } from './comments';

describe('comments', () => {
  it('are said, listed with their node, and taken back by who said them', async () => {
    const comments: Schema['Comment'][] = [
      {
        id: 1,
        node: 'n1',
        node_name: 'Herbs',
        text: 'Too high?',
        made_by: 'mara',
        made_at: '2026-11-30T10:00:00Z',
      },
    ];
    const calls = serve(({ method, path, body }) => {
      if (path === '/api/session/') return { body: { user: 'ines', demo: null } };
      if (method === 'POST') {
        const { text } = body as { text: string };
        comments.unshift({
          id: 2,
          node: null,
          node_name: '',
          text,
          made_by: 'ines',
          made_at: '2026-11-30T11:00:00Z',
        });
      }
      if (method === 'DELETE') comments.shift();
      return method === 'DELETE' ? { status: 204 } : { body: comments };
    });
    show(<Comments portfolio={1} study={3} />, '/', '/');
    expect((await screen.findByRole('link', { name: 'Herbs' })).getAttribute('href')).toBe(
      '/p/1/s/3/series/n1',
    );
    expect(screen.queryByRole('button', { name: 'take back' })).toBeNull();
    fireEvent.change(screen.getByLabelText('A comment on the whole'), { target: { value: 'As agreed.' } });
    fireEvent.click(screen.getByRole('button', { name: 'Say it' }));
    expect(await screen.findByText('As agreed.')).toBeDefined();
    fireEvent.click(screen.getByRole('button', { name: 'take back' }));
    await waitFor(() => expect(screen.queryByText('As agreed.')).toBeNull());
    expect(calls.some((call) => call.method === 'DELETE' && call.path === '/api/comments/2/')).toBe(true);
  });
});
