"""Measures by their definitions, choice, bands, and whole studies on made-up series."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from numpy.typing import NDArray
from scipy.stats import norm

from tansy.engine.backtest.choice import ChoiceRule, Ground, choose
from tansy.engine.backtest.intervals import Calibration, Past, Scale, groups, probabilities, whole_bands
from tansy.engine.backtest.measures import mean_square_step
from tansy.engine.backtest.origins import origins
from tansy.engine.backtest.score import Forecasts, score
from tansy.engine.errors import NotationError, RecipeError
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.panel import Panel
from tansy.engine.study.checks import check_forecast
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.forecast import Layer
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe, read_recipe
from tansy.engine.study.run import Study, run_study
from tansy.engine.study.tasks import Task, fit_task
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


def test_measures_are_their_definitions() -> None:
    train = np.array([[0.0, 0.0, 4.0, 6.0, 5.0, 9.0]])
    actual = np.array([[10.0, 0.0, 8.0, np.nan]])
    mean = np.array([[8.0, 1.0, 12.0, 5.0]])
    quantiles = {0.1: np.array([[6.0, 0.0, 9.0, 1.0]]), 0.9: np.array([[11.0, 2.0, 14.0, 9.0]])}
    pooled, (each,) = score(Forecasts(actual, mean, quantiles, train), 2)
    e = np.array([2.0, -1.0, -4.0])
    a = np.array([10.0, 0.0, 8.0])
    assert each["ME"] == pytest.approx(-1.0)
    assert each["MAE"] == pytest.approx(7 / 3)
    assert each["MSE"] == pytest.approx(7.0)
    assert each["MAPE"] == pytest.approx(100 * (0.2 + 0.5) / 2)
    assert each["sMAPE"] == pytest.approx(200 * np.mean([2 / 18, 1 / 1, 4 / 20]))
    assert each["WAPE"] == pytest.approx(100 * 7 / 18)
    assert each["MASE"] == pytest.approx((7 / 3) / np.mean([4, 6, 1, 3]))
    # from the first non-zero value: 4, 6, 5, 9
    assert each["RMSSE"] == pytest.approx(np.sqrt(7 / np.mean([4, 1, 16])))
    assert each["theil_u"] == pytest.approx(np.sqrt(7 / np.mean((a - 9) ** 2)))
    low, high = np.array([6, 0, 9]), np.array([11, 2, 14])
    assert each["pinball"] == {
        "0.1": pytest.approx(np.mean([0.4, 0.0, 0.9])),
        "0.9": pytest.approx(np.mean([0.1, 0.2, 0.6])),
    }
    assert each["coverage"] == {"80": pytest.approx(2 / 3)}
    assert each["interval_score"] == {"80": pytest.approx(np.mean(high - low + 10 * np.maximum(low - a, 0)))}
    assert pooled["WAPE"] == each["WAPE"] and e.mean() == pooled["ME"]


def test_undefined_measures_are_none() -> None:
    _, (each,) = score(Forecasts(np.zeros((1, 2)), np.ones((1, 2)), {}, np.zeros((1, 5))), 4)
    assert each["MAPE"] is None and each["WAPE"] is None and each["MASE"] is None and each["RMSSE"] is None


def test_scale_of_rmsse_starts_at_the_first_non_zero_value() -> None:
    found = mean_square_step(np.array([[0, 0, 3, 5], [np.nan, 2, 2, 4], [0, 0, 0, 7]], dtype=float))
    np.testing.assert_allclose(found, [4.0, 2.0, np.nan])


def test_origins_leave_the_longest_lead_to_be_judged_on() -> None:
    assert origins(100, 3, 10, 13) == [67, 77, 87]
    with pytest.raises(RecipeError, match="at least 35 periods"):
        origins(30, 3, 10, 13)


def test_origins_stand_still_while_history_grows() -> None:
    """The next origin of the grid comes in as soon as the newest values have no other window to count in."""
    assert origins(100, 3, 10, 13, anchor=67) == origins(100, 3, 10, 13)
    assert origins(101, 3, 10, 13, anchor=87) == [77, 87, 97], "judged on the four leads that have come"
    assert origins(110, 3, 10, 13, anchor=87) == [77, 87, 97]
    assert origins(110, 3, 10, 13, anchor=207) == [77, 87, 97], "an anchor may lie anywhere on the grid"
    assert origins(100, 2, 50, 13, anchor=60) == [10, 60], "no window of this grid reaches the end"


NONE = np.empty(0, dtype=np.int64)


def chosen(losses: Any, fallback: Any = NONE, group: Any = None, defined: Any = None, **rule: Any) -> list[int]:
    losses = np.asarray(losses, dtype=float)
    n, n_methods, _ = losses.shape
    every = np.ones((n, n_methods), dtype=bool) if defined is None else defined
    groups = np.arange(n) if group is None else np.asarray(group, dtype=np.int64)
    found = choose(
        losses, every, np.ones(n_methods, dtype=bool), np.asarray(fallback), groups, ChoiceRule(**rule)
    ).method
    return [int(j) for j in found]


def test_choice_is_least_error_of_what_has_come() -> None:
    # method 1 is better over all; before the last origin's errors had come, method 0 was
    squares = np.array([[[0.1, 1.5, 3.0], [1.0, 1.0, 1.0]]])
    assert chosen(squares) == [1]
    assert chosen(squares[:, :, :2]) == [0]


def test_choice_does_not_favour_a_method_that_missed_the_hard_origin() -> None:
    # method 2 was only tried at the easy origin, where it was worse than the others
    assert chosen([[[9.0, 1.0], [8.0, 1.1], [np.nan, 1.5]]]) == [1]


def test_a_tie_goes_to_the_simpler_and_without_evidence_the_fallback_stands() -> None:
    squares = np.full((4, 3, 2), np.nan)
    squares[0] = 1.0
    defined = np.ones((4, 3), dtype=bool)
    defined[1, 0] = False
    defined[2, 2] = False
    defined[3] = False
    assert chosen(squares, defined=defined) == [0, 1, 0, -1]
    assert chosen(squares, [2, 1], defined=defined) == [2, 2, 1, -1], "nothing is better than what stands"
    assert chosen(squares[:, :, :0], [2, 1], defined=defined) == [2, 2, 1, -1], "the first origin"


def test_what_stands_is_left_only_for_what_is_better_by_more_than_chance() -> None:
    rng = np.random.default_rng(5)
    n, n_windows = 200, 6
    losses = np.exp(rng.normal(0.0, 0.5, (n, 3, n_windows)))
    group = np.zeros(n, dtype=np.int64)
    assert set(chosen(losses, [0], group, margin=3.0)) == {0}, "all three are as good as each other"
    losses[:, 1] *= 0.8
    assert set(chosen(losses, [0], group)) == {1}, "better by a tenth in 200 series, the same in all windows"
    shared = np.exp(np.array([0.6, -0.7, 0.5, -0.6, 0.7, -0.6]))
    losses[:, 1] *= shared
    assert set(chosen(losses, [0], group)) == {0}, "what all series share in a window is no evidence of 200"


def test_a_series_leaves_its_group_only_for_a_method_that_is_much_better_on_it() -> None:
    rng = np.random.default_rng(6)
    losses = np.exp(rng.normal(0.0, 0.1, (40, 2, 5)))
    losses[:, 1] *= 1.1
    losses[0, 1] *= 0.5**2  # its errors are half as large with the other method
    losses[1, 1] *= 0.9**2  # a tenth smaller: too little
    losses[2, 1, :2] *= 0.5**2  # in two windows of five
    losses[2, 1, 2:] *= 1.3**2
    noise = np.exp(rng.normal(0.0, 0.6, (40, 2, 5)))
    assert chosen(noise, [0], np.zeros(40), margin=2.0) == [0] * 40, "all differ by chance alone"
    found = chosen(losses, [0], np.zeros(40), own=0.25)
    assert found == [0 if i else 1 for i in range(40)]
    assert chosen(losses[:, :, :2], [0], np.zeros(40)) == [0] * 40, "two windows say too little"
    assert chosen(np.sqrt(losses), [0], np.zeros(40), measure="absolute") == found


def test_a_choice_says_what_it_stands_on() -> None:
    """Six windows, squared errors. Of 30 series that choose together method 1 has a quarter of the squared error of
    method 0, which stands: half the error, with nothing to doubt. On series 0 method 2 has a hundredth of method 1's.
    Another 30 have no difference, and one was never tested."""
    losses = np.ones((61, 3, 6))
    losses[:30, 1] = 0.25
    losses[0, 2] = 0.0025
    losses[60] = np.nan
    group = np.repeat([4, 2, 7], [30, 30, 1])
    every = np.ones((61, 3), dtype=bool)
    found = choose(losses, every, every[0], np.array([0]), group, ChoiceRule())
    assert found.method.tolist() == [2, *[1] * 29, *[0] * 31]
    assert found.ground.tolist() == [Ground.OWN, *[Ground.GROUP] * 29, *[Ground.STANDS] * 30, Ground.UNTESTED]
    assert found.stood.tolist() == [1, *[0] * 60]
    assert found.ahead[1:30] == pytest.approx(0.5) and found.doubt[1:30] == pytest.approx(0.0, abs=1e-12)
    assert 0.1 < found.ahead[0] <= 0.95, "what one series says is shrunk to what its group says"
    assert np.isnan(found.ahead[30:]).all()
    assert found.windows.tolist() == [6] * 60 + [0]
    # one of the last has something else to stand first, and the last has it undefined
    first, some = np.full(61, -1), every.copy()
    first[[59, 60]], some[60, 2] = 2, False
    other = choose(losses, some, every[0], np.array([0]), group, ChoiceRule(), first)
    assert other.method.tolist() == [*found.method[:59], 2, 0] and other.stood.tolist() == [1, *[0] * 58, 2, 0]
    without = choose(losses, every, every[0], NONE, group, ChoiceRule())
    assert without.ground[1] == Ground.LEAST and without.method[1] == 1


def test_no_series_outvotes_the_others_of_its_group() -> None:
    rng = np.random.default_rng(7)
    losses = np.exp(rng.normal(0.0, 0.1, (60, 2, 4)))
    losses[:, 1] *= 0.7
    losses[0] *= [[1e-12], [1e24]]
    assert chosen(losses, [0], np.zeros(60))[1:] == [1] * 59


@dataclass(frozen=True)
class Bands:
    now: Floats
    at_origin: Floats


def calibrate(
    errors: Floats, sigma: Floats, sigma_now: Floats, relative: Floats, relative_now: Floats, group: Any, p: Floats,
    growth: Any = 1.0,
) -> Bands:  # fmt: skip
    """Origin after origin, where all of the origins before has come. growth: [H], of the fits' spread."""
    calibration = Calibration(group, p)
    grown = np.ones(errors.shape[2]) * growth
    at = []
    for o in range(errors.shape[1]):
        scale = Scale.of(sigma[:, o], sigma[:, o, None] * grown, relative[:, o])
        at.append(calibration.offsets(errors[:, :o], scale, o))
    now = calibration.offsets(errors, Scale.of(sigma_now, sigma_now[:, None] * grown, relative_now), errors.shape[1])
    return Bands(now, np.stack(at, axis=1))


