"""Bands of a study read off joint paths, and of normal errors: what they hold at each level, and that they are coherent
by the way they are made."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.stats import norm
from scipy.stats import t as student

from tansy.engine.errors import RecipeError
from tansy.engine.graph.graph import Graph
from tansy.engine.panel import Panel
from tansy.engine.study.recipe import MADE, Recipe, read_recipe
from tansy.engine.study.run import Study, run_study
from tansy.engine.study.store import Store
from tansy.engine.timeline import Timeline

RECIPE = Recipe(
    "joint", {}, ("mean",), origins=24, step=4, leads=4, reconciliation="variance", formula="group > product",
    nonnegative=False,
)  # fmt: skip


def simulated(shared: float, seed: int = 1) -> Panel:
    """48 series about a constant, with errors of their own and errors that all of a period share."""
    rng = np.random.default_rng(seed)
    names = [f"P{i:02d}" for i in range(48)]
    own = rng.normal(0.0, 5.0, (48, 240)) + shared * rng.normal(0.0, 5.0, 240)
    groups = {name: f"G{i // 8}" for i, name in enumerate(names)}
    return Panel(Timeline("N", 1, 240, 1), ("product",), {"product": names}, 60.0 + own, {"product": {"group": groups}})


def held(study: Study, making: str) -> np.ndarray:
    """[levels, bands]."""
    tables = study.tables
    return np.asarray(tables.coverage_by_making[:-1, tables.made_names.index(making)])


def promised(study: Study, making: str) -> np.ndarray:
    """What bands should hold in the mean of the origins: of T errors that have come, and one like them that comes, the
    quantiles are order statistics at most from the first to the last; normal ones have T errors to tell a spread by."""
    share = []
    for o in range(2, RECIPE.origins):  # from eight errors on
        t = 4.0 * o
        low = np.array([0.025, 0.1, 0.25])
        if making == "paths":
            places = (np.clip(p * (t + 1.0) - 1.0, 0.0, t - 1.0) for p in (low, 1.0 - low))
            lowest, highest = places
            share.append((highest - lowest) / (t + 1.0))
        else:
            share.append(1.0 - 2.0 * student.cdf(norm.ppf(low), t))
    return np.mean(share, axis=0)


@pytest.mark.parametrize("making", MADE[1:])
@pytest.mark.parametrize("shared", [0.0, 1.0])
def test_they_hold_at_each_level_what_they_say(shared: float, making: str, tmp_path: Path) -> None:
    """What moves together is in them: where errors are shared the total errs by far more than the root of its parts'
    squares."""
    found = run_study(simulated(shared), RECIPE, store=Store(tmp_path))
    periods = 4.0 * (RECIPE.origins - 2)
    for level, coverage in zip(found.graph.levels, held(found, making), strict=True):
        # shared errors make all nodes of a level one, and bands of all origins are read off the same errors
        n = periods * (1.0 if shared else min(level.n_nodes, 6.0))
        wanted = promised(found, making)
        error = np.sqrt(wanted * (1.0 - wanted) * 2.0 / n)
        assert (np.abs(coverage - wanted) < 3.0 * error).all(), (level.name, coverage, wanted)


@pytest.mark.parametrize("making", MADE[1:])
@pytest.mark.parametrize("method", ["variance", "shrinkage", "combined", "bottom-up"])
def test_a_recipe_publishes_them(making: str, method: str, tmp_path: Path) -> None:
    recipe = replace(RECIPE, bands=making, reconciliation=method, origins=6, nonnegative=True)
    own = simulated(1.0)
    own = replace(own, values=np.maximum(own.values - 45.0, 0.0))
    found = run_study(own, recipe, store=Store(tmp_path))
    usual = run_study(own, replace(recipe, bands=MADE[0]), store=Store(tmp_path))
    np.testing.assert_array_equal(found.forecast, usual.forecast)
    assert np.abs(found.quantiles - usual.quantiles).max() > 0.1
    assert (np.diff(found.quantiles, axis=1) >= 0.0).all() and (found.quantiles >= 0.0).all()
    # the total of what moves together has nearly the bands of its parts added up
    width = found.quantiles[:, -1] - found.quantiles[:, 0]
    parts = np.array([width[_below(found.graph, level.name)].sum(axis=0) for level in found.graph.levels])
    if making == "paths":
        assert (parts[0] <= 1.001 * parts[-1]).all() and (parts[0] > 0.6 * parts[-1]).all()
    assert read_recipe(recipe.to_toml()) == recipe


def _below(graph: Graph, name: str) -> np.ndarray:
    level = next(one for one in graph.levels if one.name == name)
    return np.arange(level.first, level.first + level.n_nodes)


def test_what_hears_the_errors_of_some_nodes_only_has_no_joint_bands() -> None:
    with pytest.raises(RecipeError, match="top-down hears those of some"):
        replace(RECIPE, bands="paths", reconciliation="top-down")
