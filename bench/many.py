"""The whole default recipe over 10,000 series of 156 weeks, six origins of 13 weeks, with and without the learner.

    python -m bench.many [--products N] [--stores N]

Counts with a season of their group, a level and a trend of their own, prices and promotions known ahead; each run in a
process of its own. Promised: without the learner 5 minutes and 2 GB, the learner 12 minutes more; choice, measures and
bands over all of it 10 seconds.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
import time
from dataclasses import replace

import numpy as np

from tansy.engine.panel import Panel
from tansy.engine.reading.attributes import default_levels
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline

WEEKS, AHEAD = 156, 13


def panel_of(n_products: int, n_stores: int) -> Panel:
    rng = np.random.default_rng(2026)
    n = n_products * n_stores
    product, store = np.repeat(np.arange(n_products), n_stores), np.tile(np.arange(n_stores), n_products)
    week = np.arange(WEEKS + AHEAD)
    phase = rng.uniform(0.0, 2.0 * np.pi, 20)[product % 20]
    season = 1.0 + 0.5 * np.sin(2.0 * np.pi * week / 52.18 + phase[:, None])
    promotion = (rng.random((n_products, len(week))) < 0.06)[product].astype(float)
    price = np.round(rng.uniform(2.0, 40.0, n_products)[product][:, None] * np.where(promotion > 0.0, 0.8, 1.0), 2)
    level = rng.lognormal(1.2, 1.1, n)[:, None] * np.exp(rng.normal(0.0, 0.1, n)[:, None] * week / 52.0)
    mean = level * season * np.where(promotion > 0.0, 1.7, 1.0)
    values = rng.poisson(rng.gamma(4.0, mean / 4.0)).astype(float)[:, :WEEKS]
    groups = {f"P{i:04}": f"G{i % 20:02}" for i in range(n_products)}
    keys = {"product": [f"P{i:04}" for i in product], "store": [f"S{i:02}" for i in store]}
    return Panel(
        Timeline("W", 2760, WEEKS, 52), ("product", "store"), keys, values,
        attributes={"product": {"group": groups}}, drivers={"price": price, "promotion": promotion},
    )  # fmt: skip


def without_learner(recipe: Recipe) -> Recipe:
    methods, fallback = (
        tuple(text.replace("; learner", "") for text in texts) for texts in (recipe.methods, recipe.fallback)
    )
    return replace(recipe, methods=methods, fallback=fallback)


def one(n_products: int, n_stores: int, learner: bool) -> dict[str, float]:
    panel = panel_of(n_products, n_stores)
    recipe = replace(default_recipe(panel, default_levels(panel)), origins=6, step=13)
    if not learner:
        recipe = without_learner(recipe)
    began, cpu = time.perf_counter(), time.process_time()
    study = run_study(panel, recipe)
    return {
        "series": panel.n_series, "nodes": study.graph.n_nodes, "methods": len(study.methods),
        "wall": time.perf_counter() - began, "cpu": time.process_time() - cpu, "mb": study.peak_memory_mb,
        **study.seconds,
    }  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--products", type=int, default=500)
    parser.add_argument("--stores", type=int, default=20)
    parser.add_argument("--one", choices=("with", "without"), help=argparse.SUPPRESS)
    given, _ = parser.parse_known_args()
    if given.one:
        print(json.dumps(one(given.products, given.stores, given.one == "with")))
        return
    for learner in ("without", "with"):
        command = [sys.executable, "-m", "bench.many", "--one", learner]
        command += ["--products", str(given.products), "--stores", str(given.stores)]
        r = json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)
        print(
            f"{learner} the learner: {r['series']:,} series, {r['nodes']:,} nodes, {r['methods']} methods: "
            f"{r['wall']:.0f} s ({r['cpu']:.0f} s of processor), {r['mb']:.0f} MB; fit {r['fit and backtest']:.0f} s, "
            f"choose {r['choose']:.1f}, reconcile {r['reconcile']:.1f}, bands {r['bands']:.1f}, "
            f"accuracy {r['accuracy']:.1f}",
            flush=True,
        )


if __name__ == "__main__":
    main()
