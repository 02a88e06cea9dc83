"""Sums over leads and sample paths: whether they hold what they say on the demo, and how long they take on a chain.

    python -m bench.paths [--seed N] [--series N] [--paths N]

The demo is studied without its last 13 weeks, which are then held against bands of sums over leads 1, 4 and 13, and, at
the levels above the series, against the 80 % band over the paths beside the published one. (The learner is left out: it
only takes time here.)
"""

from __future__ import annotations

import argparse
import resource
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from bench.adjust import chain
from tansy.demo.generator import generate
from tansy.engine.backtest.known import Known
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.forecast import Forecast
from tansy.engine.study.paths import joint_paths, totals
from tansy.engine.study.prepared import prepare
from tansy.engine.study.run import run_study
from tansy.engine.study.sums import sums_of
from tansy.engine.timeline import Timeline

LEADS = 13


def demo(seed: int, n_paths: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        generate(seed).write(Path(name))
        beside = {"products.csv": "", "stores.csv": "", "drivers.csv": ""}
        whole = read_panel(Path(name) / "sales.csv", ReadOptions(attribute_files=beside)).panel
    seen = whole.timeline.n_periods - LEADS
    panel = whole.until(seen, LEADS)
    usual = default_recipe(panel, default_levels(panel))
    methods, fallback = (tuple(m for m in of if "learner" not in m) for of in (usual.methods, usual.fallback))
    recipe = replace(usual, methods=methods, fallback=fallback)
    forecast = run_study(panel, recipe).published
    came = prepare(whole, recipe).known().judged[:, seen:]
    graph = forecast.graph
    first = graph.n_aggregates
    _, of_sums = sums_of(forecast)
    summed = np.cumsum(came, axis=1)
    print(f"demo, seed {seed}: inside the bands of sums over leads 1, 4, 13")
    for what, rows in (("series", slice(first, None)), ("totals", slice(0, first))):
        for b, level in enumerate((95, 80, 50)):
            y, low, high = summed[rows], of_sums[rows, b], of_sums[rows, -1 - b]
            known = ~np.isnan(y)
            inside = (y >= low - 1e-9) & (y <= high + 1e-9)
            said = ", ".join(f"{100.0 * inside[known[:, h], h].mean():.1f}" for h in (0, 3, 12))
            print(f"  {what}, {level} %: {said}")
    paths = list(joint_paths(forecast, prepare(panel, recipe).known(), n_paths))
    print("inside the 80 % band over the paths; published; median of the width of the first to that of the second")
    for k, above in enumerate(graph.levels[:-1]):
        nodes, of = totals(forecast, iter(paths), k)
        low, high = np.quantile(of, [0.1, 0.9], axis=2)
        published = forecast.quantiles[nodes, 1], forecast.quantiles[nodes, -2]
        y = came[nodes]
        held = [100.0 * ((y >= a) & (y <= b)).mean() for a, b in ((low, high), published)]
        wide = np.median((high - low) / np.maximum(published[1] - published[0], 1e-9))
        print(f"  {above.name:24} {len(nodes):5} nodes  {held[0]:.1f}  {held[1]:.1f}  {wide:.2f}")


def large(n_series: int, n_paths: int) -> None:
    panel, graph = chain(n_series)
    rng = np.random.default_rng(2)
    values = rng.poisson(rng.gamma(0.5, 6.0, graph.n_series)[:, None], (graph.n_series, 156)).astype(float)
    panel = replace(panel, values=values, timeline=Timeline("W", 2800, 156, 52))
    known = Known(graph, panel, values, values, 28, 0)
    mean = np.repeat(known.values.mean(axis=1)[:, None], 28, axis=1)
    spread = np.array([-1.96, -1.28, -0.67, 0.67, 1.28, 1.96])[None, :, None] * np.sqrt(mean)[:, None]
    quantiles = np.maximum(mean[:, None] + spread, 0.0)
    p = np.array([0.025, 0.1, 0.25, 0.75, 0.9, 0.975])
    none = np.zeros(graph.n_nodes, dtype=np.int64)
    forecast = Forecast(
        graph, panel.timeline.after(28), mean, (), none, p, quantiles, np.ones((len(graph.levels), 28, 28))
    )
    began = time.perf_counter()
    sums_of(forecast)
    print(f"{graph.n_nodes:,} nodes x 28 leads: sums {time.perf_counter() - began:.2f} s", flush=True)
    began, before = time.perf_counter(), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    totals(forecast, joint_paths(forecast, known, n_paths), 0)
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1e3
    print(
        f"  {n_paths} paths of all series, summed to the top: {time.perf_counter() - began:.1f} s, {more:.0f} MB more"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=20261)
    parser.add_argument("--series", type=int, default=30_490)
    parser.add_argument("--paths", type=int, default=200)
    given, _ = parser.parse_known_args()
    large(given.series, given.paths)
    demo(given.seed, given.paths)


if __name__ == "__main__":
    main()
