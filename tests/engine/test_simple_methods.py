"""Simple, trend and intermittent methods against arithmetic done apart, and every method by `tansy fit`."""

from __future__ import annotations

import json
import math
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy import stats
from typer.testing import CliRunner

from tansy.cli import app
from tansy.engine.methods.distribution import Counts
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.simpler import fit_or_simpler
from tansy.engine.timeline import Timeline
from tests.engine.test_smoothing import fitted, normal

Y = np.array([12.0, 15.0, 11.0, 18.0, 21.0, 19.0, 24.0, 22.0, 27.0, 25.0, 30.0, 29.0])


def test_moving_averages_and_the_window_chosen_by_error() -> None:
    three = fitted("moving-average(3)", Y)
    assert three.forecast[0, 0] == pytest.approx(Y[-3:].mean())
    np.testing.assert_allclose(three.residuals[0, 3:], Y[3:] - (Y[:-3] + Y[1:-2] + Y[2:-1]) / 3)
    assert np.isnan(three.residuals[0, :3]).all()
    weighted = fitted("moving-average(3; weights=3/2/1)", Y)
    assert weighted.forecast[0, 0] == pytest.approx((3 * 29 + 2 * 30 + 25) / 6)
    # the sum of h leads: independent errors, and h times the doubt about a level that is a mean of three
    sigma2, h = three.sigma2[0], np.arange(1, 5)
    np.testing.assert_allclose(normal(three).together[0], sigma2 * (h + h**2 / 3) / (1 + 1 / 3))
    best = fitted("moving-average(best)", Y)
    errors = {k: np.nanmean(fitted(f"moving-average({k})", Y).residuals[0, 10:] ** 2) for k in range(1, 11)}
    assert best.parameters[0, 0] == min(errors, key=lambda k: errors[k])


def test_trends_are_least_squares_with_student_bands() -> None:
    t = np.arange(1.0, 13.0)
    line = fitted("trend(linear)", Y)
    expected = stats.linregress(t, Y)
    np.testing.assert_allclose(line.parameters[0], [expected.intercept, expected.slope])
    np.testing.assert_allclose(line.forecast[0], expected.intercept + expected.slope * np.arange(13, 17))
    s2 = ((Y - expected.intercept - expected.slope * t) ** 2).sum() / 10
    spread = np.sqrt(s2 * (1 + 1 / 12 + (np.arange(13, 17) - t.mean()) ** 2 / ((t - t.mean()) ** 2).sum()))
    np.testing.assert_allclose(normal_of(line, 0.9), line.forecast[0] + stats.t.ppf(0.9, 10) * spread, rtol=1e-10)
    known = fitted("trend(linear)", Y, bands="estimated").named_errors(0)
    np.testing.assert_allclose(known["slope"], expected.stderr)
    square = fitted("trend(quadratic)", Y)
    np.testing.assert_allclose(square.parameters[0][::-1], np.polyfit(t, Y, 2))
    growth = fitted("trend(exponential)", Y)
    rate = stats.linregress(t, np.log(Y))
    np.testing.assert_allclose(growth.forecast[0], np.exp(rate.intercept + rate.slope * np.arange(13, 17)))


def normal_of(fits: Any, q: float) -> np.ndarray:
    found: np.ndarray = fits.distribution.quantiles(np.array([q]))[0, 0]
    return found


def test_seasonal_indices_and_theta_are_what_the_papers_say() -> None:
    season = np.tile([0.8, 1.3, 0.7, 1.2], 6)
    y = (50 + 2 * np.arange(24.0)) * season
    indices = fitted("trend(linear; indices)", y, m=4)
    # a straight line times a season is nearly given back; ratios to a moving average of a line leave a little
    np.testing.assert_allclose(indices.forecast[0], (50 + 2 * np.arange(24, 28)) * season[:4], rtol=0.02)

    plain = Y + 0.0
    t = np.arange(1.0, 13.0)
    line = stats.linregress(t, plain)
    two = 2 * plain - (line.intercept + line.slope * t)
    alpha = fitted("theta", plain, m=1).parameters[0, 0]
    level = two[0]
    for value in two[1:]:
        level += alpha * (value - level)
    expected = 0.5 * (line.intercept + line.slope * np.arange(13, 17)) + 0.5 * level
    np.testing.assert_allclose(fitted("theta", plain, m=1).forecast[0], expected)


