/** Parameters of a method and kinds of demand in a planner's words. */
import type { Schema } from '../../api/client';
import { fixed, periods } from '../../ui/format';

const NAMES: Record<string, string> = {
  alpha: 'level weight α',
  beta: 'trend weight β',
  gamma: 'season weight γ',
  phi: 'damping φ',
  level: 'starting level',
  trend: 'starting trend',
  mean: 'mean',
  intercept: 'intercept',
  slope: 'slope a period',
  curvature: 'curvature',
  window: 'periods in the window',
  size: 'size of a sale',
  interval: 'periods between sales',
  probability: 'chance of a sale',
  'shared-season': 'season of the group',
  drift: 'drift',
  constant: 'constant',
};

export interface Explained {
  /** As the notation has it. */
  key: string;
  name: string;
  value: number;
  meaning?: string;
}

export function parameterName(name: string): string {
  const harmonic = /^(sin|cos)(\d+)$/.exec(name);
  if (harmonic) return `${harmonic[1]} of ${harmonic[2] === '1' ? 'the year' : `1/${harmonic[2]} year`}`;
  const lag = /^(s?)(ar|ma)(\d+)$/.exec(name);
  if (lag) {
    const what = lag[2]?.toUpperCase();
    return lag[1]
      ? `seasonal ${what}, ${lag[3] === '1' ? 'one season' : `${lag[3]} seasons`} back`
      : `${what}, lag ${lag[3]}`;
  }
  return NAMES[name] ?? name;
}

/** How many of the last periods carry 90 % of the weight of simple smoothing. */
export function periodsOfWeight(alpha: number): number {
  return alpha >= 0.9 ? 1 : Math.ceil(Math.log(0.1) / Math.log(1 - alpha));
}

/** After how many periods a damped trend has lost half of its slope. */
export function halfLife(phi: number): number {
  return Math.ceil(Math.log(0.5) / Math.log(phi));
}

/** "Seasonal, lumpy. 60 % empty weeks since the first sale; up to the last one, one week in 2.5 had a sale." */
export function kindSentence(kind: Schema['Kind'], frequency: string): string {
  const many = periods(frequency);
  const name = `${kind.words.charAt(0).toUpperCase()}${kind.words.slice(1)}.`;
  if (kind.empty === null) return name;
  const empty = `${(100 * kind.empty).toFixed(0)} % empty ${many} since the first sale`;
  const often =
    kind.interval !== null && kind.interval > 1.05
      ? `; up to the last one, one ${periods(frequency, 1)} in ${kind.interval.toFixed(1)} had a sale`
      : '';
  return `${name} ${empty}${often}.`;
}

/** How far back a weight of smoothing reaches, counted in what it is taken up at: periods, or sales. */
export function reach(weight: number, counted: string, nothing: string): string {
  if (weight <= 0.002) return nothing;
  const n = periodsOfWeight(weight);
  return n === 1
    ? `nearly all weight on the last ${counted}`
    : `90 % of the weight on the last ${n} ${counted}s`;
}

/** Weights of methods for slow movers: sizes, and gaps or the chance of a sale. */
function slowMover(name: string, value: number, noun: string, byChance: boolean): Explained | null {
  if (name === 'alpha')
    return {
      key: name,
      name: 'size weight α',
      value,
      meaning: reach(value, 'sale', 'sizes stay as the first'),
    };
  if (name !== 'beta') return null;
  return byChance
    ? {
        key: name,
        name: 'chance weight β',
        value,
        meaning: reach(value, noun, 'the chance stays as at the start'),
      }
    : { key: name, name: 'gap weight β', value, meaning: reach(value, 'sale', 'gaps stay as the first') };
}

export function explain(parameters: { name: string; value: number }[], noun: string): Explained[] {
  const names = new Set(parameters.map(({ name }) => name));
  return parameters
    .filter(({ name }) => !name.startsWith('season'))
    .map(({ name, value }) => {
      const slow = names.has('size') ? slowMover(name, value, noun, names.has('probability')) : null;
      if (slow) return slow;
      const explained: Explained = { key: name, name: parameterName(name), value };
      if (name === 'alpha') explained.meaning = reach(value, noun, 'the level stays where it started');
      const pooled = /^pooled (log )?(.+)$/.exec(name);
      if (pooled) {
        explained.name = `${pooled[2]}, pooled`;
        explained.meaning = pooled[1]
          ? `1 % more ${pooled[2]}, ${Math.abs(value).toFixed(1)} % ${value < 0 ? 'less' : 'more'} demand`
          : `times ${fixed(Math.exp(value), 2)} where it is on`;
      }
      if (name === 'shared-season')
        explained.meaning = `${value < 0 ? 'less' : 'plus'} ${fixed(Math.abs(value / 10), 1)} units in a ${noun} in which the group sells 10 % more than usual`;
      if (name === 'phi' && value < 1)
        explained.meaning = `half of the slope is gone after ${halfLife(value)} ${noun}s`;
      return explained;
    });
}
