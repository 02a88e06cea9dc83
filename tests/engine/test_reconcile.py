"""Reconciliation against the dense formula and a general quadratic solver."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.backtest.choice import ChoiceRule
from tansy.engine.errors import RecipeError, StructureError
from tansy.engine.graph.constraints import from_edges
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import group
from tansy.engine.graph.histories import aggregate_history
from tansy.engine.panel import Panel, filled_inside
from tansy.engine.reconcile.methods import Evidence, reconcile
from tansy.engine.reconcile.whole import whole_numbers
from tansy.engine.study.coherent import reconciled
from tansy.engine.study.recipe import BEST
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline
from tests.engine.test_store import RECIPE, garden

Floats = NDArray[np.float64]


@pytest.fixture
def graph() -> Graph:
    """Three products in two groups, three stores in two regions; one pair is not on sale."""
    pairs = [(p, s) for p in "abc" for s in "xyz" if (p, s) != ("c", "z")]
    keys = {"product": [p for p, _ in pairs], "store": [s for _, s in pairs]}
    attributes = {
        "product": {"group": {"a": "G1", "b": "G1", "c": "G2"}, "name": {"a": "Alba"}},
        "store": {"region": {"x": "North", "y": "North", "z": "South"}},
    }
    panel = Panel(Timeline("W", 0, 1, 52), ("product", "store"), keys, np.ones((8, 1)), attributes)
    return group(panel, {"product": ["group"], "store": ["region"]})


def dense(graph: Graph) -> tuple[Floats, Floats]:
    """S (all nodes from the finest) and C = [I, -S of the aggregates]."""
    s = graph.summation.matrix.toarray()
    return np.r_[s, np.eye(graph.n_series)], np.c_[np.eye(graph.n_aggregates), -s]


def test_grouped_structure_has_every_combination_of_levels_once(graph: Graph) -> None:
    names = [level.name for level in graph.levels]
    assert names[0] == "all × all" and names[-1] == "product × store" and len(names) == 9
    counts = {level.name: level.n_nodes for level in graph.levels}
    assert counts["group × region"] == 3  # G2 is not sold in the South
    assert counts["product × all"] == 3 and counts["all × store"] == 3
    assert graph.name(0) == "every product × every store"
    assert any(graph.name(i) == "Alba × North" for i in range(graph.n_nodes))
    # the graph is the same sums, node by node, as adding up the series that each node's name stands for
    values = np.random.default_rng(0).uniform(1, 2, graph.n_series)
    by_node = np.array([values[graph.below(np.array([node])).series].sum() for node in range(graph.n_nodes)])
    np.testing.assert_allclose(graph.summation.sum_up(values), by_node, rtol=1e-14)


def test_a_series_that_outweighs_all_others_still_adds_up(graph: Graph) -> None:
    """A mistyped 1e9 beside units: its variance is 1e18 of the others', whose forecasts it hardly moves."""
    rng = np.random.default_rng(6)
    n = graph.n_aggregates
    finest = rng.uniform(5, 9, (graph.n_series, 3))
    base = graph.summation.sum_up(finest)
    base[:n] += rng.normal(0, 1, (n, 3))
    variance = np.ones(graph.n_nodes)
    variance[n + 2] = 1e18
    found = reconcile(graph.summation, base, "variance", Evidence(variance))
    np.testing.assert_array_equal(found, graph.summation.sum_up(found[n:]))
    others = np.delete(np.arange(graph.n_series), 2)
    assert np.abs(found[n:] - finest)[others].max() < 2.0


def test_bottom_up_keeps_the_finest(graph: Graph) -> None:
    base = np.random.default_rng(2).normal(10, 3, (graph.n_nodes, 2))
    found = reconcile(graph.summation, base, "bottom-up", Evidence(np.ones(graph.n_nodes)))
    assert (found[graph.n_aggregates :] == base[graph.n_aggregates :]).all()
    np.testing.assert_allclose(found, dense(graph)[0] @ base[graph.n_aggregates :], rtol=1e-12)


def test_nodes_that_are_zero_by_decision_stay_zero(graph: Graph) -> None:
    base = np.random.default_rng(4).uniform(5, 9, (graph.n_nodes, 2))
    zero = np.zeros(graph.n_series, dtype=bool)
    zero[[1, 6]] = True
    for name in ("bottom-up", "structural", "variance"):
        found = reconcile(graph.summation, base, name, Evidence(np.ones(graph.n_nodes)), zero=zero)
        assert (found[graph.n_aggregates :][zero] == 0).all()
        assert graph.summation.largest_gap(found) <= 1e-12


def test_combined_is_half_of_each_and_adds_up(graph: Graph) -> None:
    rng = np.random.default_rng(7)
    base, variance = rng.normal(2, 4, (graph.n_nodes, 5)), rng.lognormal(0, 1, graph.n_nodes)
    given = (graph.summation, base), (Evidence(variance), True)
    halves = [reconcile(*given[0], name, *given[1]) for name in ("bottom-up", "variance")]
    found = reconcile(*given[0], "combined", *given[1])
    np.testing.assert_allclose(found, (halves[0] + halves[1]) / 2, rtol=1e-14)
    assert (found >= 0).all() and graph.summation.largest_gap(found) <= 1e-12


