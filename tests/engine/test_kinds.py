"""Kinds of demand on series whose kind is known."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.panel import Panel
from tansy.engine.profile.kinds import Kinds, find_kinds
from tansy.engine.profile.strengths import strengths
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline, ordinal

Floats = NDArray[np.float64]
N = 182
WEEKS = Timeline("W", 2782, N, 52)
T = np.arange(N)
PHASE = 2 * np.pi * (WEEKS.first + T) * 7 / 365.25


def kinds(*series: Floats, ended_after: int = 56) -> Kinds:
    return find_kinds(np.array(series, dtype=float), WEEKS, ended_after)


def test_interval_and_variation_are_their_definitions() -> None:
    y = np.full(N, np.nan)
    y[4:14] = [0, 2, 0, 0, 4, 0, 6, np.nan, 8, 0]
    found = kinds(y)
    # sales at 1, 4, 6 and, the missing one passed over, 7 of the observed periods
    assert found.interval[0] == pytest.approx((7 - 1) / 3)
    assert found.variation[0] == pytest.approx(np.var([2, 4, 6, 8]) / 25)
    assert found.empty[0] == pytest.approx(4 / 8)


def test_the_four_kinds_are_told_apart() -> None:
    rng = np.random.default_rng(0)
    smooth = rng.normal(100, 10, N)
    erratic = rng.lognormal(3, 1.2, N)
    sparse = np.zeros(N)
    sparse[::4] = 5.0
    lumpy = np.zeros(N)
    lumpy[::4] = rng.lognormal(2, 1.5, len(lumpy[::4]))
    found = kinds(smooth, erratic, sparse, lumpy)
    assert [found.words(i).split(", ")[-1] for i in range(4)] == ["smooth", "erratic", "intermittent", "lumpy"]


def test_a_season_is_seen_and_noise_is_not_taken_for_one() -> None:
    rng = np.random.default_rng(1)
    n = 400
    noise = rng.normal(50, 10, (n, N))
    season = 50 + 8 * np.sin(PHASE) + rng.normal(0, 10, (n, N))
    assert kinds(*season).seasonal.mean() > 0.97
    # AICc lets a pure-noise pair in when it lowers -2 log L by more than 4.2: a chi-squared of 2 does so in 12 %
    assert kinds(*noise).seasonal.mean() == pytest.approx(np.exp(-4.2 / 2), abs=0.05)


def test_gain_in_aicc_is_that_of_dense_least_squares() -> None:
    from tansy.engine.kernels import demand as kernel

    rng = np.random.default_rng(2)
    y = 20 + 5 * np.cos(PHASE) + rng.normal(0, 4, N)
    y[30:33] = np.nan
    figures = np.empty((1, kernel.N_FIGURES))
    pair = WEEKS.harmonics(1, 0)
    zeros = np.zeros(N, dtype=np.int64)
    kernel.demand_figures(y[None], pair[:, 0].copy(), pair[:, 1].copy(), np.zeros(N), zeros, 52, zeros, 2, 104, figures)
    seen = ~np.isnan(y)
    n = seen.sum()

    def aicc(design: Floats) -> float:
        left = y[seen] - design @ np.linalg.lstsq(design, y[seen], rcond=None)[0]
        k = design.shape[1] + 1
        return float(n * np.log(left @ left / n) + 2 * k + 2 * k * (k + 1) / (n - k - 1))

    constant = np.ones((n, 1))
    expected = aicc(constant) - aicc(np.c_[constant, pair[seen]])
    assert figures[0, kernel.SEASON_GAIN] == pytest.approx(expected, rel=1e-9)


@pytest.mark.parametrize("peak", [3, 20, 51])
def test_what_is_sold_in_one_part_of_the_year_only_is_found_wherever_it_lies(peak: int) -> None:
    position = ((WEEKS.first + T) * 7 / 365.25 % 1) * 52
    distance = np.minimum(np.abs(position - peak), 52 - np.abs(position - peak))
    festive = np.where(distance < 4, 30.0, 0.0)
    shifted = np.where(np.minimum(np.abs(position - peak - 1), 52 - np.abs(position - peak - 1)) < 4, 30.0, 0.0)
    moving = np.where(T < 91, festive, shifted)  # a week later from the second half on: still one season
    spread = festive + 5.0
    found = kinds(festive, moving, spread)
    assert found.in_season_only.tolist() == [True, True, False]
    assert 7 <= found.window[0] <= 9
    assert found.words(0).startswith("in season only")


def test_one_season_is_not_enough_to_call_it_a_season() -> None:
    once = np.zeros(N)
    once[100:108] = 20.0
    assert not kinds(once).in_season_only[0]


def test_new_and_ended_and_never_sold() -> None:
    new, ended, never, asleep = np.zeros(N), np.full(N, 5.0), np.zeros(N), np.full(N, 5.0)
    new[150:] = 5.0
    ended[100:] = 0.0
    asleep[-30:] = 0.0
    found = kinds(new, ended, never, asleep)
    assert found.new.tolist() == [True, False, False, False]
    assert found.ended.tolist() == [False, True, False, False]
    assert found.words(2) == "no sales" and found.words(1).startswith("ended")
    assert not kinds(ended, ended_after=0).ended[0]


@pytest.mark.parametrize(("frequency", "season"), [("D", 7), ("M", 12), ("Q", 4), ("Y", 1)])
def test_every_frequency_has_kinds(frequency: str, season: int) -> None:
    timeline = Timeline(frequency, 8000, 60, season)
    found = find_kinds(np.random.default_rng(3).poisson(20.0, (4, 60)).astype(float), timeline, 0)
    assert (found.demand == 0).all() and not found.in_season_only.any()


def test_what_is_sold_in_season_only_is_zero_out_of_it() -> None:
    """Wreaths are sold in seven weeks of the year. Forecasts lie in those, give or take two, and nowhere else."""
    rng = np.random.default_rng(4)
    week = ((WEEKS.first + T) * 7 / 365.25 % 1.0) * 52.18
    wreaths = np.where((week >= 45) & (week < 52), rng.poisson(30, N), 0).astype(float)
    steady = rng.poisson(20, N).astype(float)
    panel = Panel(WEEKS, ("sku",), {"sku": ["wreath", "soil"]}, np.array([wreaths, steady]))
    recipe = replace(default_recipe(panel, {"sku": []}), leads=26, origins=2, step=10, methods=("mean",))
    found = run_study(panel, recipe, workers=1)
    finest = found.graph.n_aggregates
    ahead = ((WEEKS.last + 1 + np.arange(26)) * 7 / 365.25 % 1.0) * 52.18
    out = (ahead < 42) & (ahead > 3)
    assert out.sum() > 10 and (ahead >= 45).any()
    assert (found.forecast[finest][out] == 0).all() and (found.quantiles[finest][:, out] == 0).all()
    assert found.forecast[finest][(ahead >= 46) & (ahead < 51)].mean() > 10
    assert found.largest_gap < 1e-9 * found.forecast[0].max()


def test_a_kind_given_by_hand_stays_and_decides() -> None:
    rng = np.random.default_rng(5)
    panel = Panel(WEEKS, ("sku",), {"sku": ["a", "b"]}, rng.poisson(9.0, (2, N)).astype(float))
    recipe = replace(default_recipe(panel, {"sku": []}), leads=4, origins=1, methods=("mean",))
    found = run_study(panel, recipe, kinds_by_hand={1: "ended"}, workers=1)
    assert found.kinds.words(2).startswith("ended") and (found.forecast[2] == 0).all() and found.forecast[1].min() > 5
    with pytest.raises(RecipeError, match="no kind 'odd'"):
        run_study(panel, recipe, kinds_by_hand={1: "odd"}, workers=1)


def test_strengths_of_series_whose_parts_are_known() -> None:
    """Var(season) / Var(season + noise) = 32 / (32 + 4), and likewise for the slope; noise has none."""
    rng = np.random.default_rng(6)
    noise = rng.normal(0, 2, (300, N))
    season = 50 + 8 * np.sin(PHASE) + noise
    slope = 50 + 0.2 * T + noise
    n = 300
    found = strengths(np.concatenate([season, slope, 50 + noise, np.full((1, N), 7.0)]), WEEKS)
    assert np.median(found.season[:n]) == pytest.approx(32 / 36, abs=0.02)
    risen = 0.2**2 * (N**2 - 1) / 12
    assert np.median(found.trend[n : 2 * n]) == pytest.approx(risen / (risen + 4), abs=0.02)
    assert np.median(found.season[2 * n : 3 * n]) < 0.1 and np.median(found.trend[2 * n : 3 * n]) < 0.1
    assert np.median(found.entropy[2 * n : 3 * n]) > 0.85 > 0.6 > np.median(found.entropy[:n])
    young = np.full((n, N), np.nan)
    young[:, -26:] = (50 + noise)[:, -26:]
    young = strengths(young, WEEKS)
    assert np.isnan(young.season).all() and np.median(young.trend) < 0.3
    assert found.trend[-1] == found.season[-1] == 0 and np.isnan(found.entropy[-1])


def test_what_has_ended_or_is_new_counts_to_no_steady_kind() -> None:
    rng = np.random.default_rng(7)
    steady = rng.poisson(20, N).astype(float)
    ended = np.where(T < 100, steady, 0.0)
    young = np.where(T < N - 20, np.nan, steady)
    found = kinds(steady, ended, young, np.zeros(N))
    members = {name: np.nonzero(flags)[0].tolist() for name, flags in found.groups().items() if flags.any()}
    assert members == {"smooth": [0], "ended": [1], "new": [2], "no sales": [3]}


@pytest.mark.parametrize(("frequency", "days_on"), [("D", 1), ("W", 7)])
def test_nothing_is_forecast_where_in_the_year_nothing_was_ever_sold(frequency: str, days_on: int) -> None:
    """Sold from 5 November to 7 January only, in three years: nothing from 10 January on, and again in November."""
    rng = np.random.default_rng(0)
    first = date(2022, 10, 31)
    n = 3 * 365 + 77 if frequency == "D" else 3 * 52 + 11
    days = [first + timedelta(days=days_on * t) for t in range(n)]
    sold = np.array([d.month == 12 or (d.month, d.day) >= (11, 5) or (d.month, d.day) <= (1, 7) for d in days])
    values = np.stack([rng.poisson(120.0 * sold), rng.poisson(np.full(n, 120.0))]).astype(float)
    panel = Panel(
        Timeline(frequency, ordinal(first, frequency), n, {"D": 7, "W": 52}[frequency]), ("sku",), {"sku": ["a", "b"]},
        values,
    )  # fmt: skip
    for until in (date(2026, 1, 3), date(2026, 1, 10), date(2025, 10, 4)):
        n_seen = sum(d <= until for d in days)
        seen = replace(panel, timeline=panel.timeline.until(n_seen), values=values[:, :n_seen])
        leads = 28 if frequency == "D" else 13
        study = run_study(seen, replace(default_recipe(seen, {}), leads=leads))
        ahead = [days[n_seen - 1] + timedelta(days=days_on * (h + 1)) for h in range(leads)]
        shift = timedelta(days=2 * days_on)  # a calendar shifts by a period from year to year
        out = np.array([date(d.year, 1, 7) + shift < d < date(d.year, 11, 5) - shift for d in ahead])
        node = study.graph.n_aggregates
        assert out.any() and (study.forecast[node, out] == 0).all() and (study.quantiles[node][:, out] == 0).all()
        if until.month == 10:
            in_november = np.array([d.month in (11, 12) and (d.month, d.day) > (11, 12) for d in ahead])
            # the year is seen: what comes is about what came in the years before, 120
            assert in_november.sum() == 0 or 60 < study.forecast[node, in_november].mean() < 150 * days_on
