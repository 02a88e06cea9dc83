"""One model for all series, against worlds whose truth is known."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from numpy.testing import assert_allclose, assert_array_equal
from threadpoolctl import threadpool_limits

from tansy.engine.methods import registry
from tansy.engine.methods.drives import drives_of
from tansy.engine.methods.features import (
    AGAINST_MEAN,
    AGAINST_SEASON,
    AHEAD,
    EARLIER,
    LEAD,
    RECENT,
    SEASON,
    SIZE,
    Told,
    reach_of,
    stacked,
)
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.learned import Learned
from tansy.engine.methods.learning import learn
from tansy.engine.methods.notation import parse
from tansy.engine.study.store import Store
from tansy.engine.timeline import Timeline

WEEKS, LEADS, N = 156, 8, 80
TIMELINE = Timeline("W", 2800, WEEKS, 52)


class World:
    """Series with a level, a season and promotions that double what is sold, all of them the same way; one in five was
    never on promotion. truth: [series, T + H], the mean; sold is scattered about it as counts are."""

    def __init__(self, seed: int = 1) -> None:
        rng = np.random.default_rng(seed)
        t = np.arange(WEEKS + LEADS)
        self.promotion = (rng.random((N, len(t))) < 0.1).astype(float)
        self.promotion[::5, :WEEKS] = 0.0
        self.season = np.tile(1.0 + 0.4 * np.sin(2.0 * np.pi * (2800 + t) / 52.18), (1, 1))
        level = rng.uniform(20.0, 200.0, N)[:, None]
        self.truth = level * self.season * np.where(self.promotion > 0.0, 2.0, 1.0)
        self.sold = rng.poisson(self.truth).astype(float)
        self.values = self.sold[:, :WEEKS].copy()

    def learn(self, **changes: Any) -> Learned:
        given: dict[str, Any] = {
            "values": self.values, "timeline": TIMELINE, "drivers": {"promotion": self.promotion},
            "reach": {"promotion": LEADS},
            "profiles": self.season, "group_of": np.zeros(N, dtype=np.int64), "level_of": np.zeros(N, dtype=np.int64),
            "horizon": LEADS,
        }  # fmt: skip
        return learn(**{**given, **changes})


@pytest.fixture(scope="module")
def world() -> World:
    return World()


@pytest.fixture(scope="module")
def found(world: World) -> Learned:
    return world.learn()


def test_it_finds_the_mean_that_chance_scatters_about(world: World, found: Learned) -> None:
    """Within a tenth of it, where last year's value, which has a promotion or not of its own, is a fifth off."""
    truth = world.truth[:, WEEKS:]
    off = np.abs(found.mean / truth - 1.0).mean()
    naive = np.abs(world.values[:, WEEKS - 52 : WEEKS - 52 + LEADS] / truth - 1.0).mean()
    assert off < 0.1 < 0.2 < naive


def test_what_a_promotion_does_is_learned_from_others(world: World, found: Learned) -> None:
    """On series that never had one. A model of that series alone has nothing to say of it."""
    never = np.zeros(N, dtype=bool)
    never[::5] = True
    on = (world.promotion[:, WEEKS:] > 0.0) & never[:, None]
    assert on.sum() >= 5
    ratio = found.mean[on] / (world.truth[:, WEEKS:][on] / 2.0)
    assert 1.6 < ratio.mean() < 2.3
    without = world.learn(drivers={})
    assert (without.mean[on] / (world.truth[:, WEEKS:][on] / 2.0)).mean() < 1.3


def test_spreads_are_those_of_the_world(world: World, found: Learned) -> None:
    """Counts scatter with the root of their mean, here that of the last year, as spreads are of a usual period;
    estimating the mean adds to that. Nothing says that errors of leads go together."""
    scatter = np.sqrt(world.values[:, -52:].mean(axis=1, keepdims=True))
    assert 0.9 < np.median(found.spread / scatter) < 1.5
    assert (np.diff(found.spread, axis=1) >= 0.0).all(), "no lead is surer than the one before"
    now = found.spread * np.sqrt(world.truth[:, WEEKS:]) / scatter  # what comes is sold less than usual
    inside = np.abs(world.sold[:, WEEKS:] - found.mean) < 1.2816 * now
    assert 0.72 < inside.mean() < 0.92  # 640 values, of a dozen or so that count as independent
    assert np.abs(found.together - np.eye(LEADS)).max() < 0.35


def test_the_same_bytes_for_any_number_of_threads(world: World, found: Learned) -> None:
    with threadpool_limits(1):
        alone = world.learn()
    for name in ("mean", "spread", "errors", "together"):
        assert_array_equal(getattr(alone, name), getattr(found, name))