def test_bands_cover_fresh_errors_of_any_shape() -> None:
    """Skewed errors that grow with the lead, nodes of different noise: coverage on errors not used for the bands."""
    rng = np.random.default_rng(0)
    n, n_origins, horizon = 400, 6, 8
    scale = rng.lognormal(0, 1, n)
    growth = np.sqrt(np.arange(1, horizon + 1))

    def draw(k: int) -> Floats:
        return (rng.gamma(2.0, 1.0, (n, k, horizon)) - 2.0) * scale[:, None, None] * growth

    sigma = np.repeat(scale[:, None], n_origins, axis=1)
    p = probabilities([80, 95])
    np.testing.assert_allclose(p, [0.025, 0.1, 0.9, 0.975])
    flat, flat_now = np.ones((n, n_origins, horizon)), np.ones((n, horizon))
    bands = calibrate(draw(n_origins), sigma, scale, flat, flat_now, np.zeros(n, dtype=int), p, math.sqrt(2.0) * growth)
    fresh = draw(20)
    for low, high, level in ((0, 3, 0.95), (1, 2, 0.80)):
        inside = (fresh >= bands.now[:, None, low]) & (fresh <= bands.now[:, None, high])
        # 19,200 errors behind the quantiles, 64,000 judged; the series' own factors are estimated from 48 errors each
        np.testing.assert_allclose(inside.mean(), level, atol=0.015)
        np.testing.assert_allclose(inside.mean(axis=(0, 1)), level, atol=0.03)
    assert (np.diff(bands.now, axis=1) >= 0).all()
    # at the first origin nothing had been missed yet: normal, of the spread that the fit says
    np.testing.assert_allclose(
        bands.at_origin[:, 0, :, 3] / scale[:, None], np.tile(np.sqrt(8.0) * norm.ppf(p), (n, 1))
    )


