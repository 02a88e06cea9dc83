"""Adjustments of a whole chain: 42,840 nodes over 30,490 series, 28 leads.

    python -m bench.adjust [--series N]

Promised: an adjustment at the top, spread and shown, under 300 ms; reconciled around fixed values under 1.5 s; two
studies compared over all nodes under 500 ms; the bridge over all nodes under 2 s. Medians of five, of the engine alone:
what a page reads from the database the first time comes on top.
"""

from __future__ import annotations

import argparse
import statistics
import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from tansy.engine.adjust.adjustment import Adjustment, place
from tansy.engine.adjust.layer import Ground, bands, laid
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import group
from tansy.engine.panel import Panel
from tansy.engine.study.bridge import Side, bridge
from tansy.engine.study.compare import compare
from tansy.engine.study.forecast import Forecast
from tansy.engine.timeline import Timeline

LEADS = 28
LEVELS = (0.025, 0.1, 0.25, 0.75, 0.9, 0.975)


def chain(n_series: int) -> tuple[Panel, Graph]:
    """Articles of three departments and seven groups in ten stores of three regions."""
    n = n_series // 10
    articles, stores = [f"A{i:05d}" for i in range(n)], [f"S{i:02d}" for i in range(10)]
    rng = np.random.default_rng(4)
    groups = rng.integers(0, 7, n).tolist()
    keys = {"article": [a for a in articles for _ in stores], "store": stores * n}
    attributes = {
        "article": {
            "department": {a: f"D{g % 3}" for a, g in zip(articles, groups, strict=True)},
            "group": {a: f"G{g}" for a, g in zip(articles, groups, strict=True)},
        },
        "store": {"region": {s: f"R{i % 3}" for i, s in enumerate(stores)}},
    }
    values = rng.poisson(3.0, (len(keys["article"]), 2)).astype(float)
    panel = Panel(Timeline("W", 2800, 2, 52), ("article", "store"), keys, values, attributes)
    return panel, group(panel, {"article": ["department", "group"], "store": ["region"]})


def median(work: Callable[[], object]) -> float:
    seconds = []
    for _ in range(5):
        began = time.perf_counter()
        work()
        seconds.append(time.perf_counter() - began)
    return 1e3 * statistics.median(seconds)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--series", type=int, default=30_490)
    given, _ = parser.parse_known_args()
    panel, graph = chain(given.series)
    rng = np.random.default_rng(1)
    level = np.where(rng.random(graph.n_series) < 0.1, 0.0, rng.gamma(0.5, 6.0, graph.n_series))
    finest = level[:, None] * (1.0 + 0.3 * np.sin(np.arange(LEADS) / 8.3))
    variance = np.maximum(graph.summation.sum_up(level), 0.01)  # of counts
    ahead = Timeline("W", 2802, LEADS, 52)
    print(f"{graph.n_nodes:,} nodes over {graph.n_series:,} series, {LEADS} leads; medians of five, ms")
    for whole in (False, True):
        values = np.round(finest) if whole else finest
        mean = graph.summation.sum_up(values)
        quantiles = mean[:, None] * np.array([0.4, 0.6, 0.8, 1.2, 1.5, 2.0])[None, :, None]
        ground = Ground(
            graph, mean, values.mean(axis=1), (values == 0.0).all(axis=1), variance, "variance",
            whole, True,
        )  # fmt: skip
        for spread, promised in (("forecast", 300), ("history", 300), ("even", 300), ("reconcile", 1500)):
            for change, amount in (("percent", 10.0), ("add", -2000.0)):
                locked = ({"department": "D1"},) if spread == "reconcile" else ()
                one = Adjustment({}, ahead.labels[0], ahead.labels[-1], change, amount, spread=spread, locked=locked)

                def lay(one: Adjustment = one, ground: Ground = ground, quantiles: np.ndarray = quantiles) -> None:
                    found, steps = laid(ground, [place(one, graph, panel, ahead)])
                    assert not steps[0].problem, steps[0].problem
                    bands(ground, found[:1], quantiles[:1], np.array(LEVELS), np.array([0]))

                what = f"{change} {amount:g}, {spread}{', whole units' if whole else ''}"
                print(f"  {what:42} {median(lay):7.0f}  (promised {promised})")
    mean = graph.summation.sum_up(finest)
    quantiles = np.repeat(mean[:, None], len(LEVELS), axis=1)
    chosen = np.zeros(graph.n_nodes, dtype=np.int64)
    forecast = Forecast(graph, ahead, mean, (), chosen, np.array(LEVELS), quantiles, np.ones((len(graph.levels), 1, 1)))
    later = replace(forecast, graph=chain(given.series)[1])
    _ = later.graph.ids, graph.ids, later.graph.position  # kept with a study
    beside = median(lambda: compare(forecast, mean, later, 1.1 * mean))
    print(f"  {'two studies compared':42} {beside:7.0f}  (promised 500)")
    history = rng.poisson(3.0, (graph.n_series, 156)).astype(float)
    ids, methods = graph.ids[graph.n_aggregates :], ["ets(A,N,N)"] * graph.n_series
    before = Side(ids, finest, finest + 0.1, finest + 0.2, methods, history, {"price": finest})
    after = replace(before, base=finest * 1.1, forecast=finest * 1.2, history=history.copy())
    print(f"  {'bridge from a release':42} {median(lambda: bridge(before, after)):7.0f}  (promised 2000)")


if __name__ == "__main__":
    main()
