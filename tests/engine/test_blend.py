"""Blends: their text, their arithmetic by hand, what they say of doubt, and what they cost a study."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from tansy.engine.errors import NotationError
from tansy.engine.methods.blend import Blend, between, joined
from tansy.engine.methods.distribution import draws
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit, in_words
from tansy.engine.panel import Panel
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.run import Backtest, Study, run_study
from tansy.engine.study.store import Store
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

MONTHS = Timeline("M", 24000, 72, 12)
PARTS = ("naive", "seasonal-naive", "ets(A,N,A)", "log theta", "arima(0,1,1)(1,0,0)12", "x")


def series(n: int = 6, length: int = 72, seed: int = 3) -> Floats:
    rng = np.random.default_rng(seed)
    t = np.arange(length)
    season = 20.0 * np.sin(2.0 * np.pi * t / 12 + rng.uniform(0, 6, (n, 1)))
    return np.asarray(100.0 + season + rng.normal(0, 4, (n, length)).cumsum(axis=1))


def fitted(text: str, y: Floats, bands: str = "known") -> Fits:
    return fit(parse(text), Batch(y, MONTHS), 12, bands)


def test_a_blend_reads_back_as_it_is_written() -> None:
    text = "blend(median; ets(A,N,A; alpha=0.2); log theta; arima(0,1,1)(1,0,0)12)"
    form = parse(f"  {text.replace('; log', ' ;log')} ")
    assert isinstance(form, Blend) and str(form) == text and parse(text) == form
    assert [str(part) for part in form.leaves] == ["ets(A,N,A; alpha=0.2)", "log theta", "arima(0,1,1)(1,0,0)12"]
    assert form.has_season and "median of 3 methods" in in_words(form).replace("The ", "")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("blend(most; naive; mean)", "begins with one of mean, median, trimmed, weights, not 'most'"),
        ("blend(mean)", "has 1 to 8 methods"),
        ("blend(mean; naive; naive)", "naive stands there twice"),
        ("blend(mean; naive; blend(mean; drift))", "not other blends"),
        ("blend(mean; naive; nonsense)", "there is no method 'nonsense'"),
        ("log blend(mean; naive)", "belong to the parts"),
        ("blend(mean; naive) + harmonics(3)", "belong to the parts"),
    ],
)
def test_what_makes_no_blend_is_said(text: str, says: str) -> None:
    with pytest.raises(NotationError, match=says.replace("(", r"\(")):
        parse(text)


def test_numbers_of_parts_are_put_together_by_hand() -> None:
    nan = math.nan
    parts = np.array([[[1.0], [1.0], [nan], [nan]], [[2.0], [nan], [nan], [5.0]], [[9.0], [4.0], [nan], [nan]]])
    for rule, expected in (
        ("mean", [4.0, 2.5, nan, 5.0]),
        ("median", [2.0, 2.5, nan, 5.0]),
        ("trimmed", [2.0, 2.5, nan, 5.0]),
        ("weights", [4.0, 2.5, nan, 5.0]),
    ):
        np.testing.assert_allclose(joined(parts, rule)[:, 0], expected)
    weights = np.array([[0.5] * 4, [0.25] * 4, [0.25] * 4])
    np.testing.assert_allclose(joined(parts, "weights", weights)[:, 0], [3.25, 2.0, nan, 5.0])
    four = np.array([1.0, 2.0, 4.0, 100.0])[:, None, None]
    assert joined(four, "median") == 3.0 and joined(four, "trimmed") == 3.0
    np.testing.assert_allclose(between(parts)[:, 0], [38.0 / 3.0, 2.25, 0.0, 0.0])


@given(rule=st.sampled_from(["mean", "median", "trimmed", "weights"]), which=st.sampled_from(PARTS[:-1]))
def test_a_blend_of_one_part_is_that_part(rule: str, which: str) -> None:
    y = series(3)
    one, part = fitted(f"blend({rule}; {which})", y), fitted(which, y)
    p = np.array([0.05, 0.5, 0.9])
    assert one.distribution is not None and part.distribution is not None
    assert one.forecast.tobytes() == part.forecast.tobytes()
    assert one.residuals.tobytes() == part.residuals.tobytes()
    for together in (False, True):
        own = one.distribution.quantiles(p, together)
        assert own.tobytes() == part.distribution.quantiles(p, together).tobytes()


def test_a_part_that_cannot_be_fitted_is_left_out_and_said() -> None:
    y = series(2)
    y[1, 5] = 0.0
    found = fitted("blend(mean; naive; log ets(A,N,A))", y)
    assert (found.forecast[1] == fitted("naive", y).forecast[1]).all() and 1 in found.notes
    assert found.notes[1] == ("log ets(A,N,A): not fitted: logarithms need values above zero",)
    both = (fitted("naive", y).forecast[0] + fitted("log ets(A,N,A)", y).forecast[0]) / 2.0
    np.testing.assert_allclose(found.forecast[0], both, rtol=1e-14)


def test_the_doubt_of_a_blend_holds_that_of_its_parts_and_what_they_differ_by() -> None:
    y = series(4)
    blend, naive, mean = (fitted(text, y) for text in ("blend(mean; naive; mean)", "naive", "mean"))
    assert blend.distribution is not None and naive.distribution is not None and mean.distribution is not None
    within = 0.5 * (naive.distribution.spread() + mean.distribution.spread())
    apart = 0.5 * np.abs(naive.forecast - mean.forecast)
    np.testing.assert_allclose(blend.distribution.spread(), np.sqrt(within**2 + apart**2), rtol=1e-12)
    # both parts are normal, so that the averaged quantiles are, and are as wide as the spread says
    q = blend.distribution.quantiles(np.array([0.1, 0.5, 0.9]))
    np.testing.assert_allclose(q[:, 1], blend.forecast, rtol=1e-9)
    np.testing.assert_allclose((q[:, 2] - q[:, 0]) / 2.5631031310892007, blend.distribution.spread(), rtol=1e-6)
    paths = blend.distribution.paths(slice(0, 4), draws(12))
    np.testing.assert_allclose(np.quantile(paths, 0.9, axis=2), q[:, 2], rtol=0.02)
    sums = np.quantile(np.cumsum(paths, axis=1), 0.9, axis=2)
    np.testing.assert_allclose(blend.distribution.quantiles(np.array([0.9]), True)[:, 0], sums, rtol=0.05)


# --- in a study


def panel() -> Panel:
    values = np.maximum(series(5, 72), 1.0)
    values[4, :60] = np.nan
    return Panel(MONTHS, ("sku",), {"sku": list("abcde")}, values)


RECIPE = Recipe(
    "blends", {}, ("naive", "seasonal-naive", "ets(A,N,A)"), origins=3, step=6, leads=6, reconciliation="bottom-up"
)


def studied(recipe: Recipe, store: Store | None = None, workers: int | None = None) -> tuple[Study, Backtest]:
    found: list[Backtest] = []
    return run_study(panel(), recipe, store=store, backtest=found.append, workers=workers), found[0]


def means(found: Backtest, text: str) -> Floats:
    j = found.methods.index(text)
    return np.stack([one.results[j].rows(0, found.prepared.graph.n_nodes).mean for one in found.endings])


@pytest.mark.parametrize("rule", ["mean", "median", "trimmed"])
def test_a_blend_costs_a_study_nothing_and_is_made_of_its_parts(rule: str, tmp_path: Path) -> None:
    store = Store(tmp_path)
    before, _ = studied(RECIPE, store)
    text = f"blend({rule}; naive; seasonal-naive; ets(A,N,A))"
    blended = replace(RECIPE, methods=(text,))
    study, found = studied(blended, store)
    assert before.tasks.computed > 0 and study.tasks.computed == 0
    parts = np.stack([means(found, one) for one in ("naive", "seasonal-naive", "ets(A,N,A)")])
    np.testing.assert_array_equal(means(found, text), joined(parts.reshape(3, -1, 6), rule).reshape(parts.shape[1:]))
    assert {study.methods[j] for j in study.chosen.tolist()} <= {text, "naive"}
    again, _ = studied(blended, Store(tmp_path / "other"), workers=1)
    assert again.forecast.tobytes() == study.forecast.tobytes()
    assert again.quantiles.tobytes() == study.quantiles.tobytes()


def test_weights_follow_the_errors_that_had_come_and_nothing_later() -> None:
    text = "blend(weights; naive; seasonal-naive)"
    _, found = studied(replace(RECIPE, methods=(text, "naive", "seasonal-naive")))
    naive, season, blend = means(found, "naive"), means(found, "seasonal-naive"), means(found, text)
    came = found.endings[-1].seen.came
    n = 3  # of the single series, which come after their total
    for o in range(4):
        losses = np.array(
            [[np.mean((came[n, 6 * i : 6 * i + 6] - one[i, n]) ** 2) for i in range(o)] for one in (naive, season)]
        )
        total = (losses / losses.mean(axis=0)).sum(axis=1) if o else np.ones(2)
        own = (1.0 / total) / (1.0 / total).sum()
        w = (o * own + 3.0 / 2.0) / (o + 3.0)
        np.testing.assert_allclose(blend[o, n], w[0] * naive[o, n] + w[1] * season[o, n], rtol=1e-10)


def test_the_first_blend_stands_where_no_fallback_is_named() -> None:
    study, _ = studied(replace(RECIPE, methods=("naive", "blend(mean; naive; ets(A,N,A))"), origins=1))
    assert study.methods[study.chosen[1]] == "blend(mean; naive; ets(A,N,A))"
