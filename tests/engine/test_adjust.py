"""Adjustments: sums that hold at every node, locks that stand, and the closest point around what is fixed."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy.optimize import minimize

from tansy.engine.adjust.adjustment import CHANGES, SPREADS, Adjustment, place, read_adjustment
from tansy.engine.adjust.layer import Ground, bands, laid
from tansy.engine.errors import AdjustmentError
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import group
from tansy.engine.panel import Panel
from tansy.engine.reconcile.around import Clash, around_fixed, rows_of
from tansy.engine.reconcile.covariance import Covariance, weights
from tansy.engine.study import export
from tansy.engine.study.checks import check_forecast
from tansy.engine.study.recipe import read_recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline
from tests.engine.test_store import RECIPE
from tests.engine.test_store import garden as garden_of_stores

Floats = NDArray[np.float64]
H = 5
AHEAD = Timeline("W", 2964, H, 52)  # 2026-W43 on
FIRST, LAST = AHEAD.labels[0], AHEAD.labels[-1]


def garden() -> Panel:
    """Three products in two groups, three stores in two regions; one pair is not on sale."""
    pairs = [(p, s) for p in "abc" for s in "xyz" if (p, s) != ("c", "z")]
    keys = {"product": [p for p, _ in pairs], "store": [s for _, s in pairs]}
    attributes = {
        "product": {"group": {"a": "G1", "b": "G1", "c": "G2"}, "name": {"a": "Alba"}},
        "store": {"region": {"x": "North", "y": "North", "z": "South"}},
    }
    return Panel(Timeline("W", 0, 1, 52), ("product", "store"), keys, np.ones((8, 1)), attributes)


PANEL = garden()
GRAPH = group(PANEL, {"product": ["group"], "store": ["region"]})


def ground(seed: int = 0, whole: bool = False, **other: Any) -> Ground:
    rng = np.random.default_rng(seed)
    finest = rng.gamma(2.0, 10.0, (GRAPH.n_series, H))
    finest = np.round(finest) if whole else finest
    still = np.zeros(GRAPH.n_series, dtype=bool)
    still[2] = True
    finest[2] = 0.0
    usual = Ground(
        GRAPH, GRAPH.summation.sum_up(finest), rng.gamma(2.0, 10.0, GRAPH.n_series), still,
        rng.lognormal(0, 1, GRAPH.n_nodes), "variance", whole, True,
    )  # fmt: skip
    return replace(usual, **other)


def lay(on: Ground, *adjustments: dict[str, Any]) -> tuple[Floats, list[str]]:
    """The forecast, and what was wrong with each adjustment."""
    read = [read_adjustment({"from": FIRST, "to": LAST, **one}) for one in adjustments]
    mean, steps = laid(on, [place(one, on.graph, PANEL, AHEAD) for one in read])
    return mean, [step.problem for step in steps]


def at(name: str, graph: Graph = GRAPH) -> int:
    return next(i for i in range(graph.n_nodes) if graph.name(i) == name)


@pytest.mark.parametrize("spread", SPREADS)
@pytest.mark.parametrize("whole", [False, True])
def test_a_node_gets_what_it_was_set_to_and_what_is_locked_stays(spread: str, whole: bool) -> None:
    on = ground(1, whole)
    node, locked = at("G1 × every store"), at("Alba × North")
    mean, wrong = lay(
        on,
        {"where": {"group": "G1"}, "change": "set", "amount": 300.0, "spread": spread,
         "locked": [{"product": "a", "region": "North"}]},
    )  # fmt: skip
    assert wrong == [""]
    np.testing.assert_allclose(mean[node], 300.0, rtol=1e-12)
    np.testing.assert_allclose(mean[locked], on.mean[locked], rtol=1e-12)
    assert GRAPH.summation.largest_gap(mean) < 1e-12
    assert (mean[GRAPH.n_aggregates :][on.still] == 0.0).all()
    if whole:
        assert (mean == np.round(mean)).all()
    other = at("G2 × every store")
    if spread != "reconcile":  # the rest of the sheet does not move
        assert (mean[other] == on.mean[other]).all()
    shares = {"forecast": on.mean[GRAPH.n_aggregates :, 0], "even": np.ones(GRAPH.n_series)}
    if spread in shares and not whole:
        free = [i for i in range(GRAPH.n_series) if PANEL.keys["product"][i] in "ab" and not on.still[i]]
        free = [i for i in free if not (PANEL.keys["product"][i] == "a" and PANEL.keys["store"][i] in "xy")]
        change = (mean - on.mean)[GRAPH.n_aggregates :, 0][free]
        expected = shares[spread][free] / shares[spread][free].sum()
        np.testing.assert_allclose(change / change.sum(), expected, rtol=1e-9)


def test_every_change_means_what_it_says() -> None:
    on = ground(2)
    top = on.mean[0]
    expected = {
        "set": (np.full(H, 90.0), top * 90.0 / top.sum()),
        "add": (top + 90.0, top * (1.0 + 90.0 / top.sum())),
        "percent": (top * 1.9, top * 1.9),
        "cap": (np.minimum(top, 90.0), top * 90.0 / top.sum()),
        "floor": (np.maximum(top, 90.0), top),
    }
    for change, (each, together) in expected.items():
        for over, wanted in (("each", each), ("sum", together)):
            mean, _ = lay(on, {"where": {}, "change": change, "amount": 90.0, "over": over})
            np.testing.assert_allclose(mean[0], wanted, rtol=1e-12)
    later, _ = lay(on, {"where": {}, "change": "shift", "amount": 2})
    np.testing.assert_allclose(later[0], top[[0, 0, 0, 1, 2]])
    part, _ = lay(on, {"where": {}, "change": "shift", "amount": -1, "from": AHEAD.labels[1], "to": AHEAD.labels[3]})
    np.testing.assert_allclose(part[0], top[[0, 2, 3, 4, 4]])


def _adjustments() -> st.SearchStrategy[dict[str, Any]]:
    where = st.sampled_from(
        [{}, {"group": "G1"}, {"region": "North"}, {"product": "c"}, {"product": "b", "store": "y"}]
    )
    return st.fixed_dictionaries(
        {
            "where": where,
            "change": st.sampled_from(CHANGES),
            "amount": st.integers(-60, 200).map(float),
            "over": st.sampled_from(["each", "sum"]),
            "spread": st.sampled_from(SPREADS),
            "locked": st.lists(where, max_size=2),
            "from": st.sampled_from(AHEAD.labels),
            "to": st.sampled_from(AHEAD.labels),
        }
    )


@settings(max_examples=150, deadline=None)
@given(st.lists(_adjustments(), max_size=4), st.booleans(), st.integers(0, 99))
def test_any_sequence_adds_up_keeps_locks_and_is_undone_to_the_bit(
    listed: list[dict[str, Any]], whole: bool, seed: int
) -> None:
    on = ground(seed, whole)
    placed = []
    for one in listed:
        one = {**one, "from": min(one["from"], one["to"]), "to": max(one["from"], one["to"])}
        try:
            placed.append(place(read_adjustment(one), GRAPH, PANEL, AHEAD))
        except AdjustmentError:
            continue
    before = on.mean
    seen = [on.mean.tobytes()]
    for k, one in enumerate(placed, 1):
        mean, steps = laid(on, placed[:k])
        assert GRAPH.summation.largest_gap(mean) < 1e-9 and (mean >= 0.0).all()
        assert not whole or (mean == np.round(mean)).all()
        np.testing.assert_allclose(mean[one.locked], before[one.locked], atol=1e-6)
        outside = np.setdiff1d(np.arange(H), one.leads)
        assert (mean[:, outside] == before[:, outside]).all()
        if steps[-1].problem:
            assert (mean == before).all()
        else:
            assert mean[one.node, one.leads].sum() == pytest.approx(steps[-1].after, rel=1e-9, abs=1e-6)
        before = mean
        seen.append(mean.tobytes())
    for k in range(len(placed), -1, -1):  # undone one by one, and redone
        assert laid(on, placed[:k])[0].tobytes() == seen[k]
    assert laid(on, placed)[0].tobytes() == seen[-1]


@pytest.mark.parametrize("metric", ["ols", "structural", "variance"])
def test_around_fixed_values_is_the_dense_solution(metric: str) -> None:
    """Of the constrained least squares problem, from its conditions of optimality written out whole."""
    rng = np.random.default_rng(3)
    on = ground(3)
    w = weights(metric, GRAPH.summation, on.variance)
    base = rng.normal(50, 10, (GRAPH.n_nodes, H))  # which need not add up
    fixed = np.array([0, at("Alba × every store"), GRAPH.n_aggregates + 5])
    values = base[fixed] + 20.0
    s = np.r_[GRAPH.summation.matrix.toarray(), np.eye(GRAPH.n_series)]
    rows = rows_of(GRAPH.summation, fixed)
    np.testing.assert_array_equal(rows, s[fixed])
    k, n = len(fixed), GRAPH.n_series
    system = np.block([[s.T @ np.diag(1 / w) @ s, rows.T], [rows, np.zeros((k, k))]])
    expected = np.linalg.solve(system, np.r_[s.T @ (base / w[:, None]), values])[:n]
    found = around_fixed(GRAPH.summation, base, Covariance(w), fixed, values, np.zeros(n, dtype=bool), False)
    np.testing.assert_allclose(found, expected, rtol=1e-8)


def test_without_negatives_it_is_the_solution_of_a_general_solver() -> None:
    on = ground(4)
    w = weights("variance", GRAPH.summation, on.variance)
    base = on.mean[:, :1]
    fixed = np.array([0, at("G1 × every store")])
    values = base[fixed] * np.array([[1.0], [0.05]])
    s = np.r_[GRAPH.summation.matrix.toarray(), np.eye(GRAPH.n_series)]
    rows = s[fixed]
    found = around_fixed(GRAPH.summation, base, Covariance(w), fixed, values, on.still, True)
    assert (found >= 0.0).all() and (found[:, 0] == 0.0).sum() > 1

    def distance(x: Floats) -> float:
        return float((((s @ x - base[:, 0]) ** 2) / w).sum())

    solved = minimize(
        distance, np.full(GRAPH.n_series, 5.0), method="SLSQP",
        jac=lambda x: 2.0 * s.T @ ((s @ x - base[:, 0]) / w),
        bounds=[(0.0, 0.0 if one else None) for one in on.still],
        constraints=[{"type": "eq", "fun": lambda x: rows @ x - values[:, 0], "jac": lambda x: rows}],
        options={"maxiter": 2000, "ftol": 1e-13},
    )  # fmt: skip
    assert distance(found[:, 0]) <= distance(solved.x) * (1 + 1e-6)
    np.testing.assert_allclose(found[:, 0], solved.x, atol=1e-2)


def test_locks_that_cannot_be_met_are_named_with_the_least_change() -> None:
    on = ground(5)
    both = [{"group": "G1"}, {"group": "G2"}]
    mean, wrong = lay(on, {"where": {}, "change": "add", "amount": 30.0, "spread": "reconcile", "locked": both})
    assert (mean == on.mean).all()
    assert "every product × every store by −10" in wrong[0] and "G1 × every store by +10" in wrong[0]
    with pytest.raises(Clash) as clash:
        nodes = np.array([0, at("G1 × every store"), at("G2 × every store")])
        values = on.mean[nodes, :1] + np.array([[30.0], [0.0], [0.0]])
        around_fixed(GRAPH.summation, on.mean[:, :1], Covariance(np.ones(GRAPH.n_nodes)), nodes, values, on.still, True)
    resolved = values[:, 0] + clash.value.change
    assert resolved[0] == pytest.approx(resolved[1] + resolved[2])

    _, wrong = lay(on, {"where": {"group": "G1"}, "change": "add", "amount": 3.0, "locked": [{"group": "G1"}]})
    assert "G1 × every store is locked itself" in wrong[0]
    _, wrong = lay(on, {"where": {"group": "G1"}, "change": "add", "amount": 3.0, "locked": [{}]})
    assert "All that G1 × every store holds is locked" in wrong[0]
    _, wrong = lay(on, {"where": {}, "change": "set", "amount": 1.0, "locked": [{"group": "G1"}]})
    assert "unlock some of it" in wrong[0]
    _, wrong = lay(on, {"where": {}, "change": "add", "amount": -1e6})
    assert "would fall below zero" in wrong[0]


def test_bands_stay_as_wide_beside_the_forecast_and_ordered() -> None:
    on = ground(6)
    p = np.array([0.025, 0.1, 0.9, 0.975])
    quantiles = on.mean[:, None] * np.array([0.5, 0.8, 1.2, 1.5])[None, :, None]
    mean, _ = lay(
        on, {"where": {"group": "G1"}, "change": "percent", "amount": 50.0},
        {"where": {"product": "a", "store": "z"}, "change": "set", "amount": 16.0},
    )  # fmt: skip
    found = bands(on, mean, quantiles, p)
    moved = (mean != on.mean) & (on.mean > 0)
    np.testing.assert_allclose(found[:, 3][moved], 1.5 * mean[moved])
    assert (found[at("G2 × every store")] == quantiles[at("G2 × every store")]).all()
    came = GRAPH.n_aggregates + 2  # zero by decision until somebody knew better: a count of 16 has a spread of 4
    np.testing.assert_allclose(found[came][[0, 3], 0], [16 - 1.96 * 4, 16 + 1.96 * 4], atol=0.01)
    assert (np.diff(found, axis=1) >= 0.0).all()


def test_bands_of_what_may_be_below_nothing_move_along_and_large_numbers_stay_whole() -> None:
    on = ground(7, nonnegative=False, still=np.zeros(GRAPH.n_series, dtype=bool))
    quantiles = on.mean[:, None] + np.array([-20.0, -9.0, 9.0, 20.0])[None, :, None]
    p = np.array([0.025, 0.1, 0.9, 0.975])
    for amount in (-5000.0, 0.0, 5000.0):
        mean, wrong = lay(on, {"where": {"group": "G1"}, "change": "set", "amount": amount, "spread": "reconcile"})
        found = bands(on, mean, quantiles, p)
        assert wrong == [""] and (np.diff(found, axis=1) >= 0.0).all() and np.isfinite(found).all()
    huge = ground(8, whole=True)
    finest = huge.mean[GRAPH.n_aggregates :].copy()
    finest[4] = 1e12 + 7.0  # a mistyped number beside units
    huge = replace(huge, mean=GRAPH.summation.sum_up(finest))
    mean, wrong = lay(
        huge, {"where": {"group": "G1"}, "change": "add", "amount": 11.0, "spread": "reconcile",
               "locked": [{"store": "x"}, {"product": "c"}]},
    )  # fmt: skip
    assert wrong == [""] and (mean == np.round(mean)).all()
    assert (mean[at("G1 × every store")] == huge.mean[at("G1 × every store")] + 11.0).all()
    assert (mean[at("every product × x")] == huge.mean[at("every product × x")]).all()


@pytest.mark.parametrize(
    ("entries", "entry", "sentence"),
    [
        ({"change": "lift"}, "change", "one of set, add, percent"),
        ({"spread": "fair"}, "spread", "one of forecast, history"),
        ({"amount": "ten"}, "amount", "a number"),
        ({"change": "shift", "amount": 0.5}, "amount", "whole periods"),
        ({"change": "percent", "amount": -120.0}, "amount", "between -100"),
        ({"to": None}, "to", "text"),
        ({"until": "2026-W44"}, "until", "unknown entry"),
        ({"from": "soon"}, "from", "no period such as"),
        ({"from": LAST, "to": FIRST}, "to", "before it begins"),
        ({"where": {"product": "q"}}, "where", "no series there"),
        ({"where": {"colour": "red"}}, "where", "no key or attribute"),
        ({"locked": [{"name": "Alba", "store": "q"}]}, "locked", "no series there"),
    ],
)
def test_what_cannot_be_right_is_said_at_its_entry(entries: dict[str, Any], entry: str, sentence: str) -> None:
    usual = {"where": {}, "from": FIRST, "to": LAST, "change": "add", "amount": 1.0}
    with pytest.raises(AdjustmentError, match=sentence) as error:
        place(read_adjustment({**usual, **entries}), GRAPH, PANEL, AHEAD)
    assert error.value.entry == entry
    one = read_adjustment(usual)
    assert read_adjustment(one.entries()) == one == Adjustment({}, FIRST, LAST, "add", 1.0)


def test_a_recipe_with_adjustments_gives_both_forecasts_and_is_itself_without_them(tmp_path: Path) -> None:
    panel = garden_of_stores()
    plain = run_study(panel, RECIPE)
    ahead = plain.published.timeline.labels
    recipe = replace(
        RECIPE,
        adjustments=(
            Adjustment({}, ahead[0], ahead[1], "percent", 10.0, reason="spring fair", author="mara"),
            Adjustment({}, "2019-01-07", "2019-01-07", "add", 10.0),
            Adjustment({}, ahead[0], ahead[0], "add", -1e9),
        ),
    )
    assert read_recipe(recipe.to_toml()) == recipe
    study = run_study(panel, recipe)
    export.write(study, panel, tmp_path)
    rows = pl.read_parquet(tmp_path / "forecasts.parquet")
    told = json.loads((tmp_path / "summary.json").read_text())["adjustments"]
    n, h = plain.forecast.shape
    statistical, forecast = (rows[name].to_numpy().reshape(n, h) for name in ("statistical", "forecast"))
    assert (statistical == plain.forecast).all() and (forecast == study.forecast).all()
    np.testing.assert_allclose(forecast[0, :2], 1.1 * plain.forecast[0, :2])
    assert (forecast[:, 2:] == plain.forecast[:, 2:]).all() and study.largest_gap < 1e-9
    assert told["laid"] == 1 and "no period of this forecast" in told["left_out"][0]
    assert all(check.holds for check in check_forecast(study.published, recipe.nonnegative))
    assert (plain.published.statistical == plain.forecast).all()
