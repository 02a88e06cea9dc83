import { describe, expect, it } from 'vitest';
import { spansOf } from './spans';

describe('months, quarters and years ahead', () => {
  it('hold the weeks whose Thursday lies in them', () => {
    // 2026 has 53 weeks; the Thursday of 2026-W53 is 31 December, that of 2027-W01 is 7 January
    const [months, quarters, years] = spansOf(['2026-W47', '2026-W48', '2026-W49', '2026-W53', '2027-W01']);
    expect(months).toEqual({
      unit: 'Months',
      spans: [
        { label: 'November 2026', first: 0, last: 1 },
        { label: 'December 2026', first: 2, last: 3 },
        { label: 'January 2027', first: 4, last: 4 },
      ],
    });
    expect(quarters?.spans).toEqual([
      { label: 'Q4 2026', first: 0, last: 3 },
      { label: 'Q1 2027', first: 4, last: 4 },
    ]);
    expect(years?.spans.map((one) => [one.label, one.last])).toEqual([
      ['2026', 3],
      ['2027', 4],
    ]);
  });

  it('are only those that are longer than a period', () => {
    expect(spansOf(['2026-11-30', '2026-12-01'])[0]?.spans.map((one) => one.label)).toEqual([
      'November 2026',
      'December 2026',
    ]);
    expect(spansOf(['2026-11', '2026-12', '2027-01']).map((one) => [one.unit, one.spans.length])).toEqual([
      ['Quarters', 2],
      ['Years', 2],
    ]);
    expect(spansOf(['2026-W45/P4W', '2026-W49/P4W', '2026-W53/P4W'])).toEqual([
      {
        unit: 'Quarters',
        spans: [
          { label: 'Q4 2026', first: 0, last: 1 },
          { label: 'Q1 2027', first: 2, last: 2 },
        ],
      },
      {
        unit: 'Years',
        spans: [
          { label: '2026', first: 0, last: 1 },
          { label: '2027', first: 2, last: 2 },
        ],
      },
    ]);
    expect(spansOf(['2026-Q4', '2027-Q1']).map((one) => one.unit)).toEqual(['Years']);
    expect(spansOf(['2026', '2027'])).toEqual([]);
    expect(spansOf(['151', '152'])).toEqual([]);
  });
});
