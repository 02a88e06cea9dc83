"""Suspicious values: how many planted ones the default rule finds, and how long rules and kinds take."""

from __future__ import annotations

import statistics
import time

import numpy as np
from tests.planted import LEVELS, planted

from tansy.demo.generator import generate
from tansy.engine.cleaning.rules import Rules
from tansy.engine.cleaning.suspicious import find_suspicious
from tansy.engine.panel import Panel
from tansy.engine.profile.kinds import find_kinds
from tansy.engine.profile.strengths import strengths

SERIES = 10_000


def main() -> None:
    print("wild values planted at 6 times the noise or more, default rule (promised: 95 % found, 90 % of flags right)")
    sums = np.zeros(4)
    panel: Panel | None = None
    for seed in (1, 2, 3, 4, 5):
        truth = planted(generate(seed))
        panel = truth.panel
        found = find_suspicious(panel, Rules(find=("spike",)), LEVELS)
        flags = np.zeros(truth.wild.shape, dtype=bool)
        flags[found.series, found.start] = True
        far = truth.wild & (panel.values - truth.mean >= 6.0 * truth.noise)
        counts = np.array([(flags & far).sum(), far.sum(), (flags & truth.wild).sum(), flags.sum()], dtype=float)
        sums += counts
        print(f"  seed {seed}: found {counts[0]:.0f} of {counts[1]:.0f}, right {counts[2]:.0f} of {counts[3]:.0f}")
    print(f"  together: {100 * sums[0] / sums[1]:.1f} % found, {100 * sums[2] / sums[3]:.1f} % of flags right")
    assert panel is not None
    seconds: list[float] = []
    many = _repeated(panel, SERIES)
    for _ in range(5):
        began = time.perf_counter()
        found = find_suspicious(many, Rules(), LEVELS)
        find_kinds(many.values, many.timeline, 56)
        strengths(many.values, many.timeline)
        seconds.append(time.perf_counter() - began)
    print(
        f"rules and kinds, {many.n_series:,} series x {many.timeline.n_periods} weeks: "
        f"{statistics.median(seconds):.1f} s ({min(seconds):.1f} to {max(seconds):.1f}; promised 5), "
        f"{len(found):,} findings"
    )


def _repeated(panel: Panel, n: int) -> Panel:
    """The demo's series again and again under new products, until there are n."""
    at = np.arange(n) % panel.n_series
    again = np.arange(n) // panel.n_series
    keys = {
        "product": [f"{panel.keys['product'][i]}-{k}" for i, k in zip(at.tolist(), again.tolist(), strict=True)],
        "store": [panel.keys["store"][i] for i in at.tolist()],
    }
    products = {
        level: {key: table[key.split("-")[0]] for key in dict.fromkeys(keys["product"])}
        for level, table in panel.attributes["product"].items()
    }
    attributes = {"product": products, "store": panel.attributes["store"]}
    return Panel(panel.timeline, panel.key_names, keys, np.ascontiguousarray(panel.values[at]), attributes)


if __name__ == "__main__":
    main()
