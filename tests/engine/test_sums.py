"""Bands of sums over leads: how leads go together is found, sums have closed forms, and hold what they promise."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.special import ndtri

from tansy.engine.backtest.intervals import groups
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import group
from tansy.engine.panel import Panel
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.forecast import ROUNDING, Forecast, Layer
from tansy.engine.study.run import run_study
from tansy.engine.study.sums import sums_of, together
from tansy.engine.timeline import Timeline

P = np.array([0.025, 0.1, 0.25, 0.75, 0.9, 0.975])
Z = ndtri(P)
H = 6
NAN = np.nan


def graph(n: int) -> Graph:
    names = [f"A{i}" for i in range(n)]
    return group(Panel(Timeline("W", 2800, 4, 52), ("product",), {"product": names}, np.ones((n, 4))), {"product": []})


def forecast(spread: np.ndarray, of_leads: np.ndarray) -> Forecast:
    """Of one series and its total, normal bands around 100."""
    own = graph(1)
    mean = np.full((own.n_nodes, H), 100.0)
    quantiles = mean[:, None] + Z[None, :, None] * spread
    chosen = np.zeros(own.n_nodes, dtype=np.int64)
    return Forecast(own, Timeline("W", 2804, H, 52), mean, (), chosen, P, quantiles, of_leads[None])


@pytest.mark.parametrize("phi", [0.0, 0.6, 0.95])
def test_how_leads_go_together_is_read_off_the_windows(phi: float) -> None:
    rng = np.random.default_rng(3)
    own = graph(1500)
    shape = (own.n_nodes, 5, H)
    # errors ahead of an autoregression: e_h = phi e_(h-1) + a_h from e_0 = 0
    error, last = np.empty(shape), np.zeros(shape[:2])
    for h in range(H):
        last = phi * last + rng.normal(size=shape[:2])
        error[:, :, h] = last
    size = rng.lognormal(0.0, 1.0, shape[0])
    error *= size[:, None, None]
    error[::7, 2, 3:] = NAN  # a window that has not come whole says nothing
    tested = rng.normal(50.0, 10.0, shape)
    quantiles = tested[:, :, None] + 2.5 * size[:, None, None, None] * Z[None, None, :, None]
    found = together(own, tested + error, tested, quantiles)[groups(own.level_of, len(own.levels))[-1]]
    variance = np.cumsum(phi ** (2 * np.arange(H)))
    i, j = np.indices((H, H))
    truth = phi ** np.abs(i - j) * np.sqrt(variance[np.minimum(i, j)] / variance[np.maximum(i, j)])
    # 7,500 windows: one standard error is at most 0.012, and clipped errors draw products together a little
    np.testing.assert_allclose(found, truth, atol=0.04)


def test_sums_have_their_closed_forms() -> None:
    spread = np.linspace(2.0, 7.0, H)
    alone, with_all = np.eye(H), np.ones((H, H))
    summed, apart = sums_of(forecast(spread, alone))
    np.testing.assert_allclose(summed[0], 100.0 * np.arange(1, H + 1))
    np.testing.assert_allclose(apart[0] - summed[0], Z[:, None] * np.sqrt(np.cumsum(spread**2)), rtol=1e-12)
    _, one = sums_of(forecast(spread, with_all))
    np.testing.assert_allclose(one[0], np.cumsum(forecast(spread, with_all).quantiles[0], axis=1), rtol=1e-12)
    ar = 0.7 ** np.abs(np.subtract.outer(np.arange(H), np.arange(H)))
    _, mixed = sums_of(forecast(spread, ar))
    by_definition = [np.sqrt(spread[:k] @ ar[:k, :k] @ spread[:k]) for k in range(1, H + 1)]
    np.testing.assert_allclose(mixed[1] - summed[1], Z[:, None] * by_definition, rtol=1e-12)
    np.testing.assert_array_equal(mixed[:, :, 0], forecast(spread, ar).quantiles[:, :, 0])
    some, _ = sums_of(forecast(spread, ar), np.array([1]))
    np.testing.assert_array_equal(some, summed[1:])


def test_sums_of_counts_stay_above_zero_and_whole_units_are_drawn_outwards() -> None:
    few = forecast(np.full(H, 80.0), np.eye(H))
    few = replace(few, quantiles=np.maximum(few.quantiles, 0.0))
    _, apart = sums_of(few)
    assert (apart >= 0.0).all() and (np.diff(apart, axis=1) >= 0.0).all()
    whole = replace(few, layers=(Layer(ROUNDING, few.mean),))
    _, outward = sums_of(whole)
    assert (
        (outward == np.round(outward)).all()
        and (outward[:, :3] <= apart[:, :3]).all()
        and (outward[:, 3:] >= apart[:, 3:]).all()
    )


@pytest.mark.parametrize("method", ["naive", "mean"])
def test_bands_of_sums_hold_what_they_promise(method: str) -> None:
    """Walks, whose errors pile up over the leads, and noise, whose errors level out; each with its own method."""
    rng = np.random.default_rng(11)
    n, length, leads = 400, 110, 8
    steps = rng.normal(0.0, 3.0, (n, length + leads))
    values = 300.0 + (np.cumsum(steps, axis=1) if method == "naive" else steps)
    names = [f"A{i:03}" for i in range(n)]
    panel = Panel(Timeline("W", 2800, length, 52), ("product",), {"product": names}, values[:, :length].copy())
    base = default_recipe(panel, {"product": []})
    recipe = replace(
        base, methods=(method,), fallback=(method,), origins=6, step=8, leads=leads, reconciliation="bottom-up"
    )
    found = run_study(panel, recipe, workers=1).published
    summed, apart = sums_of(found)
    came = np.cumsum(values[:, length:], axis=1)
    inside = ((came >= apart[1:, 1]) & (came <= apart[1:, 4])).mean(axis=0)
    # 400 series: two standard errors are 4 points; estimated spreads add one or two
    np.testing.assert_allclose(inside, 0.8, atol=0.06)
    independent = np.sqrt(np.cumsum((found.quantiles[1:, 4] - found.mean[1:]) ** 2, axis=1))
    ratio = float(np.median((apart[1:, 4] - summed[1:])[:, -1] / independent[:, -1]))
    # of a walk the variance of the sum of 8 is 1 + 4 + ... + 64 = 204 steps where independent leads would have 36
    assert ratio == pytest.approx(np.sqrt(204 / 36) if method == "naive" else 1.0, rel=0.1)
