/** An ARIMA form as steppers have it, and its text. */

export interface Orders {
  p: number;
  d: number;
  q: number;
  P: number;
  D: number;
  Q: number;
  /** Constant: mean, drift or none, as the form allows. */
  constant: boolean;
  harmonics: number;
  /** Entries of x(...), as written. */
  drivers: string;
  scale: '' | 'log' | 'boxcox(0.5)' | 'boxcox(best)';
}

export const NO_ORDERS: Orders = {
  p: 1,
  d: 0,
  q: 1,
  P: 0,
  D: 0,
  Q: 0,
  constant: true,
  harmonics: 0,
  drivers: '',
  scale: '',
};

export const MOST: Record<'p' | 'd' | 'q' | 'P' | 'D' | 'Q' | 'harmonics', number> = {
  p: 8,
  d: 2,
  q: 8,
  P: 3,
  D: 1,
  Q: 3,
  harmonics: 12,
};

export function textOf(o: Orders, m: number): string {
  const differenced = o.d + o.D > 0;
  const option = differenced && o.constant ? '; drift' : !differenced && !o.constant ? '; mean=0' : '';
  const seasonal = o.P + o.D + o.Q > 0 ? `(${o.P},${o.D},${o.Q})${m}` : '';
  const harmonics = o.harmonics ? ` + harmonics(${o.harmonics})` : '';
  const drivers = o.drivers.trim() ? ` + x(${o.drivers.trim()})` : '';
  return `${o.scale ? `${o.scale} ` : ''}arima(${o.p},${o.d},${o.q}${option})${seasonal}${harmonics}${drivers}`;
}

const FORM =
  /^(?:(log|boxcox\(0\.5\)|boxcox\(best\)) )?arima\((\d),(\d),(\d)(?:; (drift|mean=0))?\)(?:\((\d),(\d),(\d)\)(\d+))?(?: \+ harmonics\((\d+)\))?(?: \+ x\(([^()]*)\))?$/;

/** The steppers that say a text; null where it says more than they can. */
export function ordersOf(text: string, m: number): Orders | null {
  const found = FORM.exec(text);
  if (!found) return null;
  const [, scale, p, d, q, option, P, D, Q, period, harmonics, drivers] = found;
  if (period !== undefined && Number(period) !== m) return null;
  const differenced = Number(d) + Number(D ?? 0) > 0;
  return {
    p: Number(p),
    d: Number(d),
    q: Number(q),
    P: Number(P ?? 0),
    D: Number(D ?? 0),
    Q: Number(Q ?? 0),
    constant: differenced ? option === 'drift' : option !== 'mean=0',
    harmonics: Number(harmonics ?? 0),
    drivers: drivers ?? '',
    scale: (scale ?? '') as Orders['scale'],
  };
}
