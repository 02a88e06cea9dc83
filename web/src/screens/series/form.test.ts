import { describe, expect, it } from 'vitest';
import { controlsOf, PLAIN, rangeOf, textOf, weightsOf } from './form';

describe('controls and notation', () => {
  it.each([
    'ets(A,Ad,M)',
    'ets(A,A,N; start=first, alpha=0.4, beta=0.1)',
    'ets(A,N,A; start=season, tune=MAE)',
    'ets(A,N,N; alpha=0.3, level=41)',
    'ets(A,N,N) + shared-season',
    'ets(A,N,N; alpha=0.3) + shared-season + pooled(log price, promotion)',
    'ets(best) + pooled(price)',
    'ets(best)',
    'ets(best) + harmonics(best)',
    'moving-average(6)',
    'moving-average(best)',
    'trend(exponential; indices)',
    'seasonal-naive',
    'tsb',
  ])('say the same both ways: %s', (text) => {
    const controls = controlsOf(text);
    expect(controls.family).not.toBe('written');
    expect(textOf(controls)).toBe(text);
  });

  it('keeps a text that the controls cannot say', () => {
    const controls = controlsOf('arima(1,0,1) + harmonics(3)');
    expect([controls.family, textOf(controls)]).toEqual(['written', 'arima(1,0,1) + harmonics(3)']);
  });

  it('gives each form its weights, and each weight the range that the others leave', () => {
    expect(weightsOf({ trend: 'Ad', season: 'A' })).toEqual(['alpha', 'beta', 'gamma', 'phi']);
    const c = { ...PLAIN, weights: { alpha: 0.3 } };
    expect([rangeOf('beta', c), rangeOf('gamma', c), rangeOf('phi', c)]).toEqual([
      [0, 0.3],
      [0, 0.7],
      [0.8, 0.98],
    ]);
  });
});
