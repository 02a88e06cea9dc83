"""Pruning of 100,000 candidate nodes over 182 weeks, and of a structure of a billion combinations.

    python -m bench.pruning

Promised: 3 s for the first; the second counted in seconds and left with fewer than 10,000 nodes. Medians of three.
"""

from __future__ import annotations

import resource
import statistics
import time
from dataclasses import replace

import numpy as np

from bench.adjust import chain
from tansy.engine.graph.counts import count_levels
from tansy.engine.graph.formula import parse
from tansy.engine.graph.grouping import laid_out
from tansy.engine.graph.judged import History
from tansy.engine.graph.pruning import Kept, PruningRule, prune
from tansy.engine.panel import Panel
from tansy.engine.profile.worth import judge_of
from tansy.engine.timeline import Timeline

WEEKS = 182
SIZES = (5, 8, 12, 20, 9, 15, 30, 11)
EVERYTHING = {"mean": 0.3, "empty": 0.98, "season": 0.0, "trend": 0.0, "entropy": 1.0, "length": 20.0}


def run(panel: Panel, text: str, rule: PruningRule) -> tuple[Kept, float]:
    took = []
    for _ in range(3):
        began = time.perf_counter()
        dimensions, levels = laid_out(panel, parse(text))
        found = prune(dimensions, levels, History(panel.values, judge_of(panel.timeline)), rule)
        took.append(time.perf_counter() - began)
    return found, statistics.median(took)


def main() -> None:
    rng = np.random.default_rng(0)
    panel, _ = chain(72_000)
    level = rng.lognormal(0.0, 1.2, (panel.n_series, 1))
    values = rng.poisson(level, (panel.n_series, WEEKS)).astype(float)
    panel = replace(panel, values=values, timeline=Timeline("W", 2800, WEEKS, 52))
    text = "(department > group > article) * (region > store)"
    for name, limits in (("mean, empty, length", {"mean": 1.0, "empty": 0.5, "length": 20.0}), ("all", EVERYTHING)):
        found, seconds = run(panel, text, PruningRule(limits, 0.3))
        print(
            f"{found.n_judged:,} candidates of {panel.n_series:,} series x {WEEKS} weeks judged by {name}: "
            f"{seconds:.2f} s, {found.n_nodes:,} kept, {int(found.lumped.sum()):,} of them lumps"
        )
    n = 30_000
    items = [f"I{i:05d}" for i in range(n)]
    attributes = {
        "item": {
            f"a{k}": {item: f"v{v}" for item, v in zip(items, rng.integers(0, size, n).tolist(), strict=True)}
            for k, size in enumerate(SIZES)
        }
    }
    values = rng.poisson(rng.lognormal(-0.5, 1.0, (n, 1)), (n, WEEKS)).astype(float)
    panel = Panel(Timeline("W", 2800, WEEKS, 52), ("item",), {"item": items}, values, attributes)
    text = " * ".join(attributes["item"])
    began = time.perf_counter()
    counted = count_levels(panel, parse(text))
    print(
        f"{sum(one.possible for one in counted):,} combinations on {len(counted)} levels, "
        f"{sum(one.occurring for one in counted):,} of them occur: counted in {time.perf_counter() - began:.1f} s"
    )
    found, seconds = run(panel, text, PruningRule({"mean": 50.0, "empty": 0.2}, 0.5))
    print(f"pruned in {seconds:.1f} s: {found.n_nodes:,} nodes kept, {found.n_judged:,} looked at")
    print(f"peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3:,.0f} MB")


if __name__ == "__main__":
    main()
