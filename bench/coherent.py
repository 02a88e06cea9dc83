"""Which reconciliation is best at which level: RMSSE over all origins and leads, before it and by each method.

    python -m bench.coherent [--sets monthly quarterly daily demo] [--seeds N] [--errors one-step backtest] [--time]

For W from one-step errors, and from those of the backtest at each lead; with --time also where nodes are forecast over
the longer periods that fit into the leads. Real sets as in `bench.real`, which are not part of this project; the demo
over five seeds, without the learner, which the other methods do not wait for.
"""

from __future__ import annotations

import argparse
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from bench.many import without_learner
from bench.real import FOLDER, SETS, recipe_of
from tansy.demo.generator import generate
from tansy.engine.graph.time_levels import LEVELS
from tansy.engine.panel import Panel
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.study.accuracy import MEASURES
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.recipe import ERRORS, Recipe
from tansy.engine.study.run import Backtest, run_study
from tansy.engine.study.store import Store

FIRST_SEED = 20261
RMSSE = MEASURES.index("RMSSE")


def compare(name: str, panel: Panel, recipe: Recipe, errors_of: list[str], over_time: bool) -> None:
    levels = [one.name for one in LEVELS.get(panel.timeline.frequency, ()) if one.periods <= recipe.leads]
    ways: list[tuple[str, tuple[str, ...]]] = [(errors, ()) for errors in errors_of]
    if over_time:
        ways += [(ERRORS[0], tuple(levels[: k + 1])) for k in range(len(levels))]
    with tempfile.TemporaryDirectory() as folder:
        for errors, times in ways:
            asked = replace(recipe, reconciliation_errors=errors, time_levels=times)
            kept: list[Backtest] = []
            study = run_study(panel, asked, store=Store(Path(folder)), backtest=kept.append)
            tables = study.tables
            found = tables.by_reconciliation[:, :, RMSSE]
            beside = f", also over {' and '.join(times)}" if times else ""
            print(f"\n{name}, W from {errors} errors{beside}; published by {' '.join(study.reconciled_by)}")
            print(f"  {'level':<28}{'nodes':>7}  " + "".join(f"{one:>12}" for one in tables.reconciliation_names))
            counts = [level.n_nodes for level in study.graph.levels]
            for level, n, row in zip(tables.level_names, [*counts, study.graph.n_nodes], found, strict=True):
                print(f"  {level:<28}{n:>7}  " + "".join(f"{one:>12.3f}" for one in row), flush=True)
            over_levels = np.exp(np.log(found[:-1] / found[:-1, :1]).mean(axis=0))
            print(f"  {'mean of the levels, none = 1':<35}  " + "".join(f"{one:>12.3f}" for one in over_levels))
            percent, errors_off = against_none(kept[0])
            worst = int(np.argmax(errors_off))
            print(
                f"  published against none, in percent and in standard errors over windows; worst at "
                f"{tables.level_names[worst]}, {percent[worst]:+.1f} %, {errors_off[worst]:+.1f} errors"
            )
            for level, one, off in zip(tables.level_names, percent, errors_off, strict=False):
                print(f"    {level:<26}{one:>+8.1f} %{off:>+8.1f}", flush=True)


def against_none(found: Backtest) -> tuple[np.ndarray, np.ndarray]:
    """Root mean squared scaled error of what is published against what was before it was made to add up, by level: by
    how many percent it is more, in the mean of the windows' logarithms, and how many of its standard errors that is."""
    scale = np.stack([ending.seen.scale for ending in found.endings[:-1]], axis=1)
    scale = np.where(scale > 0.0, scale, np.nan)[:, :, None]
    base = np.nan_to_num(found.chosen.base[:, :-1])
    own, before = ((found.actuals - one) ** 2 / scale for one in (found.published, base))
    graph = found.prepared.graph
    rows = [slice(level.first, level.first + level.n_nodes) for level in graph.levels]
    off = np.array([0.5 * np.log(np.nanmean(own[r], axis=(0, 2)) / np.nanmean(before[r], axis=(0, 2))) for r in rows])
    # windows that overlap say less than their number
    seen_at, leads = found.prepared.seen_at, found.prepared.recipe.leads
    apart = min(float(len(seen_at)), (seen_at[-1] - seen_at[0]) / leads + 1.0)
    mean, error = off.mean(axis=1), off.std(axis=1, ddof=1) / np.sqrt(apart)
    return 100.0 * np.expm1(mean), mean / np.maximum(error, 1e-12)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sets", nargs="+", default=[*SETS, "demo"], choices=[*SETS, "demo"])
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--errors", nargs="+", default=[*ERRORS], choices=ERRORS)
    parser.add_argument("--time", action="store_true")
    given, _ = parser.parse_known_args()
    for name in given.sets:
        if name == "demo":
            for seed in range(FIRST_SEED, FIRST_SEED + given.seeds):
                with tempfile.TemporaryDirectory() as folder:
                    generate(seed).write(Path(folder))
                    beside = {"products.csv": "", "stores.csv": "", "drivers.csv": ""}
                    panel = read_panel(Path(folder) / "sales.csv", ReadOptions(attribute_files=beside)).panel
                recipe = default_recipe(panel, default_levels(panel))
                compare(f"demo {seed}", panel, without_learner(recipe), given.errors, given.time)
        elif (FOLDER / f"{name}.csv").exists():
            asked = SETS[name]
            panel = read_panel(FOLDER / f"{name}.csv", ReadOptions()).panel
            compare(name, panel, recipe_of(panel, asked), given.errors, given.time)
        else:
            print(f"{name}: the series are not here")


if __name__ == "__main__":
    main()
