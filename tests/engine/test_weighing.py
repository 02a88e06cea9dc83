"""What reconciliations of a study go by: errors that had come, and nothing later; and how what moved whom is told."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import group
from tansy.engine.reconcile.methods import Evidence, reconcile
from tansy.engine.study.moved import gaps, moved_most
from tansy.engine.study.recipe import ERRORS
from tansy.engine.study.run import run_study
from tansy.engine.study.store import Store
from tests.engine.test_store import RECIPE, garden

Floats = NDArray[np.float64]


@pytest.mark.parametrize("errors", ERRORS)
@pytest.mark.parametrize("method", ["variance", "shrinkage", "sample", "middle-out(group × all)"])
def test_at_an_origin_a_reconciliation_knows_no_error_that_comes_later(method: str, errors: str) -> None:
    recipe = replace(
        RECIPE, origins=5, step=6, reconciliation=method, reconciliation_errors=errors,
        structure={"product": ["group"], "store": []},
    )  # fmt: skip
    own = garden()
    study = run_study(own, recipe)
    assert study.graph.summation.largest_gap(study.forecast) < 1e-12
    n = study.seen_at[3]
    later = own.values.copy()
    later[:, n:] = np.random.default_rng(1).poisson(90.0, later[:, n:].shape)
    other = run_study(replace(own, values=later), recipe)
    np.testing.assert_array_equal(study.tested[:, :4], other.tested[:, :4])
    assert not np.array_equal(study.tested[:, 4], other.tested[:, 4])


def test_errors_of_the_backtest_weigh_otherwise_once_there_are_any() -> None:
    recipe = replace(RECIPE, origins=5, step=6, reconciliation="variance")
    one, other = (run_study(garden(), replace(recipe, reconciliation_errors=errors)) for errors in ERRORS)
    assert not np.allclose(one.tested[:, -1], other.tested[:, -1], rtol=1e-6)
    with pytest.raises(RecipeError, match="errors is one of one-step, backtest"):
        replace(recipe, reconciliation_errors="two-step")
    with pytest.raises(RecipeError, match="there is no level 'colour'"):
        run_study(garden(), replace(recipe, reconciliation="middle-out(colour)"))


def case() -> tuple[Graph, Floats, Floats]:
    graph = group(garden(), {"product": ["group"]})
    rng = np.random.default_rng(2)
    return graph, rng.uniform(20, 40, (graph.n_nodes, 4)), rng.uniform(1, 6, graph.n_nodes)


@pytest.mark.parametrize("method", ["ols", "variance", "combined"])
def test_what_a_node_moved_is_what_its_series_say_and_all_that_its_totals_pull(method: str) -> None:
    graph, base, sigma = case()
    alike = np.random.default_rng(3).integers(1, 4, graph.n_nodes)
    given = Evidence(sigma**2, alike=alike)
    never = np.zeros((graph.n_series, 4), dtype=bool)
    after = reconcile(graph.summation, base, method, given)
    found = moved_most(graph, base, after, sigma, alike, never, method, n=graph.n_nodes)
    assert [abs(one.errors) for one in found] == sorted((abs(one.errors) for one in found), reverse=True)
    s = np.r_[graph.summation.matrix.toarray(), np.eye(graph.n_series)]
    for one in found:
        moved = (after - base)[one.node].sum()
        assert one.reconciled - one.base == pytest.approx(moved)
        assert one.errors == pytest.approx(moved / (sigma[one.node] * 2.0))
        own_series = (s[one.node] @ base[graph.n_aggregates :]).sum() - base[one.node].sum()
        assert one.of_series == pytest.approx(own_series, abs=1e-9)
        # a pull taken away: the total's forecast put where its series are, which is what it says against theirs
        assert one.pulls and abs(one.pulls[0][1]) >= abs(one.pulls[-1][1])
    w = alike * (1.0 if method == "ols" else sigma**2)
    n = graph.n_aggregates
    system = np.diag(w[:n]) + s[:n] @ np.diag(w[n:]) @ s[:n].T
    pull = np.linalg.solve(system, (base[:n] - s[:n] @ base[n:]).sum(axis=1)) * (0.5 if method == "combined" else 1.0)
    for one in found[:10]:
        amounts = (s[:n] * s[one.node]) @ w[n:] * pull
        assert amounts.sum() + one.of_series == pytest.approx(one.reconciled - one.base, rel=1e-8, abs=1e-8)
        assert dict(one.pulls) == pytest.approx({i: amounts[i] for i in np.argsort(-np.abs(amounts))[: len(one.pulls)]})


def test_gaps_before_reconciliation_are_told_level_by_level() -> None:
    graph, base, _ = case()
    never = np.zeros((graph.n_series, 4), dtype=bool)
    found = gaps(graph, base, never)
    total, series = base.sum(axis=1), base[graph.n_aggregates :].sum(axis=1)
    off = np.abs(total[: graph.n_aggregates] - graph.summation.matrix @ series) / total[: graph.n_aggregates]
    for k, level in enumerate(graph.levels[:-1]):
        assert found[k] == pytest.approx(off[level.first : level.first + level.n_nodes].max())
    assert gaps(graph, base, ~never).max() == 0.0, "what is zero by decision has none"


@pytest.mark.parametrize("method", ["ols", "structural", "variance"])
def test_nodes_of_the_same_series_are_fitted_once_and_count_as_one_node(method: str, tmp_path: Path) -> None:
    own = garden()
    stores = sorted(set(own.keys["store"]))
    # one region for each store: its nodes are those of the store
    alike = replace(own, attributes={**own.attributes, "store": {"region": {one: f"R {one}" for one in stores}}})
    found = []
    for structure in ({"store": ["region"]}, {"store": []}):
        recipe = replace(RECIPE, methods=("ets(A,N,N)",), origins=4, step=6, reconciliation=method, structure=structure)
        found.append(run_study(alike, recipe, store=Store(tmp_path / str(len(found)))))
    twice, once = found
    n = once.graph.n_nodes
    assert twice.graph.n_nodes > n
    at = [twice.graph.position[name] for name in once.graph.ids]
    np.testing.assert_allclose(twice.tested[at], once.tested, rtol=1e-9)
    np.testing.assert_allclose(twice.forecast[at], once.forecast, rtol=1e-9)
    sizes = [sum(path.stat().st_size for path in (tmp_path / str(i)).rglob("*.block")) for i in range(2)]
    assert sizes[0] == sizes[1]
