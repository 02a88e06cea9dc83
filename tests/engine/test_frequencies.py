"""Whole studies of daily, weekly, monthly, quarterly and yearly data with what was planted in them."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.panel import Panel
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.run import Study, run_study
from tansy.engine.timeline import Timeline, label

Floats = NDArray[np.float64]
N_SERIES = 12

# frequency: season length, periods, first period, how a season is drawn
PLANTED = {
    "D": (7, 420, 20_000), "W": (52, 182, 2_800), "M": (12, 84, 24_000), "Q": (4, 48, 8_000), "Y": (1, 24, 2_000),
}  # fmt: skip


def planted(frequency: str) -> tuple[Panel, Floats]:
    """A panel of two groups, and the mean that it was drawn from, leads included."""
    m, n, first = PLANTED[frequency]
    rng = np.random.default_rng(7)
    ahead = 60
    t = np.arange(n + ahead)
    season = np.sin(2 * np.pi * t / m) if m > 1 else np.zeros(n + ahead)
    level = rng.uniform(40, 90, (N_SERIES, 1))
    mean = level * (1 + 0.35 * season)
    values = rng.poisson(mean[:, :n]).astype(float)
    skus = [f"P{i:02}" for i in range(N_SERIES)]
    groups = {sku: "Ferns" if i % 2 else "Herbs" for i, sku in enumerate(skus)}
    return Panel(Timeline(frequency, first, n, m), ("sku",), {"sku": skus}, values, {"sku": {"group": groups}}), mean


def run(frequency: str) -> tuple[Study, Panel, Floats]:
    panel, mean = planted(frequency)
    study = run_study(panel, default_recipe(panel, {"sku": ["group"]}))
    n, horizon = panel.timeline.n_periods, study.forecast.shape[1]
    return study, panel, mean[:, n : n + horizon]


@pytest.mark.parametrize("frequency", list(PLANTED))
def test_a_study_forecasts_the_mean_that_was_planted(frequency: str) -> None:
    study, panel, came = run(frequency)
    finest = study.graph.n_aggregates
    forecast = study.forecast[finest:]
    assert study.largest_gap == 0.0 and study.graph.n_nodes == N_SERIES + 3
    # counts of 40 to 90 scatter by a seventh of their mean; the mean itself is estimated from many of them
    error = np.abs(forecast - came).mean() / came.mean()
    assert error < 0.09
    naive = panel.values[:, -panel.timeline.season_length :]
    repeated = np.tile(naive, (1, 60))[:, : forecast.shape[1]]
    assert error < 0.8 * np.abs(repeated - came).mean() / came.mean()
    total = came.sum(axis=0)
    assert np.abs(study.forecast[0] - total).mean() / total.mean() < 0.05  # of the sum of all, less


@pytest.mark.parametrize("frequency", list(PLANTED))
def test_bands_hold_counts_that_nobody_has_seen(frequency: str) -> None:
    study, _, mean = run(frequency)
    rng = np.random.default_rng(3)
    finest = study.graph.n_aggregates
    low, high = study.quantiles[finest:, 0], study.quantiles[finest:, -1]
    draws = rng.poisson(mean, (200, *mean.shape))
    inside = ((draws >= low) & (draws <= high)).mean()
    # a dozen series and a handful of origins make the bands: a 95 % band is found within some points
    assert 0.88 < inside <= 0.999
    assert (study.quantiles >= 0).all() and (np.diff(study.quantiles, axis=1) >= 0).all()


@pytest.mark.parametrize("frequency", list(PLANTED))
def test_periods_ahead_follow_the_last_one_over_the_turn_of_the_year(frequency: str) -> None:
    study, panel, _ = run(frequency)
    timeline, horizon = panel.timeline, study.forecast.shape[1]
    ahead = timeline.after(horizon).labels
    numbers = range(timeline.last + 1, timeline.last + 1 + horizon)
    assert ahead == [label(number, frequency) for number in numbers]
    assert not set(ahead) & set(timeline.labels)
    assert [timeline.labels[n - 1] for n in study.seen_at] == sorted(timeline.labels[n - 1] for n in study.seen_at)
    assert max(study.seen_at) == timeline.n_periods - horizon


def test_three_years_of_days_show_the_year_beside_the_week() -> None:
    """Sales that follow the week and the year: the default recipe finds both, and the week alone does not do."""
    rng = np.random.default_rng(5)
    n, first = 3 * 365, 19_700
    t = np.arange(n + 28)
    year = np.sin(2 * np.pi * (first + t) / 365.25)
    week = np.array([0.8, 0.8, 0.9, 1.0, 1.1, 1.4, 1.0])[t % 7]
    mean = np.linspace(50, 90, 6)[:, None] * (1 + 0.5 * year) * week
    panel = Panel(Timeline("D", first, n, 7), ("sku",), {"sku": list("abcdef")}, rng.poisson(mean[:, :n]).astype(float))
    study = run_study(panel, default_recipe(panel, {}))
    finest = study.graph.n_aggregates
    horizon = study.forecast.shape[1]
    came = mean[:, n : n + horizon]
    assert np.abs(study.forecast[finest:] - came).mean() / came.mean() < 0.08
    chosen = {study.methods[j] for j in study.chosen[finest:]}
    assert all("harmonics" in text or "shared" in text for text in chosen), chosen