def test_how_errors_grow_is_believed_as_windows_come_and_the_fit_until_then() -> None:
    rng = np.random.default_rng(2)
    n, horizon = 4000, 4
    growth = np.array([1.0, 1.5, 2.0, 3.0])
    p = probabilities([80])
    for windows in (1, 3, 9):
        calibration = Calibration(np.zeros(n, dtype=np.int64), p)
        flat = Scale.of(np.ones(n), np.ones((n, horizon)), np.ones((n, horizon)))
        errors = rng.normal(0.0, growth, (n, windows, horizon))
        for o in range(windows):
            calibration.offsets(errors[:, :o], flat, o)
        found = calibration.offsets(errors, flat, windows)[:, 1].mean(axis=0)
        # as much as the fit where one window has come: the root of the truth, then its 3/4, its 9/10
        np.testing.assert_allclose(found / norm.ppf(0.9), growth ** (windows / (windows + 1.0)), rtol=0.04)


@pytest.mark.parametrize("error", [0.0, math.nan])
def test_bands_of_what_never_missed_have_no_width_and_of_what_was_never_tested_a_normal_one(error: float) -> None:
    n, h = 4, 3
    flat, sigma, p = np.ones((n, 2, h)), np.full((n, 2), 2.0), probabilities([80, 95])
    bands = calibrate(np.full((n, 2, h), error), sigma, sigma[:, 0], flat, flat[:, 0], np.zeros(n, dtype=int), p)
    expected = np.zeros(4) if error == 0.0 else 2.0 * norm.ppf([0.025, 0.1, 0.9, 0.975])
    np.testing.assert_allclose(bands.now, np.broadcast_to(expected[None, :, None], bands.now.shape), atol=1e-12)


