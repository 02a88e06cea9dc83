import { describe, expect, it } from 'vitest';
import { NO_ORDERS, ordersOf, textOf } from './orders';

describe('orders', () => {
  it('writes what the steppers say and reads it back', () => {
    for (const text of [
      'arima(1,0,1)',
      'arima(2,0,0; mean=0)',
      'arima(0,1,1; drift)(0,1,1)12',
      'log arima(0,1,1)(0,1,1)12',
      'boxcox(0.5) arima(1,0,1) + harmonics(3) + x(log price, promotion -1..1)',
    ]) {
      const read = ordersOf(text, 12);
      expect(read && textOf(read, 12)).toBe(text);
    }
    expect(textOf({ ...NO_ORDERS, d: 1 }, 52)).toBe('arima(1,1,1; drift)');
  });

  it('leaves to the text field what steppers cannot say', () => {
    for (const text of ['arima(best)', 'ets(A,N,N)', 'arima(3,0,0; ar2=0)', 'arima(1,0,0)(1,0,0)4'])
      expect(ordersOf(text, 12)).toBeNull();
  });
});
