"""How far published means move when the input does: prices and sales of the demo changed by 1e-7 of themselves, at
random.

    python -m bench.steady [--seeds N]

A promise holds where no mean moves by more than 1e-4 of itself. Those that do are counted, and where they come from is
told: a node whose method is another one, one whose own fit ends elsewhere, or one that others moved in reconciliation.
"""

from __future__ import annotations

import argparse
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from tansy.demo.generator import generate
from tansy.engine.panel import Panel
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.run import Study, run_study

CHANGE, MOST = 1e-7, 1e-4


def moved(panel: Panel, what: str, seed: int) -> Panel:
    rng = np.random.default_rng(seed)

    def one(values: np.ndarray) -> np.ndarray:
        return values * (1.0 + CHANGE * rng.uniform(-1.0, 1.0, values.shape))

    if what == "sales":
        return replace(panel, values=one(panel.values))
    return replace(panel, drivers=panel.drivers | {"price": one(panel.drivers["price"])})


def compare(before: Study, after: Study) -> str:
    def apart(a: np.ndarray, b: np.ndarray) -> np.ndarray:
        size = np.maximum(np.abs(a), 1e-9 * np.abs(a).max())
        return np.asarray(np.abs(a - b) / size)

    of_means = apart(before.forecast, after.forecast)
    nodes = (of_means > MOST).any(axis=1)
    chosen = before.chosen != after.chosen
    fits = (apart(before.base, after.base) > MOST).any(axis=1) & ~chosen
    far = of_means > MOST
    largest = np.abs(before.forecast[far]).max(initial=0.0)
    step = np.abs(before.forecast - after.forecast)[far].max(initial=0.0)
    return (
        f"{far.sum():7,} of {far.size:,} means, the worst by {of_means.max():.1e} of itself, the largest of them "
        f"{largest:.1e}, in units by {step:.0e} at most; median {np.median(of_means):.1e}; {nodes.sum():,} nodes, "
        f"{chosen.sum()} with another method, {fits.sum()} whose own fit moved, "
        f"{(nodes & ~chosen & ~fits).sum():,} moved by others"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=1)
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        generate(20261).write(folder)
        options = ReadOptions(attribute_files={"products.csv": "", "stores.csv": "", "drivers.csv": ""})
        panel = read_panel(folder / "sales.csv", options).panel
    recipe = default_recipe(panel, default_levels(panel))
    before = run_study(panel, recipe)
    for seed in range(arguments.seeds):
        for what in ("prices", "sales"):
            print(
                f"{what} moved by up to {CHANGE:g}: {compare(before, run_study(moved(panel, what, seed), recipe))}",
                flush=True,
            )


if __name__ == "__main__":
    main()
