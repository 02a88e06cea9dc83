"""A whole chain: the default recipe over 30,490 series x 156 weeks on 42,840 nodes of 12 levels, from file to files.

    python -m bench.chain [--series N] [--methods N] [--origins N] [--leads N]

Promised: 600 s of processor, 1.5 GB over the process tree, the steps after fitting within 40 s. With 20 methods, 26
origins and 28 leads over 10,000 nodes: below 2 GB.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import polars as pl

WEEKS = 156
MORE = (
    "theta", "moving-average(4)", "moving-average(13)", "ets(A,A,N)", "croston", "sba", "trend(linear)",
    "arima(0,1,1)",
)  # fmt: skip


def write(folder: Path, n_series: int) -> None:
    """Articles of three departments and seven groups in ten stores of three regions; most sell a few a week."""
    from tansy.engine.timeline import label

    rng = np.random.default_rng(4)
    n_articles = n_series // 10
    t = np.arange(WEEKS)
    group = rng.integers(0, 7, n_articles)
    peak = rng.uniform(0.0, 52.18, 7)
    season = 1.0 + 0.6 * np.cos(2.0 * np.pi * (t - peak[group][:, None]) / 52.18)
    level = rng.lognormal(0.3, 1.2, n_articles)[:, None, None] * rng.lognormal(0.0, 0.4, (1, 10, 1))
    sold = rng.poisson(level * season[:, None, :])
    labels = np.array([label(2800 + week, "W") for week in t.tolist()])
    article, store, week = np.indices(sold.shape)
    pl.DataFrame(
        {
            "article": np.array([f"A{i:04d}" for i in range(n_articles)])[article.ravel()],
            "store": np.array([f"S{i:02d}" for i in range(10)])[store.ravel()],
            "week": labels[week.ravel()],
            "sold": sold.ravel(),
        }
    ).write_csv(folder / "sales.csv")
    pl.DataFrame(
        {
            "article": [f"A{i:04d}" for i in range(n_articles)],
            "department": [f"D{g % 3}" for g in group.tolist()],
            "group": [f"G{g}" for g in group.tolist()],
        }
    ).write_csv(folder / "articles.csv")
    pl.DataFrame({"store": [f"S{i:02d}" for i in range(10)], "region": [f"R{i % 3}" for i in range(10)]}).write_csv(
        folder / "stores.csv"
    )


def one(folder: Path, n_methods: int, n_origins: int, leads: int) -> dict[str, object]:
    from tansy.engine.reading.history import read_panel
    from tansy.engine.reading.options import ReadOptions
    from tansy.engine.study import export
    from tansy.engine.study.defaults import default_recipe
    from tansy.engine.study.run import run_study

    began = time.perf_counter()
    panel = read_panel(folder / "sales.csv", ReadOptions(attribute_files={"articles.csv": "", "stores.csv": ""})).panel
    recipe = default_recipe(panel, {"article": ["department", "group"], "store": ["region"]})
    if n_methods:
        recipe = replace(recipe, methods=(*recipe.methods, *MORE)[:n_methods])
    if n_origins:
        step = max(1, (WEEKS - leads - 60) // n_origins)
        recipe = replace(recipe, origins=n_origins, step=step, leads=leads, anchor="")
    study = run_study(panel, recipe)
    export.write(study, panel, folder / "out")
    summary = export.summary(study)
    return {**summary, "wall": time.perf_counter() - began, "n_methods": len(study.methods), "cpu": time.process_time()}


def tree_mb(pid: int) -> float:
    """Memory that a process and those below it hold, in MB."""
    total = 0.0
    waiting = [pid]
    while waiting:
        own = waiting.pop()
        try:
            total += int(Path(f"/proc/{own}/statm").read_text().split()[1]) * 4096 / 1e6
            for task in Path(f"/proc/{own}/task").iterdir():
                waiting += [int(child) for child in (task / "children").read_text().split()]
        except OSError:
            continue
    return total


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--series", type=int, default=30_490)
    parser.add_argument("--methods", type=int, default=0, help="those of the default recipe without it")
    parser.add_argument("--origins", type=int, default=0)
    parser.add_argument("--leads", type=int, default=13)
    parser.add_argument("--one", help=argparse.SUPPRESS)
    given, _ = parser.parse_known_args()
    if given.one:
        print(json.dumps(one(Path(given.one), given.methods, given.origins, given.leads)))
        return
    with tempfile.TemporaryDirectory() as name:
        write(Path(name), given.series)
        options = [f"--methods={given.methods}", f"--origins={given.origins}", f"--leads={given.leads}"]
        command = [sys.executable, "-m", "bench.chain", "--one", name, *options]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        peak = [0.0]

        def watch() -> None:
            while process.poll() is None:
                peak[0] = max(peak[0], tree_mb(process.pid))
                time.sleep(0.1)

        watcher = threading.Thread(target=watch)
        watcher.start()
        out, _ = process.communicate()
        watcher.join()
        found = json.loads(out)
    after = sum(value for step, value in found["seconds"].items() if step not in ("prepare", "fit and backtest"))
    print(
        f"{found['series']:,} series, {found['nodes']:,} nodes, {found['levels']} levels, "
        f"{found['n_methods']} methods, {len(found['origins'])} origins, {found['leads']} leads"
    )
    print(f"{found['cpu']:.0f} s of processor, {found['wall']:.0f} s, {peak[0] / 1000:.2f} GB over the process tree")
    print(f"steps {found['seconds']}, after fitting {after:.1f} s; gap {found['largest_gap']}")


if __name__ == "__main__":
    main()
