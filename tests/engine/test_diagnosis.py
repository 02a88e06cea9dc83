"""What is said about a series and about a fit: correlations, tests, roots, parts of a series, judgement in words."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import stats
from scipy.signal import lfilter

from tansy.engine.lens.look import LookError, look
from tansy.engine.lens.order_search import searched
from tansy.engine.lens.residual_checks import Diagnosis, diagnose
from tansy.engine.lens.tested import from_origins, what_changed
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.inference import roots
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.panel import Panel
from tansy.engine.profile.correlation import autocorrelations, ljung_box, partial_autocorrelations
from tansy.engine.profile.decomposition import decompose
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe
from tansy.engine.timeline import Timeline
from tests.engine.textbook import AIRLINE, LAKE

Floats = NDArray[np.float64]

MONTHS = Timeline("M", 1949 * 12, 144, 12)
AIR = np.array(AIRLINE, dtype=float)


def diagnosed(text: str, y: Floats, timeline: Timeline, m: int) -> Diagnosis:
    fits = fit(parse(text), Batch(y[None], timeline), 12, bands="estimated")
    return diagnose(y, fits, m, timeline.labels)


def test_autocorrelations_by_their_definition_and_partial_ones_by_regression() -> None:
    y = np.array(LAKE, dtype=float)
    r = autocorrelations(y, 20)
    z = y - y.mean()
    np.testing.assert_allclose(r, [(z[k:] * z[:-k]).sum() / (z @ z) for k in range(1, 21)], rtol=1e-12)
    # the last coefficient of the Yule-Walker equations of each order
    for k in (1, 2, 7):
        full = np.r_[1.0, r]
        matrix = full[np.abs(np.subtract.outer(np.arange(k), np.arange(k)))]
        assert partial_autocorrelations(r)[k - 1] == pytest.approx(
            np.linalg.solve(matrix, full[1 : k + 1])[-1], abs=1e-10
        )
    gappy = y.copy()
    gappy[10] = np.nan
    seen = ~np.isnan(gappy)
    z = np.where(seen, gappy - gappy[seen].mean(), 0.0)
    assert autocorrelations(gappy, 3)[2] == pytest.approx((z[3:] * z[:-3]).sum() / (z @ z), rel=1e-12)
    assert not autocorrelations(np.full(30, 4.2), 5).any()


def test_ljung_box_has_the_size_it_says() -> None:
    """Under noise, one in ten p-values lies below 0.1; after fitting, with the degrees taken off."""
    rng = np.random.default_rng(12)
    p = []
    for _ in range(2000):
        r = autocorrelations(rng.normal(size=200), 10)
        q, chance = ljung_box(r, 200, 0)
        p.append(chance[9])
    assert np.mean(np.array(p) < 0.1) == pytest.approx(0.1, abs=0.02)
    assert q[9] == pytest.approx(200 * 202 * sum(r[k - 1] ** 2 / (200 - k) for k in range(1, 11)))
    assert chance[9] == pytest.approx(stats.chi2.sf(q[9], 10))
    _, fitted = ljung_box(r, 200, 3)
    assert np.isnan(fitted[:3]).all()
    assert fitted[9] == pytest.approx(stats.chi2.sf(q[9], 7))


def test_roots_are_those_of_the_polynomials() -> None:
    form = parse("arima(2,1,1)(1,0,1)4")
    parameters = {"ar1": 0.5, "ar2": -0.3, "ma1": 0.4, "sar1": 0.6, "sma1": -0.2}
    found = roots(form, parameters)
    phi = np.convolve([1.0, -0.5, 0.3], [1.0, 0, 0, 0, -0.6])
    theta = np.convolve([1.0, 0.4], [1.0, 0, 0, 0, -0.2])
    for own, polynomial in ((found.phi, phi), (found.theta, theta)):
        assert len(own) == len(polynomial) - 1
        np.testing.assert_allclose(np.poly(own), polynomial, atol=1e-12)


def test_parts_of_a_series_add_up_and_find_what_was_put_in() -> None:
    t = np.arange(180.0)
    trend, season = 100.0 + 0.5 * t + 5.0 * np.sin(t / 60.0), np.tile(np.linspace(-10, 10, 12), 15)
    rng = np.random.default_rng(3)
    y = trend + season + rng.normal(0.0, 1.0, 180)
    y[40:43] = np.nan
    parts = decompose(y, 12)
    seen = ~np.isnan(y)
    np.testing.assert_allclose((parts.trend + parts.season + parts.rest)[seen], y[seen], rtol=1e-12)
    assert np.abs(parts.trend - trend).max() < 1.5
    assert np.abs(parts.season - season).max() < 1.0  # a mean of 15 values of spread 1
    np.testing.assert_allclose(parts.season[:12].sum(), 0.0, atol=1e-6)
    logs = decompose(np.exp(y / 50.0), 12, multiplied=True)
    np.testing.assert_allclose((logs.trend * logs.season * logs.rest)[seen], np.exp(y / 50.0)[seen], rtol=1e-12)
    short = decompose(np.array([1.0, np.nan, 3.0]), 12)
    assert np.isnan(short.trend).all()
    np.testing.assert_allclose(
        decompose(3.0 + 2.0 * t, 1).trend, 3.0 + 2.0 * t, rtol=1e-6
    )  # a line has no bend to lose


def test_look_differences_tabulates_and_advises() -> None:
    found = look(AIR, MONTHS, d=1, seasonal_d=1, logs=True)
    logs = np.log(AIR)
    np.testing.assert_allclose(found.shown[13:], (logs[13:] - logs[12:-1]) - (logs[1:-12] - logs[:-13]), atol=1e-12)
    assert np.isnan(found.shown[:13]).all()
    # Box and Jenkins (1976, table 9.4) print these autocorrelations of the differenced logarithms
    np.testing.assert_allclose(found.acf[[0, 2, 11]], [-0.34, -0.20, -0.39], atol=0.005)
    assert found.years is not None
    assert (found.years.places[0], found.years.years[:2]) == ("Jan", [1949, 1950])
    np.testing.assert_array_equal(found.years.values.T.ravel(), AIR)
    assert any("difference at lag 12" in sentence for sentence in found.advice)
    weeks = look(np.arange(120.0), Timeline("W", 2900, 120, 52))
    assert weeks.years is not None
    assert np.nansum(weeks.years.values) == pytest.approx(np.arange(120.0).sum())
    with pytest.raises(LookError, match="above zero"):
        look(np.arange(120.0), Timeline("W", 2900, 120, 52), logs=True)
    with pytest.raises(LookError, match="more than one season"):
        look(np.arange(40.0), Timeline("W", 2900, 40, 52), seasonal_d=1)


def test_a_judgement_names_what_is_wrong() -> None:
    flat = diagnosed("arima(2,0,0)", AIR, MONTHS, 12)
    assert flat.judgement[0].startswith("Lag 12 still holds structure")
    assert any("Errors grow with the level" in sentence for sentence in flat.judgement)
    good = diagnosed("log arima(0,1,1)(0,1,1)12", AIR, MONTHS, 12)
    assert good.judgement == ["Lags 1 to 15 together look like noise (Ljung-Box, p = 0.77)."]
    assert np.nanmean(good.errors**2) == pytest.approx(1.0, rel=1e-9)
    np.testing.assert_allclose(good.sorted_errors, np.sort(good.errors[~np.isnan(good.errors)]))

    rng = np.random.default_rng(8)
    noise = rng.normal(size=300)
    timeline = Timeline("W", 2500, 300, 1)
    walk = diagnosed("arima(1,0,0; mean=0)", 1000.0 + np.cumsum(noise), timeline, 1)
    assert any("one more difference" in sentence for sentence in walk.judgement)
    twice = diagnosed("arima(0,1,1)", noise, timeline, 1)
    assert any("one difference too many" in sentence for sentence in twice.judgement)
    rich = diagnosed("arima(3,0,0)", lfilter([1.0], [1.0, -0.7], noise), timeline, 1)
    assert any(sentence.startswith("Weak: ") for sentence in rich.judgement)
    noise[200] = 9.0
    wild = diagnosed("mean", noise, timeline, 1)
    assert any(timeline.labels[200] in sentence for sentence in wild.judgement)


def test_forms_at_each_origin_are_those_of_a_fit_to_what_was_seen() -> None:
    forms = [parse("arima(best)"), parse("seasonal-naive")]
    seen_at = [96, 108, 120, 132]
    recipe = Recipe("airline", {}, ("naive",), origins=4, step=12, leads=12)
    prepared = prepare(Panel(MONTHS, ("line",), {"line": ["a"]}, AIR[None]), recipe)
    assert prepared.seen_at == seen_at
    best, naive = from_origins(prepared, 1, forms)
    for n, form in zip([*seen_at, 144], best.forms, strict=True):
        alone = fit(forms[0], Batch(AIR[None, :n], MONTHS.until(n)), 12)
        assert str(form) == str(alone.form(0))
    assert [bool(change) for change in best.changes[1:]] == [
        str(a) != str(b) for a, b in zip(best.forms, best.forms[1:], strict=False)
    ]
    errors = np.stack([AIR[n : n + 12] - AIR[n - 12 : n] for n in seen_at])
    assert naive.measures["MAE"] == pytest.approx(np.abs(errors).mean())
    assert naive.measures["WAPE"] == pytest.approx(
        100 * np.abs(errors).sum() / np.stack([AIR[n : n + 12] for n in seen_at]).sum()
    )
    mase = [
        np.abs(AIR[n : n + 12] - AIR[n - 12 : n]).mean() / np.abs(AIR[12:n] - AIR[: n - 12]).mean() for n in seen_at
    ]
    assert naive.measures["MASE"] == pytest.approx(np.mean(mase))
    said = what_changed(parse("arima(1,0,0)"), parse("arima(0,1,1; drift)"))
    assert said == "AR terms 1 to 0, differences 0 to 1, MA terms 0 to 1, with drift"
    assert what_changed(parse("ets(A,N,N)"), parse("ets(M,Ad,N)")) == "errors A to M, trend N to Ad"


def test_the_path_of_a_search_is_kept() -> None:
    fits = fit(parse("arima(best)"), Batch(AIR[None], MONTHS), 12)
    path = searched(fits, 12)
    assert len({one.model for one in path}) == len(path) > 10
    allowed = [one for one in path if not one.refused and one.aicc is not None]
    best = min(allowed, key=lambda one: one.aicc or 0.0)
    assert best.model == str(fits.form(0))
    assert best.aicc == pytest.approx(float(fits.aicc[0]), abs=1e-3)
    assert searched(fit(parse("arima(1,0,0)"), Batch(AIR[None], MONTHS), 12), 12) == []
