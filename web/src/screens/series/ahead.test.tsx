import { fireEvent, render, screen, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schema } from '../../api/client';
import { Ahead } from './ahead';

const one: Schema['Try'] = {
  text: 'naive',
  problem: '',
  model: 'naive',
  forecast: [10, 10, 10],
  total_forecast: [10, 20, 30],
  // widest first, as the server has them
  bands: [
    { level: 80, low: [4, 3, 2], high: [16, 17, 18] },
    { level: 50, low: [7, 6, 6], high: [13, 14, 14] },
  ],
  totals: [
    { level: 80, low: [4, 9, 13], high: [16, 31, 47] },
    { level: 50, low: [7, 14, 21], high: [13, 26, 39] },
  ],
  measures: {},
};

const cells = () =>
  screen
    .getAllByRole('row')
    .map((row) =>
      [...within(row).queryAllByRole('columnheader'), ...within(row).queryAllByRole('cell')].map(
        (cell) => cell.textContent,
      ),
    );

describe('the forecast in figures', () => {
  it('shows each week with its bands, narrowest first', () => {
    render(<Ahead one={one} index={1} periods={['a', 'b', 'c']} noun="week" />);
    expect(screen.getByRole('heading').textContent).toBe('Forecast of B');
    expect(cells()).toEqual([
      ['Period', 'Forecast', '50 % from', '50 % to', '80 % from', '80 % to'],
      ['a', '10.0', '7.0', '13.0', '4.0', '16.0'],
      ['b', '10.0', '6.0', '14.0', '3.0', '17.0'],
      ['c', '10.0', '6.0', '14.0', '2.0', '18.0'],
    ]);
  });

  it('shows what an order for the first weeks has to cover, with the bands of the sum', () => {
    render(<Ahead one={one} index={0} periods={['a', 'b', 'c']} noun="week" />);
    fireEvent.click(screen.getByRole('button', { name: 'all weeks up to it' }));
    expect(cells().slice(1)).toEqual([
      ['a', '10.0', '7.0', '13.0', '4.0', '16.0'],
      ['a to b', '20.0', '14.0', '26.0', '9.0', '31.0'],
      ['a to c', '30.0', '21.0', '39.0', '13.0', '47.0'],
    ]);
    expect(screen.getByText(/those of the sum, not the sums of the bands/)).toBeDefined();
  });
});