def test_croston_and_its_relatives_by_hand() -> None:
    y = np.array([0.0, 0.0, 5.0, 0.0, 3.0, 0.0, 0.0, 0.0, 4.0, 1.0])
    # sizes 5, 3, 4, 1 and intervals 3, 2, 4, 1, both smoothed with 0.2
    size, interval = 5.0, 3.0
    for z, p in ((3, 2), (4, 4), (1, 1)):
        size, interval = size + 0.2 * (z - size), interval + 0.2 * (p - interval)
    assert fitted("croston(alpha=0.2)", y).forecast[0, 0] == pytest.approx(size / interval)
    assert fitted("sba(alpha=0.2)", y).forecast[0, 0] == pytest.approx(0.9 * size / interval)
    chance, z = 1 / 3, 5.0
    for value in y[3:]:
        chance += 0.1 * ((value > 0) - chance)
        z += 0.3 * (value - z) if value else 0.0
    assert fitted("tsb(alpha=0.3, beta=0.1)", y).forecast[0, 0] == pytest.approx(chance * z)
    nothing = fitted("tsb", np.zeros(10))
    assert (nothing.forecast == 0).all() and "no demand" in nothing.notes[0][0]


def test_bands_of_a_slow_mover_are_whole_numbers_of_the_right_distribution() -> None:
    rng = np.random.default_rng(1)
    y = rng.negative_binomial(0.8, 0.4, (400, 130)).astype(float)
    fits = fitted("tsb(alpha=0.02, beta=0.02)", y[:, :104], horizon=13)
    assert isinstance(fits.distribution, Counts)
    q = np.array([0.1, 0.5, 0.9])
    found = fits.distribution.quantiles(q)
    assert (found == np.round(found)).all() and (found >= 0).all()
    # the quantile is the least whole number that is not exceeded with at least this probability
    r, mean = fits.distribution.size, fits.forecast[:, 0]
    expected = stats.nbinom.ppf(0.9, r, r / (r + mean))
    np.testing.assert_array_equal(found[:, 2, 0], np.where(np.isinf(r), stats.poisson.ppf(0.9, mean), expected))
    # randomised where the actual meets the bound, which counts do often: between 88 and 92 of 100 do not exceed it
    came, bound = y[:, 104:117], found[:, 2, :]
    below, at = (came < bound).mean(), (came == bound).mean()
    share = (0.9 - stats.nbinom.cdf(bound - 1, 0.8, 0.4)) / stats.nbinom.pmf(bound, 0.8, 0.4)
    assert below + (at * np.clip(share, 0, 1)).mean() == pytest.approx(0.9, abs=0.02)
    together = fits.distribution.quantiles(q, together=True)[:, 2, -1]
    assert (y[:, 104:117].sum(axis=1) <= together).mean() == pytest.approx(0.91, abs=0.04)


EVERY = [
    "mean", "naive", "seasonal-naive", "drift", "moving-average(3)", "moving-average(best)",
    "moving-average(2; weights=2/1)", "trend(linear)", "trend(quadratic)", "trend(exponential)",
    "trend(linear; indices)", "theta", "ets(best)", "ets(best; no-trend)", "ets(A,Ad,N) + harmonics(2)",
    "ets(A,N,N) + harmonics(best)", "ets(A,N,N) + shared-season", "ets(A,N,N; start=first, tune=MAPE)",
    "ets(A,N,N; resampled)", "ets(A,N,N; add-bias)", "croston", "sba", "tsb", "tsb(alpha=0.1, beta=0.1)",
    "log ets(A,A,N)", "log ets(best)", "log naive", "arima(1,1,1)", "log arima(1,0,0)",
    *(f"ets({e},{t},{s})" for e in "AM" for t in ("N", "A", "Ad") for s in "NAM"),
]  # fmt: skip


