"""Series that no portfolio should have and every portfolio has: nobody else pays for them, and nothing is promised on
the strength of one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.backtest.choice import ChoiceRule, choose
from tansy.engine.backtest.intervals import Calibration, Scale, least_sigma, probabilities
from tansy.engine.graph.constraints import from_edges
from tansy.engine.kernels.windows import losses_by_then
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.panel import Panel
from tansy.engine.reconcile.covariance import weights
from tansy.engine.study.accuracy import MEASURES, PUBLISHED
from tansy.engine.study.checks import check_forecast
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.forecast import Layer
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.run import Study, run_study
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

DAYS = 140
RECIPE = Recipe(
    name="odd",
    structure={},
    methods=("seasonal-naive", "naive", "mean", "ets(A,N,N)", "ets(A,N,A)"),
    origins=4,
    step=7,
    leads=14,
    reconciliation="bottom-up",  # so that what a series is forecast owes nothing to the others
)
WEEK = np.array([1.0, 1.0, 0.0, 1.0, 0.0, 1.0, 1.0])


def odd(kind: str) -> Floats:
    t = np.arange(DAYS)
    return {
        "fitted exactly": np.tile(WEEK, DAYS // 7),
        "fitted exactly but for one": np.where(t == DAYS - 10, 3.0, np.tile(WEEK, DAYS // 7)),
        "constant": np.full(DAYS, 7.5),
        "1e15": np.random.default_rng(9).uniform(0.5e15, 1e15, DAYS),
        "one value": np.where(t == 60, 5.0, np.nan),
        "alternating": np.where(t % 2 == 0, 0.0, 1000.0),
    }[kind]


def panel(extra: Floats | None = None, n: int = 80) -> Panel:
    """About two a day, as 80 daily counts with a week."""
    rng = np.random.default_rng(4)
    week = 1.0 + 0.4 * np.sin(2 * np.pi * np.arange(DAYS) / 7)
    values = rng.poisson(rng.uniform(0.8, 4.0, n)[:, None] * week).astype(float)
    if extra is not None:
        values = np.vstack([values, extra])
    return Panel(Timeline("D", 20_000, DAYS, 7), ("sku",), {"sku": [f"s{i:03}" for i in range(len(values))]}, values)


@pytest.fixture(scope="module")
def sound() -> Study:
    return run_study(panel(), RECIPE)


def widths(study: Study, n: int) -> Floats:
    q = study.quantiles[study.graph.n_aggregates :][:n]
    return np.asarray(q[:, -1] - q[:, 0])


@pytest.mark.parametrize(
    "kind", ["fitted exactly", "fitted exactly but for one", "constant", "1e15", "one value", "alternating"]
)
def test_one_odd_series_moves_nobody_elses_band(kind: str, sound: Study) -> None:
    found = run_study(panel(odd(kind)), RECIPE)
    before, after = widths(sound, 80), widths(found, 80)
    same_method = sound.chosen[1:] == found.chosen[1:81]
    assert same_method.all(), "no series outvotes the others of its group"
    # bands of counts are whole numbers, and where the last digit turns one it moves by one
    whole = np.abs(after - before) <= 1.0
    assert whole.all()
    assert np.abs(after.sum() / before.sum() - 1.0) < 0.01
    assert np.isfinite(found.quantiles).all()


@pytest.mark.parametrize("kind", ["fitted exactly", "constant", "1e15", "one value", "alternating"])
def test_one_odd_series_moves_nobody_elses_band_where_bands_are_not_rounded(kind: str) -> None:
    halves = replace(panel(), values=panel().values * 1.37)
    extra = replace(panel(odd(kind)), values=np.vstack([halves.values, odd(kind)]))
    before, after = widths(run_study(halves, RECIPE), 80), widths(run_study(extra, RECIPE), 80)
    np.testing.assert_allclose(after, before, rtol=0.01)


def test_an_error_that_the_fit_knows_by_now_does_not_count_twice() -> None:
    """A total that a typing error of 1e10 came into, missed by a fit whose spread was 1, and whose spread is 1e9 since.
    The error in units of then, taken in units of now, would be 1e19. What was never far off keeps its bands."""
    rng = np.random.default_rng(11)
    errors = rng.normal(0.0, 1.0, (1, 5, 6))
    p, ones = probabilities([80.0, 95.0]), np.ones((1, 6))

    def offsets(own: Floats, now: float) -> Floats:
        calibration = Calibration(np.zeros(1, dtype=np.int64), p)
        for o in range(5):
            calibration.offsets(own[:, :o], Scale(ones, ones), float(o))
        return calibration.offsets(own, Scale(now * ones, ones), 5.0)

    wild = errors.copy()
    wild[0, 4] += 1e10
    found = offsets(wild, 1e9)
    assert found.max() > 1e9 and np.abs(found).max() <= 5.0 * np.abs(wild).max()
    assert (np.diff(found, axis=1) >= 0.0).all()
    usual = offsets(errors, 1.0)
    assert 1.3 < usual[0, -1].max() < 4.0 and np.abs(usual).max() < 0.5 * 5.0 * np.abs(errors).max()


def test_no_sigma_is_less_than_the_scale_of_its_series_allows() -> None:
    values = np.array([np.tile([0.0, 1.0, 0.0, 1.0], 10), np.full(40, 9.0), np.full(40, 9.5)])
    # a hundredth of a step of one, or a Poisson count of a tenth of the mean; what never moved and is no count has none
    np.testing.assert_allclose(least_sigma(values), [np.sqrt(0.05), np.sqrt(0.9), 0.0])
    np.testing.assert_allclose(least_sigma(values * 1.5 + 0.25), [0.015, 0.0, 0.0])


def test_an_unknown_error_variance_gets_a_typical_weight() -> None:
    _, summation = from_edges(["t", "t", "t"], ["a", "b", "c"], ["", "", ""])
    found = weights("variance", summation, np.array([np.nan, 4.0, np.nan, 16.0]))
    np.testing.assert_allclose(found, [30.0, 4.0, 10.0, 16.0])  # the median of those known; their sum above them


# --- what is chosen, and what is said of it -------------------------------------------------------------------------


def chosen_of_one(losses: Floats) -> int:
    n_methods = losses.shape[1]
    every, nothing = np.ones((1, n_methods), dtype=bool), np.empty(0, dtype=np.int64)
    return int(choose(losses, every, every[0], nothing, np.zeros(1, dtype=np.int64), ChoiceRule()).method[0])


def test_a_method_tested_once_is_not_chosen_over_methods_tested_often() -> None:
    squares = np.ones((1, 3, 6))
    squares[0, 1] = 0.8
    squares[0, 2] = np.nan
    squares[0, 2, 5] = 0.1  # excellent, the one time it could be fitted
    assert chosen_of_one(squares) == 1
    squares[0, 2, 4] = 0.1  # twice of six is a third
    assert chosen_of_one(squares) == 2


def test_an_origin_without_a_scale_is_left_out_of_the_choice() -> None:
    came = np.zeros((1, 6))
    mean = np.ones((2, 3, 1, 2))
    mean[0, 0], mean[1, 1:] = 1e6, 1.1  # method 0 is better wherever there is a scale
    scale, first = np.array([[0.0, 4.0, 4.0]]), np.array([0, 2, 4])
    losses = np.empty((1, 2, 3))
    losses_by_then(mean, came, first, 6, scale, False, losses)
    assert np.isnan(losses[:, :, 0]).all()
    np.testing.assert_allclose(losses[0, :, 1:], [[0.25, 0.25], [0.3025, 0.3025]])
    assert chosen_of_one(losses) == 0
    losses_by_then(mean, came, first, 6, scale, True, losses)
    np.testing.assert_allclose(losses[0, :, 1:], [[0.5, 0.5], [0.55, 0.55]])


@pytest.fixture(scope="module")
def three_years() -> Panel:
    rng = np.random.default_rng(8)
    t = np.arange(36)
    level = rng.uniform(50, 400, 12)[:, None]
    values = np.round(level * (1 + 0.3 * np.sin(2 * np.pi * t / 12)) * rng.lognormal(0, 0.1, (12, 36)))
    return Panel(Timeline("M", 24_000, 36, 12), ("sku",), {"sku": [f"s{i:02}" for i in range(12)]}, values)


def published(study: Study, level: int = -2) -> dict[str, float]:
    row = study.tables.by_method[level, study.tables.method_names.index(PUBLISHED), 0]
    return dict(zip(MEASURES, row.tolist(), strict=True))


def test_three_years_of_months_have_an_accuracy_and_say_on_how_many_values(three_years: Panel) -> None:
    recipe = default_recipe(three_years, {})
    study = run_study(three_years, recipe)
    names, tables = study.tables.method_names, study.tables
    assert 0 < published(study)["RMSSE"] < 1.5 and np.isfinite(published(study)["gain"])
    every = 12 * recipe.origins * recipe.leads
    assert tables.cells[-2, names.index(PUBLISHED)] == every, "what is published is judged on all that it covers"
    for j, name in enumerate(names[:-2]):
        assert tables.cells[-2, j] == np.isfinite(study_cells(study, name)).sum(), name
    came = np.stack([study.received[1:, n : n + recipe.leads] for n in study.seen_at], axis=1)
    e = came - study.tested[1:]
    assert published(study)["MAE"] == pytest.approx(np.abs(e).mean())
    # one sign everywhere: actual minus forecast, so below zero where the forecast is too high
    assert published(study)["bias"] == pytest.approx(100 * e.sum() / np.abs(came).sum())


def study_cells(study: Study, name: str) -> Floats:
    """Errors of one method on the finest level, refitted here."""
    leads = study.recipe.leads
    found = [
        study.received[1:, n : n + leads]
        - fit(parse(name), Batch(study.history[1:, :n].copy(), study.timeline.until(n)), leads).forecast
        for n in study.seen_at
    ]
    return np.stack(found, axis=1)


def test_a_candidate_that_is_never_chosen_changes_no_published_figure(three_years: Panel) -> None:
    recipe = replace(default_recipe(three_years, {}), methods=("seasonal-naive", "ets(A,N,N)", "ets(A,N,A)"))
    plain = run_study(three_years, recipe)
    more = replace(recipe, methods=(*recipe.methods, "moving-average(30)", "ets(A,N,N; alpha=0.01, level=1e6)"))
    with_more = run_study(three_years, more)
    assert not {with_more.methods[j] for j in with_more.chosen_at.ravel().tolist()} - set(plain.methods)
    for level in (-1, -2, -3):
        assert published(plain, level) == published(with_more, level)
    np.testing.assert_array_equal(plain.quantiles, with_more.quantiles)


def test_bands_do_not_narrow_with_the_lead_and_what_is_zero_by_decision_has_none(three_years: Panel) -> None:
    values = three_years.values.copy()
    values[3, 30] *= 40.0  # one wild value
    values[7, 10:] = 0.0
    ended = replace(three_years, values=values, keys={"sku": three_years.keys["sku"]})
    recipe = replace(default_recipe(ended, {}), ended_after=13)
    study = run_study(ended, recipe)
    node = study.graph.n_aggregates + 7
    assert (study.forecast[node] == 0).all() and (study.quantiles[node] == 0).all()
    checks = {c.name: c for c in check_forecast(study.published, True)}
    assert checks["bands ordered and plausible"].holds, checks["bands ordered and plausible"].found
    width = study.quantiles[:, -1] - study.quantiles[:, 0]
    for early in range(recipe.leads):
        for late in range(early, recipe.leads):
            level = study.forecast[:, late] >= study.forecast[:, early]
            assert (width[level, late] >= width[level, early] * (1 - 1e-9)).all()
    narrowed = study.quantiles.copy()
    highest = 1 + int(np.argmax(study.forecast[0, 1:]))
    narrowed[0, :, highest] = study.forecast[0, highest]
    found = check_forecast(replace(study.published, quantiles=narrowed), True)
    assert not {c.name: c.holds for c in found}["bands ordered and plausible"]


def test_leads_that_round_to_the_same_whole_number_may_have_unlike_bands(three_years: Panel) -> None:
    study = run_study(three_years, replace(default_recipe(three_years, {}), methods=("moving-average(30)",)))
    graph, leads = study.graph, study.recipe.leads

    def holds(finest: Floats, whole: Floats) -> bool:
        wide = np.where(np.arange(leads) == 0, 20.0, 10.0)  # the first lead has twice the band of the others
        mean = graph.summation.sum_up(whole)
        quantiles = np.stack([mean - wide, mean + wide], axis=1)
        layers = (Layer("reconciliation", graph.summation.sum_up(finest)), Layer("rounding", mean))
        made = replace(study.published, layers=layers, quantiles=quantiles, probabilities=np.array([0.025, 0.975]))
        return all(c.holds for c in check_forecast(made, True))

    whole = np.full((graph.n_series, leads), 57.0)
    assert not holds(whole, whole)
    falling = whole + np.where(np.arange(leads) == 0, 0.4, -0.01 * np.arange(leads))
    assert holds(falling, whole)  # 57.4 and then 56.99 both go out as 57


def test_a_total_of_nothing_but_ended_series_has_no_band() -> None:
    rng = np.random.default_rng(2)
    values = rng.poisson(20.0, (8, 60)).astype(float)
    values[:2, 30:] = 0.0
    keys = {"sku": [f"s{i}" for i in range(8)]}
    group = {"sku": {"group": {f"s{i}": "gone" if i < 2 else "here" for i in range(8)}}}
    weekly = Panel(Timeline("M", 24_000, 60, 12), ("sku",), keys, values, group)
    study = run_study(weekly, replace(default_recipe(weekly, {"sku": ["group"]}), ended_after=13))
    gone = next(i for i in range(study.graph.n_nodes) if study.graph.name(i) == "gone")
    assert (study.forecast[gone] == 0).all() and (study.quantiles[gone] == 0).all()


@pytest.mark.parametrize("text", ["ets(best)", "ets(M,N,N)", "log ets(best)", "log ets(A,A,N)"])
def test_nothing_is_infinite_where_most_is_missing(text: str) -> None:
    """Errors of a fit that is no good multiply over a hundred gaps, on a scale of logarithms most of all."""
    rng = np.random.default_rng(3)
    y = np.exp(rng.normal(0.0, np.linspace(0.1, 2.0, 24)[:, None], (24, 120)).cumsum(axis=1))
    y[rng.random(y.shape) < 0.9] = np.nan
    y[:, -1] = y[:, 60] = 50.0
    found = fit(parse(text), Batch(y, Timeline("M", 24000, 120, 4)), 12, bands="estimated")
    assert found.distribution is not None
    assert np.isfinite(found.forecast[found.defined]).all()
    quantiles = found.distribution.quantiles(np.array([0.025, 0.5, 0.975]))[found.defined]
    assert np.isfinite(quantiles[:, :2]).all()
    assert (np.diff(quantiles, axis=1) >= 0.0).all()
