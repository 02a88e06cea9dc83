/** How far down each way of telling nodes apart levels are shown. */
import type { Schema } from '../../api/client';

type Level = Pick<Schema['StructureLevel'], 'labels'>;

/** Labels along each way, from the coarsest to the finest, as the levels have them; none where levels have other ways. */
export function waysOf(levels: Level[]): string[][] {
  const n = levels[0]?.labels.length ?? 0;
  return Array.from({ length: n }, (_, way) => [
    ...new Set(levels.filter((one) => one.labels.length === n).map((one) => one.labels[way] ?? '')),
  ]);
}

/** Which levels stay when each way is folded below a label; what has other ways stays. */
export function unfolded(levels: Level[], ways: string[][], folds: number[]): boolean[] {
  return levels.map(
    (level) =>
      level.labels.length !== ways.length ||
      ways.every((labels, way) => labels.indexOf(level.labels[way] ?? '') <= (folds[way] ?? labels.length)),
  );
}

/** Folds with which at most so many levels stay: the longest way is folded first. */
export function firstFolds(levels: Level[], ways: string[][], most: number): number[] {
  const folds = ways.map((labels) => labels.length - 1);
  const shown = () => unfolded(levels, ways, folds).filter(Boolean).length;
  while (shown() > most && Math.max(...folds) > 0) {
    const longest = folds.indexOf(Math.max(...folds));
    folds[longest] = (folds[longest] ?? 1) - 1;
  }
  return folds;
}

/** Above each level that stays, its nearest levels that stay, by their places among those. */
export function aboveOf(above: number[][], stays: boolean[]): number[][] {
  const place = stays.map((_, i) => stays.slice(0, i).filter(Boolean).length);
  const nearest = (i: number): number[] =>
    (above[i] ?? []).flatMap((j) => (stays[j] ? [place[j] ?? 0] : nearest(j)));
  return above.flatMap((_, i) => (stays[i] ? [[...new Set(nearest(i))]] : []));
}
