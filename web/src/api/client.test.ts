import { afterEach, describe, expect, it, vi } from 'vitest';
import { ApiError, api, sendForm, Unreachable } from './client';

afterEach(() => vi.unstubAllGlobals());

describe('a server that does not answer', () => {
  const away = () => vi.stubGlobal('fetch', async () => Promise.reject(new TypeError('Failed to fetch')));

  it('is said in a sentence', async () => {
    away();
    await expect(api.GET('/api/session/')).rejects.toThrow(
      /^The server does not answer just now. Try it again in a moment.$/,
    );
  });

  it('leaves open whether what was done last is done', async () => {
    away();
    for (const asked of [
      api.DELETE('/api/comments/{id}/', { params: { path: { id: 1 } } }),
      sendForm('/api/uploads/', new FormData()),
    ])
      await expect(asked).rejects.toThrow(/done or not: look before/);
  });

  it('is another matter than an answer that refuses, or a page that was left', async () => {
    vi.stubGlobal('fetch', async () => new Response('{"detail": "No."}', { status: 409 }));
    const refused = sendForm('/api/uploads/', new FormData());
    await expect(refused).rejects.toEqual(new ApiError(409, 'No.'));
    vi.stubGlobal('fetch', async () => Promise.reject(new DOMException('left', 'AbortError')));
    await expect(api.GET('/api/session/')).rejects.not.toBeInstanceOf(Unreachable);
  });
});
