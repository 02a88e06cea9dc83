import { type Schema, sendForm } from '../../api/client';

export function upload(sales: File, attributes: File[]): Promise<Schema['Upload']> {
  const form = new FormData();
  form.append('sales', sales);
  for (const file of attributes) form.append('attributes', file);
  return sendForm('/api/uploads/', form);
}
