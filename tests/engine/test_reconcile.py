"""Reconciliation against the dense formula and a general quadratic solver."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.optimize import lsq_linear

from tansy.engine.errors import RecipeError, StructureError
from tansy.engine.panel import Panel, filled_inside
from tansy.engine.reconcile.projection import reconcile, weights
from tansy.engine.reconcile.whole import whole_numbers
from tansy.engine.structure.constraints import from_edges
from tansy.engine.structure.grouping import Structure, aggregate_history, group
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


@pytest.fixture
def structure() -> Structure:
    """Three products in two groups, three stores in two regions; one pair is not on sale."""
    pairs = [(p, s) for p in "abc" for s in "xyz" if (p, s) != ("c", "z")]
    keys = {"product": [p for p, _ in pairs], "store": [s for _, s in pairs]}
    attributes = {
        "product": {"group": {"a": "G1", "b": "G1", "c": "G2"}, "name": {"a": "Alba"}},
        "store": {"region": {"x": "North", "y": "North", "z": "South"}},
    }
    panel = Panel(Timeline("W", 0, 1, 52), ("product", "store"), keys, np.ones((8, 1)), attributes)
    return group(panel, {"product": ["group"], "store": ["region"]})


def dense(structure: Structure) -> tuple[Floats, Floats]:
    """S (all nodes from the finest) and C = [I, -S of the aggregates]."""
    s = structure.summation.matrix.toarray()
    return np.r_[s, np.eye(structure.n_series)], np.c_[np.eye(structure.n_aggregates), -s]


def test_grouped_structure_has_every_combination_of_levels_once(structure: Structure) -> None:
    names = [level.name for level in structure.levels]
    assert names[0] == "all × all" and names[-1] == "product × store" and len(names) == 9
    counts = {level.name: level.n_nodes for level in structure.levels}
    assert counts["group × region"] == 3  # G2 is not sold in the South
    assert counts["product × all"] == 3 and counts["all × store"] == 3
    assert structure.node_name(0) == "every product × every store"
    assert any(structure.node_name(i) == "Alba × North" for i in range(structure.n_nodes))
    # the structure is the same sums, node by node, as adding up the series that each node's name stands for
    values = np.random.default_rng(0).uniform(1, 2, structure.n_series)
    by_node = np.array([values[(structure.membership == node).any(axis=0)].sum() for node in range(structure.n_nodes)])
    np.testing.assert_allclose(structure.summation.sum_up(values), by_node, rtol=1e-14)


@pytest.mark.parametrize("name", ["ols", "structural", "variance"])
def test_projection_is_the_dense_formula(structure: Structure, name: str) -> None:
    rng = np.random.default_rng(1)
    base = rng.normal(50, 10, (structure.n_nodes, 5))
    variance = rng.lognormal(0, 1.5, structure.n_nodes)
    w = np.diag(weights(name, structure.summation, variance))
    _, c = dense(structure)
    expected = base - w @ c.T @ np.linalg.solve(c @ w @ c.T, c @ base)
    found = reconcile(structure.summation, base, name, variance)
    np.testing.assert_allclose(found, expected, rtol=1e-8)
    assert structure.summation.largest_gap(found) <= 1e-12


def test_a_series_that_outweighs_all_others_still_adds_up(structure: Structure) -> None:
    """A mistyped 1e9 beside units: its variance is 1e18 of the others', whose forecasts it hardly moves."""
    rng = np.random.default_rng(6)
    n = structure.n_aggregates
    finest = rng.uniform(5, 9, (structure.n_series, 3))
    base = structure.summation.sum_up(finest)
    base[:n] += rng.normal(0, 1, (n, 3))
    variance = np.ones(structure.n_nodes)
    variance[n + 2] = 1e18
    found = reconcile(structure.summation, base, "variance", variance)
    np.testing.assert_array_equal(found, structure.summation.sum_up(found[n:]))
    others = np.delete(np.arange(structure.n_series), 2)
    assert np.abs(found[n:] - finest)[others].max() < 2.0


