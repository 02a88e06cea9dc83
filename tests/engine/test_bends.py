"""A trend whose slope changes: found where it was put, left straight where it is, with bands that hold what comes."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.signal import lfilter

from tansy.engine.errors import NotationError
from tansy.engine.kernels.shrink import shrink_batch
from tansy.engine.lens.forecast_parts import forecast_parts
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

WEEKS, LEADS = 208, 13
TIMELINE = Timeline("W", 2800, WEEKS, 52)
TEXT = "arima(1,0,0) + harmonics(1) + slope-changes"


def noise(seed: int, n: int) -> Floats:
    rng = np.random.default_rng(seed)
    return lfilter([1.0], [1.0, -0.4], rng.normal(size=(n, WEEKS + LEADS + 50)), axis=1)[:, 50:]


def test_a_change_of_slope_is_found_and_carried_on() -> None:
    t = np.arange(WEEKS + LEADS)
    trend = 50.0 + 0.30 * t - 0.45 * np.maximum(t - 120, 0)
    y = trend + 3.0 * np.sin(2 * np.pi * t * 7 / 365.25) + noise(1, 60)
    bent = fit(parse(TEXT), Batch(y[:, :WEEKS], TIMELINE), LEADS, bands="estimated")
    season = 3.0 * np.sin(2 * np.pi * t[WEEKS:] * 7 / 365.25)
    slopes = np.diff(bent.forecast - season, axis=1).mean(axis=1)
    # the last slope is -0.15; a straight line would go on at about +0.05
    assert slopes.mean() == pytest.approx(-0.15, abs=0.04)
    time = {"time": np.tile(t.astype(float), (60, 1))}
    straight = fit(parse("arima(1,0,0) + harmonics(1) + x(time)"), Batch(y[:, :WEEKS], TIMELINE, time), LEADS)
    came = y[:, WEEKS:]
    assert np.abs(bent.forecast - came).mean() < 0.7 * np.abs(straight.forecast - came).mean()
    assert any("the slope changes after" in note for note in bent.notes[0])
    low, high = bent.distribution.quantiles(np.array([0.025, 0.975])).swapaxes(0, 1)  # type: ignore[union-attr]
    assert ((low <= came) & (came <= high)).mean() > 0.9


def test_a_straight_trend_stays_straight() -> None:
    t = np.arange(WEEKS + LEADS)
    y = 50.0 + 0.1 * t + noise(2, 200)
    fits = fit(parse("arima(1,0,0) + slope-changes"), Batch(y[:, :WEEKS], TIMELINE), LEADS, bands="estimated")
    unbent = [not any("slope changes" in note for note in fits.notes.get(i, ())) for i in range(200)]
    assert np.mean(unbent) > 0.6  # BIC finds a change in noise now and then; it is a small one
    assert np.abs(np.diff(fits.forecast, axis=1).mean(axis=1) - 0.1).mean() < 0.03
    came = y[:, WEEKS:]
    low, high = fits.distribution.quantiles(np.array([0.1, 0.9])).swapaxes(0, 1)  # type: ignore[union-attr]
    assert 0.75 < ((low <= came) & (came <= high)).mean() < 0.85


def test_bends_keep_to_the_notation_scale_and_parts() -> None:
    y = 50.0 + 0.1 * np.arange(WEEKS + LEADS) + noise(3, 3)
    y[0, 30:34] = np.nan
    form = parse(TEXT)
    assert str(form) == TEXT
    batch = Batch(y[:, :WEEKS], TIMELINE)
    plain = fit(form, batch, LEADS, bands="estimated")
    scaled = fit(form, Batch(1000.0 * y[:, :WEEKS], TIMELINE), LEADS)
    np.testing.assert_allclose(scaled.forecast, 1000.0 * plain.forecast, rtol=1e-5)
    one = fit(form, batch.rows(np.array([1])), LEADS)
    np.testing.assert_allclose(one.forecast[0], plain.forecast[1], rtol=1e-9)
    parts = {part.name: part.values for part in forecast_parts(form, one, batch.rows(np.array([1])))}
    np.testing.assert_allclose(sum(parts.values()), one.forecast[0], rtol=1e-9)
    assert set(parts) == {"level and trend", "season"}
    assert fit(
        parse("log regression(time) + slope-changes"), Batch(y[:, :WEEKS], TIMELINE, {"time": y}), LEADS
    ).defined[1]
    with pytest.raises(NotationError, match="leave the differences out"):
        parse("arima(0,1,1) + slope-changes")
    assert fit(parse("arima(best) + slope-changes"), batch, LEADS).form(1).orders[1] == 0  # type: ignore[index]


def test_shrunken_coefficients_meet_the_conditions_of_the_optimum() -> None:
    """At the least of squares plus penalty a column that is used says just the penalty of what is left, any other less
    (the subgradient); with one penalty the kernel's choice by BIC has nothing to choose from."""
    rng = np.random.default_rng(17)
    n, length, columns = 50, 120, 12
    x = np.cumsum(rng.normal(size=(n, length, columns)), axis=1)  # as alike as hinges are
    x /= np.sqrt((x**2).sum(axis=1, keepdims=True))
    y = x[:, :, 3] * 40.0 - x[:, :, 8] * 25.0 + rng.normal(size=(n, length))
    s, r = x.swapaxes(1, 2) @ x, np.einsum("ntj,nt->nj", x, y)
    total, count = (y**2).sum(axis=1), np.full(n, float(length))
    for penalty in (0.5, 0.1):
        found = np.empty((n, columns))
        shrink_batch(s, r, total, count, 1e6 * count, 1, np.array([penalty]), found)
        limit = penalty * np.abs(r).max(axis=1, keepdims=True)
        says = r - np.einsum("nij,nj->ni", s, found)
        used = found != 0.0
        np.testing.assert_allclose((says - np.sign(found) * limit)[used], 0.0, atol=1e-3)
        assert (np.abs(says) <= limit + 1e-3)[~used].all() and 0 < used.mean() < 0.7
    alone = np.empty((1, columns))
    shrink_batch(s[7:8], r[7:8], total[7:8], count[7:8], 1e6 * count[7:8], 1, np.array([0.1]), alone)
    np.testing.assert_array_equal(alone[0], found[7])  # whatever stands beside it
