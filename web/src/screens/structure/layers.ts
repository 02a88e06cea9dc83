/** Levels in layers: each one below all that it is a part of. */
export interface Placed {
  level: number;
  layer: number;
  /** From left to right within its layer. */
  at: number;
}

export function layersOf(above: number[][]): Placed[] {
  const layer: number[] = [];
  const depth = (i: number): number => {
    const known = layer[i];
    if (known !== undefined) return known;
    const own = Math.max(-1, ...(above[i] ?? []).map(depth)) + 1;
    layer[i] = own;
    return own;
  };
  const all = above.map((_, i) => depth(i));
  const last = Math.max(0, ...all);
  // what lies below nothing and is not the total (nodes that gather others) stands just above the series
  const placed = all.map((own, i) => (i > 0 && (above[i] ?? []).length === 0 ? Math.max(last - 1, 1) : own));
  const taken = new Map<number, number>();
  return placed.map((own, level) => {
    const at = taken.get(own) ?? 0;
    taken.set(own, at + 1);
    return { level, layer: own, at };
  });
}