def test_what_drives_it_is_asked_of_the_model(world: World, found: Learned) -> None:
    """Promotions double what is sold, and the season moves it by 40 %: nothing else drives it."""
    drives = found.drives
    assert drives.drivers == ("promotion",) and not drives.relative[0]
    assert_allclose(drives.effects[:, 1], [0.0, 1.0])
    assert drives.effects[0, 2] == 0.0 and 80.0 < drives.effects[1, 2] < 115.0
    worse = dict(zip(drives.groups, drives.worse, strict=True))
    assert min(worse.pop("promotion"), worse.pop(SEASON)) > 50.0
    assert len(worse) == 5 and max(map(abs, worse.values())) < 3.0


def test_what_was_learned_is_kept_whole(world: World, found: Learned, tmp_path: Path) -> None:
    def never() -> Learned:
        raise AssertionError("it is there already")

    store = Store(tmp_path)
    store.learned("here", lambda: found)
    again = store.learned("here", never)
    for name in ("mean", "spread", "errors", "together"):
        assert_array_equal(getattr(again, name), getattr(found, name))
    for name in ("groups", "worse", "drivers", "relative", "effects"):
        assert_array_equal(getattr(again.drives, name), getattr(found.drives, name))


def test_effects_are_those_of_a_model_that_is_known() -> None:
    """Demand goes with the price against its usual to the power of -2, which the model knows, and with nothing else."""
    rng = np.random.default_rng(2)
    n = 3000
    usual, ratio = rng.uniform(1.0, 3.0, n), np.exp(rng.uniform(-0.4, 0.2, n))
    price = np.log(np.exp(usual) * ratio)
    columns = {
        (LEAD, "lead"): np.ones(n), ("price", AHEAD): price, ("price", AGAINST_MEAN): price - usual,
        ("price", AGAINST_SEASON): price,
    }  # fmt: skip
    level = rng.uniform(1.0, 9.0, n)
    found = drives_of(
        lambda one: np.exp(-2.0 * one["price", AGAINST_MEAN]), columns,
        level * (ratio**-2.0 + rng.normal(0.0, 0.1, n)), level, np.ones(n), {"price": True},
    )  # fmt: skip
    assert found.groups == (LEAD, "price") and found.worse[0] == 0.0 and found.worse[1] > 100.0
    assert found.relative.tolist() == [True]
    _, at, change = found.effects.T
    assert at.tolist() == [-30.0, -20.0, -15.0, -10.0, -5.0, 0.0, 5.0, 10.0, 15.0, 20.0]
    assert_allclose(change, 100.0 * ((1.0 + at / 100.0) ** -2.0 - 1.0), rtol=1e-9, atol=1e-9)


def test_a_driver_of_few_or_of_many_values_is_set_to_them_from_the_usual_one() -> None:
    """Shares of shops on promotion: mostly none, else anything up to all. Demand is one more for all of them."""
    share = np.where(np.arange(1000) % 3 == 0, np.linspace(0.0, 1.0, 1000), 0.0)
    for own, at in ((share, None), (np.round(share), [0.0, 1.0])):
        nothing = np.zeros(1000)
        columns = {("fair", AHEAD): own, ("fair", AGAINST_MEAN): nothing, ("fair", AGAINST_SEASON): nothing}
        found = drives_of(
            lambda one: 1.0 + one["fair", AHEAD], columns, 1.0 + own, np.ones(1000), np.ones(1000), {"fair": False}
        )
        _, points, change = found.effects.T
        assert found.relative.tolist() == [False] and points[0] == 0.0 and change[0] == 0.0
        assert_allclose(change, 100.0 * points, atol=1e-9)
        assert points.tolist() == at if at else 0.9 < points[-1] <= 1.0


