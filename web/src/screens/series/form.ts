/** What the controls of a try hold, and the notation that says the same. */

export const FAMILIES = [
  { value: 'ets', label: 'smoothing' },
  { value: 'best', label: 'smoothing, best by AICc' },
  { value: 'seasonal-naive', label: 'last season' },
  { value: 'naive', label: 'last value' },
  { value: 'mean', label: 'mean' },
  { value: 'drift', label: 'drift' },
  { value: 'moving-average', label: 'moving average' },
  { value: 'trend', label: 'trend line' },
  { value: 'theta', label: 'theta' },
  { value: 'croston', label: 'Croston' },
  { value: 'sba', label: 'Croston, corrected' },
  { value: 'tsb', label: 'Croston, by chance' },
  { value: 'written', label: 'written by hand' },
] as const;

export type Family = (typeof FAMILIES)[number]['value'];
export type Weight = 'alpha' | 'beta' | 'gamma' | 'phi';

export interface Controls {
  family: Family;
  error: 'A' | 'M';
  trend: 'N' | 'A' | 'Ad';
  season: 'N' | 'A' | 'M';
  /** Given weights; what is missing is estimated. */
  weights: Partial<Record<Weight, number>>;
  /** Where the recursion starts: estimated, the first value, the first season, or a given level. */
  start: 'estimated' | 'first' | 'season' | 'level';
  level: number;
  tune: '' | 'MSE' | 'MAE' | 'MAPE';
  /** A season outside of the states. */
  outside: '' | 'harmonics(best)' | 'harmonics(2)' | 'harmonics(3)' | 'shared-season';
  /** Effects of drivers that series share, as written: pooled(log price, promotion). */
  pooled: string;
  window: number | null;
  shape: 'linear' | 'quadratic' | 'exponential';
  indices: boolean;
  text: string;
}

export const PLAIN: Controls = {
  family: 'ets',
  error: 'A',
  trend: 'N',
  season: 'N',
  weights: {},
  start: 'estimated',
  level: 0,
  tune: '',
  outside: '',
  pooled: '',
  window: 4,
  shape: 'linear',
  indices: false,
  text: '',
};

/** Weights that a form has, in the order of the notation. */
export function weightsOf(c: Pick<Controls, 'trend' | 'season'>): Weight[] {
  const found: Weight[] = ['alpha'];
  if (c.trend !== 'N') found.push('beta');
  if (c.season !== 'N') found.push('gamma');
  if (c.trend === 'Ad') found.push('phi');
  return found;
}

/** The range of a weight that the form allows, given the others. */
export function rangeOf(weight: Weight, c: Controls): [number, number] {
  const alpha = c.weights.alpha;
  if (weight === 'beta') return [0, alpha ?? 1];
  if (weight === 'gamma') return [0, alpha === undefined ? 1 : 1 - alpha];
  return weight === 'phi' ? [0.8, 0.98] : [0, 1];
}

export function textOf(c: Controls): string {
  if (c.family === 'written') return c.text;
  const terms = (form: string) => [form, c.outside, c.pooled].filter(Boolean).join(' + ');
  if (c.family === 'best') return terms('ets(best)');
  if (c.family === 'moving-average') return `moving-average(${c.window ?? 'best'})`;
  if (c.family === 'trend') return `trend(${c.shape}${c.indices ? '; indices' : ''})`;
  if (c.family !== 'ets') return c.family;
  const byHand = c.outside === '';
  const options = [
    ...(byHand && (c.start === 'first' || c.start === 'season') ? [`start=${c.start}`] : []),
    ...(byHand && c.tune && c.start !== 'level' ? [`tune=${c.tune}`] : []),
    ...weightsOf(c)
      .filter((name) => c.weights[name] !== undefined)
      .map((name) => `${name}=${c.weights[name]}`),
    ...(c.start === 'level' ? [`level=${c.level}`] : []),
  ];
  const form = `${c.error},${c.trend},${c.season}`;
  const ets = options.length ? `ets(${form}; ${options.join(', ')})` : `ets(${form})`;
  return terms(ets);
}

/** The controls that say a text, as far as they can; any other text is shown as it is written. */
export function controlsOf(text: string): Controls {
  const found = read(text);
  return found && textOf(found) === text ? found : { ...PLAIN, family: 'written', text };
}

function read(text: string): Controls | null {
  const plain = FAMILIES.find((one) => one.value === text);
  if (plain) return { ...PLAIN, family: plain.value };
  const moving = /^moving-average\((\d+|best)\)$/.exec(text);
  if (moving)
    return { ...PLAIN, family: 'moving-average', window: moving[1] === 'best' ? null : Number(moving[1]) };
  const trend = /^trend\((linear|quadratic|exponential)(; indices)?\)$/.exec(text);
  if (trend)
    return {
      ...PLAIN,
      family: 'trend',
      shape: trend[1] as Controls['shape'],
      indices: trend[2] !== undefined,
    };
  const best = /^ets\(best\)(?: \+ ([^+]+?))??(?: \+ (pooled\([^)]*\)))?$/.exec(text);
  if (best)
    return {
      ...PLAIN,
      family: 'best',
      outside: (best[1] ?? '') as Controls['outside'],
      pooled: best[2] ?? '',
    };
  const ets =
    /^ets\(([AM]),(N|A|Ad),([NAM])(?:; ([^)]*))?\)(?: \+ ([^+]+?))??(?: \+ (pooled\([^)]*\)))?$/.exec(text);
  if (!ets) return null;
  const c: Controls = {
    ...PLAIN,
    error: ets[1] as Controls['error'],
    trend: ets[2] as Controls['trend'],
    season: ets[3] as Controls['season'],
    outside: (ets[5] ?? '') as Controls['outside'],
    pooled: ets[6] ?? '',
    weights: {},
  };
  for (const option of (ets[4] ?? '').split(', ').filter(Boolean)) {
    const [name, value = ''] = option.split('=');
    if (name === 'start') c.start = value as Controls['start'];
    else if (name === 'tune') c.tune = value as Controls['tune'];
    else if (name === 'level') {
      c.start = 'level';
      c.level = Number(value);
    } else c.weights[name as Weight] = Number(value);
  }
  return c;
}
