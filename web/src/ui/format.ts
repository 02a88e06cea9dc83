/** Numbers and times as the screens write them. */
const whole = new Intl.NumberFormat('en-GB', { maximumFractionDigits: 0 });

export const count = (value: number): string => whole.format(value);

/** One formatter for each number of digits: making one takes longer than a thousand uses of it. */
const formats = new Map<number, Intl.NumberFormat>();

export function fixed(value: number | null | undefined, digits: number): string {
  if (value === null || value === undefined) return '–';
  let format = formats.get(digits);
  if (!format) {
    format = new Intl.NumberFormat('en-GB', {
      minimumFractionDigits: digits,
      maximumFractionDigits: digits,
      signDisplay: 'negative', // no minus where all digits round to zero
    });
    formats.set(digits, format);
  }
  return format.format(value).replace('-', '−');
}

export function signed(value: number | null | undefined, digits: number): string {
  if (value === null || value === undefined) return '–';
  const text = fixed(Math.abs(value), digits);
  if (Number(text) === 0) return text;
  return `${value < 0 ? '−' : '+'}${text}`;
}

/** A bias, actual minus forecast, with its sign in words: which way is which is asked every time. */
export function biased(value: number | null | undefined, digits: number): string {
  const text = signed(value, digits);
  if (!value || Number(fixed(Math.abs(value), digits)) === 0) return text;
  return `${text} ${value < 0 ? 'too high' : 'too low'}`;
}

export function share(value: number | null | undefined): string {
  return value === null || value === undefined ? '–' : fixed(100 * value, 1);
}

/** A chance, where three digits are enough. */
export function pValue(value: number | null): string {
  if (value === null) return '–';
  return value < 0.001 ? '< 0.001' : fixed(value, 3);
}

export function seconds(value: number): string {
  if (value < 90) return `${Math.max(1, Math.round(value))} s`;
  return `${Math.round(value / 60)} min`;
}

export function when(text: string): string {
  return new Date(text).toLocaleString('en-GB', {
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
  });
}

export function megabytes(bytes: number): string {
  return bytes < 1_000_000 ? `${count(Math.ceil(bytes / 1000))} kB` : `${fixed(bytes / 1_000_000, 1)} MB`;
}

const NOUNS: Record<string, string> = {
  D: 'day',
  W: 'week',
  '4W': 'four-week period',
  M: 'month',
  Q: 'quarter',
  Y: 'year',
};

export function periods(frequency: string, n = 2): string {
  const noun = NOUNS[frequency] ?? 'period';
  return n === 1 ? noun : `${noun}s`;
}
