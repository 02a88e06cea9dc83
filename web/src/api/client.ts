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

/** Nothing came back: no network, or a server that is being started again. */
export class Unreachable extends Error {
  constructor(changes: boolean) {
    const unsure = changes ? ' What you did last may be done or not: look before you do it again.' : '';
    super(`The server does not answer just now. Try it again in a moment.${unsure}`);
  }
}

/** `fetch` that says in a sentence where nothing came back. Looked up when called, so that tests can stand in for it. */
async function sent(to: Request | string, init?: RequestInit): Promise<Response> {
  try {
    return await globalThis.fetch(to, init);
  } catch (error) {
    const method = to instanceof Request ? to.method : init?.method;
    if (error instanceof TypeError) throw new Unreachable(method !== undefined && method !== 'GET');
    throw error;
  }
}

function cookie(name: string): string {
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
    throw await problemOf(response);
  },
};

async function problemOf(response: Response): Promise<ApiError> {
  let sentence = `The server answered ${response.status}.`;
  let errors: Record<string, unknown> = {};
  try {
    const problem = await response.clone().json();
    if (typeof problem.detail === 'string') sentence = problem.detail;
    if (typeof problem.errors === 'object' && problem.errors) errors = problem.errors;
  } catch {
    // not a problem document: the sentence above stands
  }
  return new ApiError(response.status, sentence, errors);
}

export const api = createClient<paths>({
  baseUrl: window.location.origin,
  fetch: (request) => sent(request),
});
api.use(safe);

/** The body of an answer that is known to be there, because every failure throws. */
export async function body<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T;
}

/** Send files as a form; the typed client has no word for files. */
export async function sendForm<T>(path: string, form: FormData): Promise<T> {
  const headers = { 'X-CSRFToken': cookie('csrftoken') };
  const answer = await sent(path, { method: 'POST', body: form, headers });
  if (!answer.ok) throw await problemOf(answer);
  return answer.json();
}
