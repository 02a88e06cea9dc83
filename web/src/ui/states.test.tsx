import { cleanup, render, screen } from '@testing-library/react';
import { afterEach, expect, it } from 'vitest';
import { Refused } from './states';

afterEach(cleanup);

it('says why the last act was refused, and nothing once a later one went well', () => {
  const early = { error: new Error('Too early.'), submittedAt: 1 };
  const late = { error: new Error('Too late.'), submittedAt: 2 };
  const { rerender } = render(<Refused of={[late, early]} also="Nothing was changed." />);
  expect(screen.getByRole('alert').textContent).toBe('Too late. Nothing was changed.');
  rerender(<Refused of={[early, { error: null, submittedAt: 3 }, late]} />);
  expect(screen.queryByRole('alert')).toBeNull();
});