def test_a_series_that_is_forecast_as_nothing_stays_there(graph: Graph) -> None:
    """Totals expect 30 % more, which goes to series that sell. One that may sell less than nothing is not held."""
    base = graph.summation.sum_up(np.full((graph.n_series, 2), 5.0))
    base[: graph.n_aggregates] *= 1.3
    base[graph.n_aggregates + 3, 1] = 0.0
    none = np.zeros((graph.n_series, 2), dtype=bool)
    found = reconciled(graph, base, "variance", Evidence(np.ones(graph.n_nodes)), True, none)[graph.n_aggregates :]
    assert found[3, 1] == 0.0 and found[:, 1].sum() > 5.0 * (graph.n_series - 1) and (found[:, 0] > 5.0).all()
    free = reconciled(graph, base, "variance", Evidence(np.ones(graph.n_nodes)), False, none)[graph.n_aggregates :]
    assert free[3, 1] > 0.0


@pytest.mark.parametrize("measure", ["squared", "absolute"])
def test_the_backtest_chooses_a_reconciliation_in_time(measure: str) -> None:
    """By definition: at each origin, of windows that had come, without a margin; three are needed."""
    recipe = replace(RECIPE, origins=7, step=6, choice=ChoiceRule(measure, margin=0.0), reconciliation=BEST)
    names = ("variance", "combined", "bottom-up")
    fixed = [run_study(garden(), replace(recipe, reconciliation=name)) for name in names]
    found = run_study(garden(), recipe)
    level_of, leads, seen_at = found.graph.level_of, recipe.leads, [*found.seen_at, found.timeline.n_periods]
    for o in range(len(seen_at)):
        losses = np.zeros(3)
        for i in range(o if o >= 3 else 0):
            # in steps of the history as it was when the window had come
            step = np.sqrt(np.mean(np.diff(found.received[:, : seen_at[i + 1]]) ** 2, axis=1))
            came = found.received[:, seen_at[i] : seen_at[i] + leads]
            for j, study in enumerate(fixed):
                errors = np.abs(came - study.tested[:, i, : came.shape[1]]) / step[:, None]
                means = [errors[level_of == k] for k in range(level_of.max() + 1)]
                if measure == "squared":
                    losses[j] += np.mean([0.5 * np.log((one**2).mean()) for one in means])
                else:
                    losses[j] += np.mean([np.log(one.mean()) for one in means])
        j = int(losses.argmin())
        assert found.reconciled_by[o] == names[j]
        own, same = (found.tested[:, o], fixed[j].tested[:, o]) if o < 7 else (found.forecast, fixed[j].forecast)
        np.testing.assert_array_equal(own, same)
    assert len(set(found.reconciled_by)) > 1, "the case is meant to have a choice"


def test_unknown_method_is_refused(graph: Graph) -> None:
    with pytest.raises(RecipeError, match="choose one of"):
        reconcile(graph.summation, np.ones((graph.n_nodes, 1)), "magic", Evidence(np.ones(graph.n_nodes)))


def test_structure_from_edges_checks_its_splits() -> None:
    nodes, summation = from_edges(["t", "t", "g", "g"], ["g", "c", "a", "b"], [""] * 4)
    assert set(nodes[:2]) == {"t", "g"} and set(nodes[2:]) == {"a", "b", "c"}
    total = nodes.index("t")
    assert summation.matrix.toarray()[total].sum() == 3
    with pytest.raises(StructureError, match="its own ancestor"):
        from_edges(["a", "b"], ["b", "a"], ["", ""])
    with pytest.raises(StructureError, match="do not hold the same"):
        from_edges(["t", "t", "t"], ["a", "b", "a"], ["one", "one", "two"])


def test_an_attribute_that_a_key_lacks_is_named() -> None:
    panel = Panel(
        Timeline("W", 0, 1, 52), ("sku",), {"sku": ["a", "b"]}, np.ones((2, 1)), {"sku": {"group": {"a": "G"}}}
    )
    with pytest.raises(StructureError, match="'b' has no group"):
        group(panel, {"sku": ["group"]})
    with pytest.raises(StructureError, match="no attribute 'colour'"):
        group(panel, {"sku": ["colour"]})


def test_totals_bridge_unknown_values_and_wait_for_the_first_series(graph: Graph) -> None:
    values = np.tile(np.arange(6.0), (8, 1))
    values[0, 2:4] = np.nan  # unknown inside: bridged in totals, missing in the series itself
    values[:, 0] = np.nan  # nobody has begun
    values[7, :3] = np.nan  # one began later
    nodes = aggregate_history(graph, values)
    assert np.isnan(nodes[:, 0]).all()
    np.testing.assert_allclose(nodes[0, 1:], [7, 14, 24, 32, 40])
    assert np.isnan(nodes[graph.n_aggregates, 2])
    np.testing.assert_allclose(filled_inside(values)[0, 2:4], [2, 3])


def test_whole_numbers_add_up_and_stay_within_one(graph: Graph) -> None:
    rng = np.random.default_rng(5)
    exact = rng.gamma(0.7, 2.0, (graph.n_series, 40)) * (rng.random((graph.n_series, 40)) < 0.8)
    whole = whole_numbers(exact, graph.tree)
    assert (whole == np.round(whole)).all() and (whole >= 0).all()
    assert (whole[exact == 0] == 0).all()
    assert (np.abs(whole - exact) < 1).all()
    nodes, rounded = graph.summation.sum_up(exact), graph.summation.sum_up(whole)
    np.testing.assert_array_equal(rounded[0], np.floor(nodes[0] + 0.5))
    # every node on the way down the tree is less than one off; the others are sums of whole numbers all the same
    on_tree = [i for i, (a, b) in enumerate(level.labels for level in graph.levels) if b == "all" or a == "product"]
    inside = np.isin(graph.level_of, on_tree)
    assert (np.abs(rounded - nodes)[inside] < 1).all()
    np.testing.assert_array_equal(whole_numbers(whole, graph.tree), whole)
