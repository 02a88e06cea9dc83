/** The one door to the server. Types come from its description, errors as sentences. */
import createClient, { type Middleware } from 'openapi-fetch';
import type { components, paths } from './schema';

export type Schema = components['schemas'];

export class ApiError extends Error {
  readonly status: number;
  /** What is wrong, per field. */
  readonly errors: Record<string, string>;
  constructor(status: number, message: string, errors: Record<string, unknown> = {}) {
    super(message);
    this.status = status;
    this.errors = Object.fromEntries(
      Object.entries(errors).map(([field, found]) => [field, String([found].flat()[0])]),
    );
  }
}

export function cookie(name: string): string {
  const found = document.cookie.split('; ').find((part) => part.startsWith(`${name}=`));
  return found ? decodeURIComponent(found.slice(name.length + 1)) : '';
}

const safe: Middleware = {
  onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('X-CSRFToken', cookie('csrftoken'));
    return request;
  },
  async onResponse({ response }) {
    if (response.ok) return response;
    let sentence = `The server answered ${response.status}.`;
    let errors: Record<string, unknown> = {};
    try {
      const problem = await response.clone().json();
      if (typeof problem.detail === 'string') sentence = problem.detail;
      if (typeof problem.errors === 'object' && problem.errors) errors = problem.errors;
    } catch {
      // not a problem document: the sentence above stands
    }
    throw new ApiError(response.status, sentence, errors);
  },
};

export const api = createClient<paths>({
  baseUrl: window.location.origin,
  fetch: (request) => globalThis.fetch(request), // looked up when called, so that tests can stand in for the server
});
api.use(safe);

/** The body of an answer that is known to be there, because every failure throws. */
export async function body<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T;
}