def test_bottom_up_keeps_the_finest(structure: Structure) -> None:
    base = np.random.default_rng(2).normal(10, 3, (structure.n_nodes, 2))
    found = reconcile(structure.summation, base, "bottom-up", np.ones(structure.n_nodes))
    assert (found[structure.n_aggregates :] == base[structure.n_aggregates :]).all()
    np.testing.assert_allclose(found, dense(structure)[0] @ base[structure.n_aggregates :], rtol=1e-12)


def test_nonnegative_is_the_closest_nonnegative_coherent_point(structure: Structure) -> None:
    rng = np.random.default_rng(3)
    base = rng.normal(1, 6, (structure.n_nodes, 12))
    variance = rng.lognormal(0, 1, structure.n_nodes)
    found = reconcile(structure.summation, base, "variance", variance, nonnegative=True)
    s, _ = dense(structure)
    scale = 1 / np.sqrt(variance)
    for lead in range(12):
        best = lsq_linear(s * scale[:, None], base[:, lead] * scale, bounds=(0, np.inf), tol=1e-14).x
        np.testing.assert_allclose(found[structure.n_aggregates :, lead], best, atol=1e-5)
    assert (found >= 0).all()
    assert (found == 0).any(), "the case is meant to have values held at zero"
    assert structure.summation.largest_gap(found) <= 1e-12


def test_nodes_that_are_zero_by_decision_stay_zero(structure: Structure) -> None:
    base = np.random.default_rng(4).uniform(5, 9, (structure.n_nodes, 2))
    zero = np.zeros(structure.n_series, dtype=bool)
    zero[[1, 6]] = True
    for name in ("bottom-up", "structural", "variance"):
        found = reconcile(structure.summation, base, name, np.ones(structure.n_nodes), zero=zero)
        assert (found[structure.n_aggregates :][zero] == 0).all()
        assert structure.summation.largest_gap(found) <= 1e-12


def test_unknown_method_is_refused(structure: Structure) -> None:
    with pytest.raises(RecipeError, match="choose one of"):
        reconcile(structure.summation, np.ones((structure.n_nodes, 1)), "magic", np.ones(structure.n_nodes))


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


def test_totals_bridge_unknown_values_and_wait_for_the_first_series(structure: Structure) -> None:
    values = np.tile(np.arange(6.0), (8, 1))
    values[0, 2:4] = np.nan  # unknown inside: bridged in totals, missing in the series itself
    values[:, 0] = np.nan  # nobody has begun
    values[7, :3] = np.nan  # one began later
    nodes = aggregate_history(structure, values)
    assert np.isnan(nodes[:, 0]).all()
    np.testing.assert_allclose(nodes[0, 1:], [7, 14, 24, 32, 40])
    assert np.isnan(nodes[structure.n_aggregates, 2])
    np.testing.assert_allclose(filled_inside(values)[0, 2:4], [2, 3])


def test_whole_numbers_add_up_and_stay_within_one(structure: Structure) -> None:
    rng = np.random.default_rng(5)
    exact = rng.gamma(0.7, 2.0, (structure.n_series, 40)) * (rng.random((structure.n_series, 40)) < 0.8)
    whole = whole_numbers(exact, structure.tree())
    assert (whole == np.round(whole)).all() and (whole >= 0).all()
    assert (whole[exact == 0] == 0).all()
    assert (np.abs(whole - exact) < 1).all()
    nodes, rounded = structure.summation.sum_up(exact), structure.summation.sum_up(whole)
    np.testing.assert_array_equal(rounded[0], np.floor(nodes[0] + 0.5))
    # every node on the way down the tree is less than one off; the others are sums of whole numbers all the same
    depths = [level.depths for level in structure.levels]
    on_tree = [i for i, (a, b) in enumerate(depths) if b == 0 or a == max(d[0] for d in depths)]
    inside = np.isin(structure.level_of, on_tree)
    assert (np.abs(rounded - nodes)[inside] < 1).all()
    np.testing.assert_array_equal(whole_numbers(whole, structure.tree()), whole)
