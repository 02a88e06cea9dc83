import { ApiError, cookie, type Schema } from '../../api/client';

/** Send the files as a form; the typed client has no word for files. */
export async function upload(sales: File, attributes: File[]): Promise<Schema['Upload']> {
  const form = new FormData();
  form.append('sales', sales);
  for (const file of attributes) form.append('attributes', file);
  const answer = await fetch('/api/uploads/', {
    method: 'POST',
    body: form,
    headers: { 'X-CSRFToken': cookie('csrftoken') },
  });
  const data = await answer.json().catch(() => ({}));
  if (!answer.ok) throw new ApiError(answer.status, data.detail ?? `The server answered ${answer.status}.`);
  return data;
}
