import { describe, expect, it } from 'vitest';
import { explain, halfLife, kindSentence, periodsOfWeight } from './explain';

describe('a kind in words', () => {
  it('says how many periods are empty, and how often something sells', () => {
    const kind = { words: 'seasonal, lumpy', interval: 2.51, variation: 0.8, empty: 0.6, window: null };
    expect(kindSentence(kind, 'W')).toBe(
      'Seasonal, lumpy. 60 % empty weeks since the first sale; up to the last one, one week in 2.5 had a sale.',
    );
    expect(kindSentence({ ...kind, words: 'smooth', interval: 1, empty: 0 }, 'M')).toBe(
      'Smooth. 0 % empty months since the first sale.',
    );
    expect(kindSentence({ ...kind, words: 'no sales', empty: null }, 'D')).toBe('No sales.');
  });
});

describe('parameters in words', () => {
  it('counts the periods that carry 90 % of the weight', () => {
    // 1 - (1 - 0.18)^n first reaches 0.9 at n = 12
    expect(periodsOfWeight(0.18)).toBe(12);
    expect(1 - (1 - 0.18) ** 11).toBeLessThan(0.9);
    expect(1 - (1 - 0.18) ** 12).toBeGreaterThanOrEqual(0.9);
  });

  it('counts the periods after which half of the slope is gone', () => {
    expect(halfLife(0.93)).toBe(10);
  });

  it('says what the season of the group and pooled effects do, in units and factors', () => {
    const [season, price, promotion] = explain(
      [
        { name: 'shared-season', value: 24959.5 },
        { name: 'pooled log price', value: -1.125 },
        { name: 'pooled promotion', value: 0.33 },
      ],
      'week',
    );
    expect(season?.meaning).toBe(
      'plus 2,496.0 units in a week in which the group sells 10 % more than usual',
    );
    expect([price?.name, price?.meaning]).toEqual(['price, pooled', '1 % more price, 1.1 % less demand']);
    expect(promotion?.meaning).toBe('times 1.39 where it is on');
    expect(explain([{ name: 'shared-season', value: -20 }], 'month')[0]?.meaning).toContain('less 2.0 units');
  });

  it('counts sales where a weight is taken up at sales alone', () => {
    const said = (parameters: { name: string; value: number }[]) =>
      explain(parameters, 'week').map((one) => [one.name, one.meaning]);
    const weights = [
      { name: 'alpha', value: 0.18 },
      { name: 'beta', value: 0.95 },
      { name: 'size', value: 4 },
    ];
    expect(said([...weights, { name: 'interval', value: 3 }]).slice(0, 2)).toEqual([
      ['size weight α', '90 % of the weight on the last 12 sales'],
      ['gap weight β', 'nearly all weight on the last sale'],
    ]);
    expect(said([...weights, { name: 'probability', value: 0.3 }])[1]).toEqual([
      'chance weight β',
      'nearly all weight on the last week',
    ]);
    expect(said([{ name: 'alpha', value: 0.001 }])[0]?.[1]).toBe('the level stays where it started');
  });

  it('names harmonics and lags, and leaves 52 seasonal states out', () => {
    const found = explain(
      [
        { name: 'alpha', value: 0.001 },
        { name: 'ma1', value: -0.4 },
        { name: 'sma1', value: -0.6 },
        { name: 'cos2', value: 3 },
        { name: 'season1', value: 4 },
      ],
      'week',
    );
    expect(found.map((one) => one.name)).toEqual([
      'level weight α',
      'MA, lag 1',
      'seasonal MA, one season back',
      'cos of 1/2 year',
    ]);
    expect(found[0]?.meaning).toBe('the level stays where it started');
  });

  it('says what pooled effects do to demand', () => {
    const found = explain(
      [
        { name: 'pooled log price', value: -1.12 },
        { name: 'pooled promotion', value: 0.33 },
      ],
      'week',
    );
    expect(found.map((one) => `${one.name}: ${one.meaning}`)).toEqual([
      'price, pooled: 1 % more price, 1.1 % less demand',
      'promotion, pooled: times 1.39 where it is on',
    ]);
  });
});
