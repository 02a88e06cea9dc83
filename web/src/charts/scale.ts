/** Round axis limits, and names at the ends of lines that make room for each other. */

/** Limits and step of an axis that holds all values on about `parts` round steps. */
export function roundAxis(values: number[], parts = 5): { min: number; max: number; interval: number } {
  const low = Math.min(...values);
  const high = Math.max(...values);
  if (!Number.isFinite(low) || high <= low) return { min: low - 1 || 0, max: high + 1 || 1, interval: 1 };
  const rough = (high - low) / parts;
  const power = 10 ** Math.floor(Math.log10(rough));
  const interval = power * ([1, 2, 2.5, 5].find((nice) => nice * power >= rough) ?? 10);
  const clean = (value: number) => Number(value.toPrecision(12)); // 3 * 0.2 is 0.6, not 0.6000000000000001
  return {
    min: clean(Math.floor(low / interval) * interval),
    max: clean(Math.ceil(high / interval) * interval),
    interval,
  };
}

/** The values, moved apart to at least `gap` while keeping their order, the first of equals on top, and, as far as can
 * be, their place; none below `floor`. */
export function spread(values: number[], gap: number, floor = Number.NEGATIVE_INFINITY): number[] {
  const order = values.map((_, i) => i).sort((a, b) => (values[a] ?? 0) - (values[b] ?? 0) || b - a);
  const placed = [...values];
  // groups of names that touch are centred on the mean of their values
  const group = (members: number[]) => {
    const mean = members.reduce((sum, i) => sum + (values[i] ?? 0), 0) / members.length;
    return { members, centre: Math.max(mean, floor + ((members.length - 1) / 2) * gap) };
  };
  let groups = order.map((i) => group([i]));
  for (let merged = true; merged; ) {
    merged = false;
    const next: typeof groups = [];
    for (const one of groups) {
      const last = next.at(-1);
      const room = last ? ((last.members.length + one.members.length) / 2) * gap : 0;
      if (last && one.centre - last.centre < room - 1e-12) {
        next[next.length - 1] = group([...last.members, ...one.members]);
        merged = true;
      } else next.push(one);
    }
    groups = next;
  }
  for (const { members, centre } of groups) {
    members.forEach((i, k) => {
      placed[i] = centre + (k - (members.length - 1) / 2) * gap;
    });
  }
  return placed;
}
