/** Months, quarters and years that periods ahead make up. Pure: tested without a browser. */

export interface Span {
  label: string;
  first: number;
  last: number;
}

export interface Spans {
  unit: string;
  spans: Span[];
}

const UNITS = ['Months', 'Quarters', 'Years'] as const;

/** The day that says which month a period belongs to, in UTC: of a week its Thursday, as with years; of four weeks the
 * middle. */
function dayOf(label: string): Date | null {
  const week = /^(\d{4})-W(\d{2})(\/P4W)?$/.exec(label);
  if (week) {
    const fourth = new Date(Date.UTC(Number(week[1]), 0, 4)); // in the first week
    const monday = fourth.getTime() - ((fourth.getUTCDay() + 6) % 7) * 864e5;
    return new Date(monday + ((Number(week[2]) - 1) * 7 + (week[3] ? 14 : 3)) * 864e5);
  }
  const quarter = /^(\d{4})-Q([1-4])$/.exec(label);
  if (quarter) return new Date(Date.UTC(Number(quarter[1]), 3 * (Number(quarter[2]) - 1), 1));
  const day = /^(\d{4})-(\d{2})(?:-(\d{2}))?$/.exec(label);
  return day ? new Date(Date.UTC(Number(day[1]), Number(day[2]) - 1, Number(day[3] ?? 1))) : null;
}

/** How fine periods are: 0 below months, 1 months, 2 quarters; 3 for what has none of these. */
function rank(label: string): number {
  if (dayOf(label) === null) return 3;
  if (/Q/.test(label)) return 2;
  return /^\d{4}-\d{2}$|P4W$/.test(label) ? 1 : 0;
}

/** The units that are longer than a period, with those of their spans that lie ahead, whole or in part. */
export function spansOf(ahead: string[]): Spans[] {
  const days = ahead.map(dayOf);
  return UNITS.slice(rank(ahead[0] ?? '')).map((unit) => {
    const spans: Span[] = [];
    days.forEach((day, lead) => {
      if (!day) return;
      const year = day.getUTCFullYear();
      const label =
        unit === 'Years'
          ? `${year}`
          : unit === 'Quarters'
            ? `Q${Math.floor(day.getUTCMonth() / 3) + 1} ${year}`
            : day.toLocaleString('en', { month: 'long', year: 'numeric', timeZone: 'UTC' });
      const open = spans.at(-1);
      if (open?.label === label) open.last = lead;
      else spans.push({ label, first: lead, last: lead });
    });
    return { unit, spans };
  });
}