ODD = {
    "zeros": np.zeros(40),
    "constant": np.full(40, 7.0),
    "two values": np.r_[np.full(38, math.nan), 3.0, 5.0],
    "one value": np.r_[np.full(39, math.nan), 4.0],
    "one huge value": np.r_[np.full(39, 2.0), 1e9],
    "shorter than a season": np.r_[np.full(33, math.nan), np.arange(1.0, 8.0)],
    "every third": np.where(np.arange(40) % 3 == 0, 5.0, math.nan),
    "ended early": np.r_[np.arange(1.0, 21.0), np.full(20, math.nan)],
    "negative": -np.arange(1.0, 41.0),
}


@pytest.mark.parametrize("text", EVERY)
def test_odd_series_get_a_sensible_method_and_a_note(text: str) -> None:
    """No crash, no NaN, and no silent fallback, for all odd series in one batch."""
    batch = Batch(np.array(list(ODD.values())), Timeline("M", 24000, 40, 12))
    reached = np.zeros(len(ODD), dtype=bool)
    for rows, fits, settled in fit_or_simpler(parse(text), batch, 4, "estimated"):
        assert not reached[rows[settled]].any()
        reached[rows[settled]] = True
        assert fits.distribution is not None
        quantiles = fits.distribution.quantiles(np.array([0.1, 0.9]))
        for i in np.nonzero(settled)[0].tolist():
            assert np.isfinite(fits.forecast[i]).all()
            width = quantiles[i, 1] - quantiles[i, 0]
            assert np.isnan(width).all() or (width >= 0).all()  # one value says nothing about spread
            asked, got = parse(text), fits.form(i)
            same = got.family == asked.family and asked.letters in (None, got.letters)
            assert same or any("instead of" in note for note in fits.notes[i])
    assert reached.all()


NUMBER = (float, type(None))
SCHEMA: dict[str, Any] = {
    "series": dict,
    "model": str,
    "parameters": dict,
    "standard_errors": dict,
    "n_used": int,
    **dict.fromkeys(("loglik", "aic", "aicc", "bic", "sigma2"), NUMBER),
    "fitted": list,
    "residuals": list,
    "forecast": dict,
    "notes": list,
}


@pytest.mark.parametrize("text", EVERY)
def test_tansy_fit_knows_every_method_and_its_json_has_one_form(text: str, tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    n = 48
    y = 100 + np.arange(n) + 20 * np.sin(2 * np.pi * np.arange(n) / 12) + rng.normal(0, 3, n)
    rows = [
        f"{2022 + i // 12}-{i % 12 + 1:02d},{key},{v * k:.2f}"
        for key, k in (("a", 1), ("b", 3))
        for i, v in enumerate(y)
    ]
    # a third series that is too short for most, and must get something simpler and a note
    rows += [f"2025-{i + 10:02d},c,{i + 5}" for i in range(3)]
    (tmp_path / "d.csv").write_text("month,sku,units\n" + "\n".join(rows) + "\n")
    arguments = ["fit", str(tmp_path / "d.csv"), "--time", "month", "--value", "units", "--by", "sku", "--model", text]
    result = CliRunner().invoke(app, [*arguments, "--horizon", "5", "--levels", "80"])
    assert result.exit_code == 0, result.output
    fits = json.loads(result.stdout)["fits"]
    assert [one["series"]["sku"] for one in fits] == ["a", "b", "c"]
    for one in fits:
        assert {name for name, kind in SCHEMA.items() if not isinstance(one[name], kind)} == set()
        assert len(one["fitted"]) == len(one["residuals"]) == n
        ahead = one["forecast"]
        assert len(ahead["mean"]) == len(ahead["period"]) == 5 and None not in ahead["mean"]
        for quantiles in (ahead["quantiles"], ahead["total_quantiles"]):
            low, high = quantiles["0.1"], quantiles["0.9"]
            assert len(low) == 5
            assert all(a is None or a <= b for a, b in zip(low, high, strict=True))
        pairs = [(f, e) for f, e in zip(one["fitted"], one["residuals"], strict=True) if e is not None]
        assert all(math.isfinite(f + e) for f, e in pairs)
    short = fits[2]
    if short["model"] != text and not re.search("best|chosen", text):
        assert any("instead of" in note for note in short["notes"])