def test_nothing_is_told_that_was_not_known(world: World) -> None:
    """Whatever comes after the period at which a cell is asked may be anything, and what a driver is beyond the three
    periods that it is planned for, at any period."""
    rows, at, lead = np.arange(N), np.full(N, 120), np.tile(np.arange(1, LEADS + 1), N // LEADS)
    other = world.values.copy()
    other[:, 120:] = 1e6
    unplanned = world.promotion.copy()
    unplanned[:, 123:] = 7.0
    told = [
        Told(values, TIMELINE, drivers, {"promotion": 3}, world.season, np.zeros(N, int), np.zeros(N, int))
        for values, drivers in ((world.values, {"promotion": world.promotion}), (other, {"promotion": unplanned}))
    ]
    columns = [stacked(one.named(rows, at, lead, one.level(rows, at))) for one in told]
    assert_array_equal(*columns)
    level = world.values[:, 68:120].mean(axis=1)
    by_name = told[0].named(rows, at, lead, level)
    assert_allclose(by_name[RECENT, "value 1 back"], world.values[:, 119] / level, rtol=1e-6)
    assert_allclose(
        by_name[EARLIER, "same period 1 seasons back"], world.values[rows, 119 + lead - 52] / level, rtol=1e-6
    )
    assert_allclose(by_name[RECENT, "mean of the last 13"], world.values[:, 107:120].mean(axis=1) / level, rtol=1e-6)
    assert_allclose(by_name["promotion", AHEAD], np.where(lead <= 3, world.promotion[rows, 119 + lead], np.nan))


def test_drivers_may_be_called_as_a_learner_calls_what_it_is_told(world: World) -> None:
    """A column of the file may be called size, lead or anything else, and takes no other's place."""
    names = ("size", "lead", "level", "value 1 back", "time of year", "=1+1")
    given = (world.season, np.zeros(N, int), np.zeros(N, int))
    rows, at, lead = np.arange(N), np.full(N, 120), np.ones(N, int)
    plain = Told(world.values, TIMELINE, {}, {}, *given)
    told = Told(world.values, TIMELINE, dict.fromkeys(names, world.promotion), dict.fromkeys(names, LEADS), *given)
    level = told.level(rows, at)
    before, after = (one.named(rows, at, lead, level) for one in (plain, told))
    assert len(after) == len(before) + 4 * len(names)
    for name, values in before.items():
        assert_array_equal(after[name], values)
    assert_array_equal(after[SIZE, "size"], np.log(level))
    assert_array_equal(after["size", AHEAD], world.promotion[:, 120])


def test_a_series_without_a_sale_in_a_season_and_a_panel_that_is_too_small_are_not_forecast(world: World) -> None:
    values = world.values.copy()
    values[3, 60:] = 0.0
    values[4, :150] = np.nan
    ended = world.learn(values=values)
    assert np.isnan(ended.mean[3]).all() and np.isnan(ended.spread[3]).all()
    assert np.isfinite(ended.mean[4]).all(), "six values are enough of a level"
    few = registry.fit(parse("learner"), Batch(world.values[:3], TIMELINE), LEADS, "known")
    assert not few.defined.any() and "too few series" in few.notes[0][0]


@pytest.mark.parametrize(("n_planned", "n_past"), [(0, WEEKS), (3, WEEKS), (LEADS, WEEKS), (3, 12), (3, 60)])
def test_drivers_may_be_planned_for_fewer_leads_and_histories_may_be_short(
    world: World, n_planned: int, n_past: int
) -> None:
    """Twelve weeks are too few of a season of 52; the leads beyond a plan are forecast without it."""
    drivers = {"promotion": world.promotion[:, : n_past + n_planned]}
    batch = Batch(world.values[:, :n_past], TIMELINE.until(n_past), drivers, profiles=world.season)
    assert reach_of(drivers, n_past, LEADS) == {"promotion": n_planned}
    for horizon in (LEADS, 40):
        fits = registry.fit(parse("learner"), replace(batch, profiles=np.ones((1, 300))), horizon, "known")
        assert fits.forecast.shape == (N, horizon) and fits.defined.all() == (n_past >= 60)
        if fits.defined.all():
            assert np.isfinite(fits.forecast).all() and fits.distribution is not None
            assert (fits.distribution.spread() > 0.0).all()


def test_the_method_says_what_was_learned(world: World, found: Learned) -> None:
    """For all leads, for fewer, and as one of several parts; without it, a batch is learned from by itself."""
    batch = Batch(world.values, TIMELINE, {"promotion": world.promotion}, learned=found)
    fits = registry.fit(parse("learner"), batch, LEADS, "known")
    assert_array_equal(fits.forecast, found.mean)
    assert_array_equal(fits.residuals[:, -found.errors.shape[1] :], found.errors)
    assert fits.distribution is not None
    assert_allclose(fits.distribution.spread(), found.spread, rtol=1e-12)
    fewer = registry.fit(parse("learner"), batch.rows(np.array([5, 2])), 3)
    assert_array_equal(fewer.forecast, found.mean[[5, 2], :3])
    together = registry.fit(parse("blend(mean; learner; ets(A,N,N))"), batch, LEADS)
    level = registry.fit(parse("ets(A,N,N)"), batch, LEADS)
    assert_allclose(together.forecast, (found.mean + level.forecast) / 2.0, rtol=1e-12)
    alone = registry.fit(parse("learner"), Batch(world.values, TIMELINE, profiles=world.season), LEADS)
    assert_array_equal(alone.forecast, world.learn(drivers={}).mean)