@pytest.mark.parametrize("power", [0.0, 0.5, 1.0])
def test_bands_follow_the_season_as_far_as_the_errors_do(power: float) -> None:
    """Volume swings tenfold; errors spread with a power of it. Out of season and in season, 80 % bands hold 80 %."""
    rng = np.random.default_rng(1)
    n, n_origins, horizon = 300, 6, 10
    relative = rng.choice([0.2, 2.0], (n, n_origins, horizon))
    errors = rng.normal(0, 1, relative.shape) * relative**power
    ahead = np.tile([0.2, 2.0], (n, horizon // 2))
    sigma = np.ones((n, n_origins))
    bands = calibrate(errors, sigma, sigma[:, 0], relative, ahead, np.zeros(n, dtype=int), probabilities([80]))
    fresh = rng.normal(0, 1, (n, 200, horizon)) * ahead[:, None] ** power
    inside = (fresh >= bands.now[:, None, 0]) & (fresh <= bands.now[:, None, 1])
    # quantiles from 18,000 errors; growth with the lead is estimated though there is none
    np.testing.assert_allclose(inside.mean(axis=(0, 1)), 0.80, atol=0.03)


def test_small_levels_share_a_group() -> None:
    level_of = np.array([0] + [1] * 5 + [2] * 80)
    assert len(set(groups(level_of, 3)[:6])) == 1
    assert groups(level_of, 3)[-1] != groups(level_of, 3)[0]


def made_up_panel(seed: int = 0, n_weeks: int = 150) -> Panel:
    """Twelve products in three stores with a plain yearly season, one of them new and one ended."""
    rng = np.random.default_rng(seed)
    pairs = [(f"p{p:02d}", f"s{s}") for p in range(12) for s in range(3)]
    t = np.arange(n_weeks)
    season = 1 + 0.6 * np.sin(2 * np.pi * t / 52.18)
    values = rng.poisson(rng.lognormal(2.5, 0.7, len(pairs))[:, None] * season[None, :]).astype(float)
    values[3, : n_weeks - 10] = np.nan
    values[7, 60:] = 0.0
    values[11, 100] = np.nan
    keys = {"product": [p for p, _ in pairs], "store": [s for _, s in pairs]}
    attributes = {"product": {"group": {p: f"g{int(p[1:]) % 3}" for p, _ in pairs}}}
    return Panel(Timeline("W", 2800, n_weeks, 52), ("product", "store"), keys, values, attributes)


RECIPE = Recipe(
    name="test",
    structure={"product": ["group"]},
    methods=("seasonal-naive", "mean", "ets(A,N,N)", "arima(1,0,0) + harmonics(1)"),
    origins=3,
    step=6,
    leads=6,
    ended_after=56,
)


@pytest.fixture(scope="module")
def panel() -> Panel:
    return made_up_panel()


@pytest.fixture(scope="module")
def study(panel: Panel) -> Study:
    return run_study(panel, RECIPE, workers=1)


def test_a_study_adds_up_at_every_node_and_passes_its_checks(study: Study) -> None:
    assert study.largest_gap == 0.0
    checks = check_forecast(study.published, True)
    assert all(check.holds for check in checks)
    broken = study.forecast.copy()
    broken[0, 0] += 1.0
    found = check_forecast(replace(study.published, layers=(Layer("slip", broken),)), True)
    assert [check.name for check in found if not check.holds] == ["adds up"]


def test_a_plain_yearly_season_is_found(study: Study) -> None:
    top = dict(zip(study.methods, study.method_scores[0], strict=True))
    assert study.methods[study.chosen[0]] == "arima(1,0,0) + harmonics(1)"
    assert top["arima(1,0,0) + harmonics(1)"][3] > 20  # gain over the seasonal naive, %


def test_new_and_ended_series_are_covered(study: Study) -> None:
    new, ended = study.graph.n_aggregates + 3, study.graph.n_aggregates + 7
    assert study.chosen[ended] == -1 and (study.forecast[ended] == 0).all() and (study.quantiles[ended] == 0).all()
    assert study.forecast[new].min() > 0 and np.ptp(study.quantiles[new], axis=0).min() > 0
    assert np.isnan(study.tested[new, 0]).all(), "it was not on sale at the first origin"


def same(a: Study, b: Study) -> bool:
    arrays = ("forecast", "quantiles", "tested", "tested_quantiles", "method_scores", "parameters", "chosen")
    return all(np.array_equal(getattr(a, name), getattr(b, name), equal_nan=True) for name in arrays)


def test_threads_do_not_change_a_bit(panel: Panel, study: Study) -> None:
    assert same(study, run_study(panel, RECIPE, workers=2))


def test_the_choice_at_an_origin_is_the_one_of_a_study_that_ends_there(panel: Panel, study: Study) -> None:
    """What is reported as published was to be had at the time: a study whose history ends at an origin publishes it."""
    n = study.seen_at[-1]
    then = run_study(panel.until(n, 0), replace(RECIPE, origins=2, anchor=panel.timeline.labels[study.seen_at[1] - 1]))
    assert then.seen_at == study.seen_at[:2]
    closed = then.chosen < 0
    np.testing.assert_array_equal(then.chosen[~closed], study.chosen_at[~closed, -1])
    np.testing.assert_array_equal(then.forecast, study.tested[:, -1])
    np.testing.assert_array_equal(then.quantiles, study.tested_quantiles[:, -1])


def test_what_is_published_is_the_fit_to_the_history_alone() -> None:
    """The forecast that goes out owes nothing to the backtest, nor to the nodes that it was fitted beside."""
    panel = made_up_panel(3)
    texts = (
        "ets(A,Ad,A)",
        "ets(M,A,N)",
        "arima(1,0,1) + harmonics(2)",
        "arima(0,1,1)",
        "theta",
        "moving-average(best)",
    )
    known = prepare(panel, replace(RECIPE, methods=texts)).known(100)
    nodes = np.arange(12, 18)
    for text in texts:
        alone = [fit(parse(text), Batch(known.values[i : i + 1], known.timeline), 6).forecast[0] for i in nodes]
        found = fit_task(Task(text, 100, nodes), known)
        np.testing.assert_array_equal(found.mean, alone, err_msg=text)


def test_bands_of_a_study_cover_what_comes_next() -> None:
    """The same process runs on for six more weeks: published bands against values nobody has seen."""
    shares = []
    for seed in range(4):
        whole = made_up_panel(seed, 156)
        past = replace(whole, timeline=whole.timeline.until(150), values=whole.values[:, :150])
        study = run_study(past, RECIPE)
        future = whole.values[:, 150:]
        q = study.quantiles[study.graph.n_aggregates :]
        fair = np.ones(len(future), dtype=bool)
        fair[[3, 7]] = False  # the new one starts later in the longer panel, the ended one is zero
        shares.append(((future >= q[:, 0]) & (future <= q[:, -1]))[fair].mean())
    # 4 x 34 x 6 counts, correlated within a series: 95 % within 4 points
    assert np.mean(shares) == pytest.approx(0.95, abs=0.04)


@given(arrays(np.float64, (1, 6, 2), elements=st.floats(0.0, 9.0).map(lambda v: round(v, 1))))
def test_bands_of_slow_movers_are_whole_numbers_that_hold_the_same_counts(quantiles: Floats) -> None:
    """Each band from the least to the most count in it, or in a narrower one; the two around a band that has none."""
    quantiles.sort(axis=1)
    found = whole_bands(quantiles, np.array([True]))
    for h in range(2):
        held: set[int] = set()
        for b in (2, 1, 0):  # from the narrowest outwards
            low, high = quantiles[0, b, h], quantiles[0, -1 - b, h]
            held |= {k for k in range(11) if low <= k <= high} or {math.floor(low), math.ceil(high)}
            assert (found[0, b, h], found[0, -1 - b, h]) == (min(held), max(held))
    np.testing.assert_array_equal(whole_bands(quantiles, np.array([False])), quantiles)


def test_a_study_publishes_whole_bands_for_slow_movers_only() -> None:
    rng = np.random.default_rng(12)
    n, length = 40, 120
    slow = rng.poisson(0.5, (n // 2, length)).astype(float)
    lively = rng.poisson(30.0, (n // 2, length)).astype(float)
    halves = rng.poisson(0.5, (2, length)) * 0.5  # sold by the half: no whole numbers for these
    keys = [f"P{i:02}" for i in range(n + 2)]
    panel = Panel(Timeline("W", 2800, length, 52), ("sku",), {"sku": keys}, np.vstack([slow, lively, halves]))
    recipe = replace(RECIPE, structure={}, methods=("tsb", "mean"), fallback=("tsb",))
    study = run_study(panel, recipe)
    first = study.graph.n_aggregates
    for quantiles in (study.quantiles, study.tested_quantiles[:, 0]):
        whole = (quantiles == np.round(quantiles)).all(axis=(1, 2))[first:]
        assert whole[: n // 2].all()
        assert not whole[n // 2 :].any()
    hits = study.report.bands.hits[first : first + n // 2]  # widest band first; counts make them a little wide
    inside = hits.mean(axis=0)
    assert (inside >= np.array(sorted(recipe.levels, reverse=True)) / 100 - 0.04).all()


def test_a_recipe_is_written_as_it_is_read_and_its_faults_are_named(panel: Panel) -> None:
    recipe = default_recipe(panel, {"product": ["group"]})
    assert read_recipe(recipe.to_toml()) == recipe
    assert recipe.origins >= 4 and recipe.leads == 13
    text = recipe.to_toml()
    for wrong, says in (
        (text.replace("[backtest]", "[backtests]"), "The recipe has an unknown entry 'backtests'"),
        (text.replace("origins =", "origin ="), "unknown entry 'origin'"),
        (text.replace('"best"', '"guess"'), "'guess' is unknown; choose one of .* best"),
        (text.replace('"naive"', '"nave"'), "no method 'nave'"),
        (
            text.replace("nonnegative = true", 'nonnegative = "no"'),
            r'\[reconciliation\] nonnegative is true or false, not "no"',
        ),
        (text.replace("origins =", "origins = true #"), r"\[backtest\] origins is a whole number, not true"),
        ("methods = 3", "The recipe methods is a table of entries, not 3"),
        (
            'plans = [{kind="event", name="fair", periods=[7]}]\n' + text,
            r"\[\[plans\]\] number 1, periods: .* list of texts",
        ),
        ("= nonsense", "not valid TOML"),
    ):
        with pytest.raises((RecipeError, NotationError), match=says):
            read_recipe(wrong)


@pytest.mark.parametrize(("frequency", "n"), [("D", 400), ("W", 60), ("M", 40), ("Q", 20), ("Y", 12)])
def test_the_default_recipe_runs_on_every_frequency(frequency: str, n: int) -> None:
    season = {"D": 7, "W": 52, "M": 12, "Q": 4, "Y": 1}[frequency]
    values = np.random.default_rng(1).poisson(20.0, (3, n)).astype(float)
    first = {"D": 20_000, "W": 2_800, "M": 24_000, "Q": 8_000, "Y": 2_000}[frequency]
    panel = Panel(Timeline(frequency, first, n, season), ("sku",), {"sku": ["a", "b", "c"]}, values)
    study = run_study(panel, default_recipe(panel, {}))
    assert np.isfinite(study.forecast).all() and study.largest_gap == 0.0


@pytest.mark.parametrize(("n", "there"), [(1, "there is one"), (2, "there are 2")])
def test_a_history_of_three_periods_bears_a_study_and_a_shorter_one_is_told_so(n: int, there: str) -> None:
    def of(length: int) -> Panel:
        return Panel(Timeline("W", 2_800, length, 52), ("sku",), {"sku": ["a"]}, np.arange(1.0, 1.0 + length)[None, :])

    assert np.isfinite(run_study(of(3), default_recipe(of(3), {})).forecast).all()
    with pytest.raises(RecipeError, match=f"needs 3 periods of history to begin with; {there}"):
        default_recipe(of(n), {})


def test_days_that_repeat_are_a_timetable_and_days_of_sales_are_smoothed() -> None:
    """A timetable of seven days that is changed now and then, and counts about the same days."""
    rng = np.random.default_rng(6)
    days = np.arange(280)
    timetable = rng.integers(0, 9, (20, 4, 7))[:, days // 70, days % 7].astype(float)
    panel = Panel(Timeline("D", 18_000, 280, 7), ("sku",), {"sku": [f"{i}" for i in range(20)]}, timetable)
    assert default_recipe(panel, {}).fallback[0].startswith("blend(median; seasonal-naive; seasonal-median(3);")
    sales = replace(panel, values=rng.poisson(5.0 + timetable[:, :1] + timetable).astype(float))
    recipe = default_recipe(sales, {})
    assert recipe.fallback[0].startswith("blend(mean; ets(A,N,A); ets(A,N,A) + shared-season;")
    study = run_study(sales, recipe)
    published, naive = (study.tables.method_names.index(name) for name in ("published", "seasonal-naive"))
    assert study.tables.by_method[-2, published, 0, 2] < 0.9 * study.tables.by_method[-2, naive, 0, 2]


def test_what_is_sold_in_season_only_has_a_method_of_its_own_to_stand_first() -> None:
    """Sixty months of three products that sell all year and three that sell from April to June."""
    months = np.arange(60)
    season = np.where(np.isin(months % 12, [3, 4, 5]), 40.0, 0.0)
    usual = np.array([20.0 + np.zeros(60)] * 3 + [season] * 3)
    values = np.random.default_rng(4).poisson(usual).astype(float)
    panel = Panel(Timeline("M", 24_000, 60, 12), ("sku",), {"sku": list("abcdef")}, values)
    recipe = default_recipe(panel, {})
    assert "seasonal-naive" in recipe.in_season and read_recipe(recipe.to_toml()) == recipe
    study = run_study(panel, recipe)
    first = study.chosen_at[study.graph.n_aggregates :, 0]
    assert [study.methods[j] for j in first] == [recipe.fallback[0]] * 3 + [recipe.in_season] * 3
    closed = study.published.timeline.first + np.arange(recipe.leads)
    assert (study.forecast[study.graph.n_aggregates + 3 :, ~np.isin(closed % 12, [2, 3, 4, 5, 6])] == 0.0).all()


def test_bands_of_a_method_are_measured_by_what_it_would_have_missed() -> None:
    """200 nodes had bands four times too wide until now, and have another method now whose fits say it right. What the
    first one was worth says nothing about it: taken as its own, it would make the bands four times too narrow."""
    rng = np.random.default_rng(8)
    n, horizon = 200, 4
    calibration = Calibration(np.zeros(n, dtype=np.int64), probabilities([80.0]))
    ones, errors = np.ones((n, horizon)), np.empty((n, 0, horizon))
    for o in range(4):
        calibration.offsets(errors, Scale(4.0 * ones, ones), float(o))
        errors = np.concatenate([errors, rng.normal(0.0, 1.0, (n, 1, horizon))], axis=1)
    other = rng.normal(0.0, 1.0, (n, 4, horizon))
    every = np.arange(n)
    past = Past([(every, other[:, i], Scale(ones, ones)) for i in range(4)])
    found = calibration.offsets(errors, Scale(ones, ones), 4.0, past)
    assert np.abs(found).mean() == pytest.approx(1.2816, rel=0.06)
    unlike = Calibration(np.zeros(n, dtype=np.int64), probabilities([80.0]))
    for o in range(4):
        unlike.offsets(errors[:, :o], Scale(4.0 * ones, ones), float(o))
    assert np.abs(unlike.offsets(errors, Scale(ones, ones), 4.0)).mean() < 0.55
