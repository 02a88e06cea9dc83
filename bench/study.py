"""The demo study over five seeds: seconds per step, memory, error against the seasonal naive, coverage of the bands.

    python -m bench.study [--seeds N] [--without-learner]

Closed: how much of the squared error, in naive steps, that lies between the seasonal naive and the true mean, which the
generator knows and no forecast can beat in the long run, is not made any more; over all origins, and at the worst one.

Each seed runs in a process of its own, so that peak memory is that of one study.
"""

from __future__ import annotations

import argparse
import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import polars as pl

if TYPE_CHECKING:
    from tansy.engine.panel import Panel
    from tansy.engine.study.run import Study

FIRST_SEED = 20261


def closed(folder: Path, panel: Panel, study: Study) -> list[float]:
    """Percent, of all origins and then of each."""
    from tansy.engine.backtest.measures import mean_square_step

    truth = pl.read_csv(folder / "truth.csv")
    row = {pair: i for i, pair in enumerate(zip(panel.keys["product"], panel.keys["store"], strict=True))}
    labels = {label: t for t, label in enumerate(panel.timeline.labels)}
    known = truth.filter(pl.col("week").is_in(list(labels)))
    at = [row.get(pair, -1) for pair in known.select("product", "store").rows()]
    expected = np.full((panel.n_series + 1, panel.timeline.n_periods), np.nan)
    expected[at, [labels[week] for week in known["week"]]] = known["mean"]
    naive_gap, left = [], []
    received = study.received[study.graph.n_aggregates :]
    published = study.tested[study.graph.n_aggregates :]
    for o, n in enumerate(study.seen_at):
        leads = slice(n, n + study.recipe.leads)
        actual, season_ago, mean = (
            received[:, leads],
            received[:, n - 52 : n - 52 + study.recipe.leads],
            expected[:-1, leads],
        )
        scale = mean_square_step(received[:, :n])[:, None]
        scale = np.where(scale > 0.0, scale, np.nan)
        errors = [(actual - one) ** 2 / scale for one in (season_ago, published[:, o, : actual.shape[1]], mean)]
        both = ~np.isnan(np.stack(errors)).any(axis=0)
        naive, own, least = (float(one[both].sum()) for one in errors)
        naive_gap.append(naive - least)
        left.append(own - least)
    shares = [100.0 * (1.0 - one / of) for one, of in zip(left, naive_gap, strict=True)]
    return [100.0 * (1.0 - sum(left) / sum(naive_gap)), *shares]


def one(seed: int, learner: bool) -> dict[str, Any]:
    from bench.many import without_learner
    from tansy.demo.generator import generate
    from tansy.engine.reading.attributes import default_levels
    from tansy.engine.reading.history import read_panel
    from tansy.engine.reading.options import ReadOptions
    from tansy.engine.study import export
    from tansy.engine.study.defaults import default_recipe
    from tansy.engine.study.run import run_study

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        generate(seed).write(folder)
        options = ReadOptions(attribute_files={"products.csv": "", "stores.csv": "", "drivers.csv": ""})
        began, cpu = time.perf_counter(), time.process_time()
        panel = read_panel(folder / "sales.csv", options).panel
        recipe = default_recipe(panel, default_levels(panel))
        if not learner:
            recipe = without_learner(recipe)
        study = run_study(panel, recipe)
        seconds, cpu = time.perf_counter() - began, time.process_time() - cpu
        export.write(study, panel, folder / "out")
        gap = closed(folder, panel, study)
    return {**export.summary(study), "wall": seconds, "cpu": cpu, "closed": gap}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--without-learner", action="store_true")
    parser.add_argument("--one", type=int, help=argparse.SUPPRESS)
    arguments, _ = parser.parse_known_args()
    if arguments.one is not None:
        print(json.dumps(one(arguments.one, not arguments.without_learner)))
        return
    found = []
    print(
        "seed    series  nodes  wall s  cpu s  fit s  MB    RMSSE  gain %  (all nodes)  in 50 80 95 %  "
        "closed %, worst  gap"
    )
    for seed in range(FIRST_SEED, FIRST_SEED + arguments.seeds):
        command = [sys.executable, "-m", "bench.study", "--one", str(seed)]
        command += ["--without-learner"] if arguments.without_learner else []
        r = json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)
        found.append(r)
        finest, everything, inside = r["published"]["finest"], r["published"]["all nodes"], r["coverage"]["finest"]
        print(
            f"{seed}  {r['series']:6,} {r['nodes']:6,}  {r['wall']:6.1f} {r['cpu']:6.1f} "
            f"{r['seconds']['fit and backtest']:6.1f}  {r['peak_memory_mb']:4.0f}  {finest['RMSSE']:.3f}  "
            f"{finest['gain']:6.1f}  {everything['gain']:11.1f}  {100 * inside['50']:.1f} {100 * inside['80']:.1f} "
            f"{100 * inside['95']:.1f}  {r['closed'][0]:.1f} {min(r['closed'][1:]):.1f}  "
            f"{r['largest_gap']:.0e}",
            flush=True,
        )
    print(f"median wall {statistics.median(r['wall'] for r in found):.1f} s (promised: at most 180 s)")
    print(f"most memory {max(r['peak_memory_mb'] for r in found):.0f} MB (promised: under 2,000 MB)")


if __name__ == "__main__":
    main()
