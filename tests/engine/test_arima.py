"""Seasonal ARIMA against the dense normal density, published estimates, simulated truth and a search of all models."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.linalg import toeplitz
from scipy.signal import lfilter
from scipy.stats import multivariate_normal

from tansy.engine.errors import NotationError
from tansy.engine.lens.tries import in_words
from tansy.engine.methods import arima_fit
from tansy.engine.methods.distribution import Normal, Transformed
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.timeline import Timeline
from tests.engine.test_methods import arma_covariances
from tests.engine.textbook import AIRLINE, LAKE, NILE

Floats = NDArray[np.float64]
HORIZON = 5


def fitted(text: str, y: Floats, m: int = 1, bands: str = "known") -> Fits:
    y = np.atleast_2d(y)
    return fit(parse(text), Batch(y, Timeline("M", 24000, y.shape[1], m)), HORIZON, bands=bands)


def polynomials(p: dict[str, float], m: int) -> tuple[Floats, Floats]:
    """Coefficients of phi (with minus) and theta at lags 0, 1, ... from their factors, by multiplying them out."""

    def factor(name: str, lag: int, sign: float) -> Floats:
        own = [p[key] for key in sorted(p) if key.rstrip("0123456789") == name]
        found = np.zeros(len(own) * lag + 1)
        found[0] = 1.0
        found[lag::lag] = sign * np.array(own)
        return found

    phi = np.convolve(factor("ar", 1, -1.0), factor("sar", m, -1.0))
    return phi, np.convolve(factor("ma", 1, 1.0), factor("sma", m, 1.0))


def joint(p: dict[str, float], sigma2: float, d: int, seasonal_d: int, m: int, y: Floats) -> tuple[Floats, Floats, int]:
    """Mean and covariance of y and what follows it, given the first values lost to differencing, by dense algebra."""
    n = len(y) + HORIZON
    delta = np.ones(1)
    for lag in [1] * d + [m] * seasonal_d:
        delta = np.convolve(delta, np.r_[1.0, np.zeros(lag - 1), -1.0])
    lost = len(delta) - 1
    phi, theta = polynomials(p, m)
    w_covariance = sigma2 * toeplitz(arma_covariances(-phi[1:], theta[1:], n - lost))
    w_mean = np.full(n - lost, p.get("mean", p.get("constant", p.get("drift", 0.0) * m**seasonal_d)))
    matrix = np.zeros((n - lost, n))
    for i in range(n - lost):
        matrix[i, i : i + lost + 1] = delta[::-1]
    inverse = np.linalg.inv(matrix[:, lost:])
    return inverse @ (w_mean - matrix[:, :lost] @ y[:lost]), inverse @ w_covariance @ inverse.T, lost


SHAPES = [
    ("arima(2,0,0)", 1), ("arima(0,0,3)", 1), ("arima(2,0,2)", 1), ("arima(1,0,1; mean=0)", 1), ("arima(1,1,1)", 1),
    ("arima(0,2,2)", 1), ("arima(1,1,1; drift)", 1), ("arima(3,0,0; ar2=0)", 1), ("arima(0,1,1)(0,1,1)4", 4),
    ("arima(1,0,0)(0,1,1)4", 4), ("arima(1,0,0; drift)(1,1,0)4", 4), ("arima(0,0,1; constant)(0,1,0)4", 4),
    ("arima(1,0,1)(1,0,1)7", 7), ("arima(2,1,0)(0,0,2)4", 4), ("arima(0,0,0)(0,0,1)12", 12),
]  # fmt: skip


def with_random_coefficients(text: str, rng: np.random.Generator) -> str:
    """The form with every coefficient given: each factor's by random partial autocorrelations (Levinson)."""
    form = parse(text)
    assert form.orders is not None
    given = dict(form.given)
    sizes = {"ar": form.orders[0], "ma": form.orders[2], "sar": form.seasonal[0], "sma": form.seasonal[2]}
    for name, size in sizes.items():
        own: list[float] = []
        for partial in rng.uniform(-0.6, 0.6, size):
            own = [*(a - partial * b for a, b in zip(own, own[::-1], strict=True)), partial]
        if name == "ar" and "ar2" in form.given:
            own = [0.4, 0.0, -0.3]
        sign = -1.0 if name.endswith("ma") else 1.0
        given = {**{f"{name}{i + 1}": round(sign * c, 4) for i, c in enumerate(own)}, **given}
    return str(replace(form, given=given))


@pytest.mark.parametrize(("text", "m"), SHAPES, ids=[text for text, _ in SHAPES])
@pytest.mark.parametrize("gaps", [0, 3, 20, 44], ids=["complete", "few gaps", "many gaps", "most missing"])
def test_likelihood_and_forecasts_are_those_of_the_dense_normal(text: str, m: int, gaps: int) -> None:
    rng = np.random.default_rng(len(text) + gaps)
    form = parse(text)
    assert form.orders is not None
    y = 20 + lfilter([1.0, 0.4], [1.0, -0.5], rng.normal(0, 2, 70)) + 3 * np.sin(np.arange(70) * 2 * np.pi / max(m, 5))
    if form.orders[1] + form.seasonal[1]:
        y = y.cumsum() / 5
    y[rng.choice(np.arange(14, 69), gaps, replace=False)] = math.nan
    if gaps == 44:
        y[-2:] = math.nan
    fits = fitted(with_random_coefficients(text, rng), y, m)
    mean, covariance, lost = joint(fits.named_parameters(0), fits.sigma2[0], form.orders[1], form.seasonal[1], m, y)
    seen = np.nonzero(~np.isnan(y[lost:]))[0]
    own = y[lost:][seen]
    dense = multivariate_normal(mean[seen], covariance[np.ix_(seen, seen)]).logpdf(own)
    assert fits.loglik[0] == pytest.approx(float(dense), rel=1e-8)
    assert fits.n_used[0] == len(seen)
    ahead = np.arange(len(y) - lost, len(mean))
    gain = np.linalg.solve(covariance[np.ix_(seen, seen)], covariance[np.ix_(seen, ahead)]).T
    np.testing.assert_allclose(fits.forecast[0], mean[ahead] + gain @ (own - mean[seen]), rtol=1e-8)
    conditional = covariance[np.ix_(ahead, ahead)] - gain @ covariance[np.ix_(seen, ahead)]
    assert isinstance(fits.distribution, Normal)
    # few gaps: variances are those of an endless past, but for missing values, and sixty values nearly are one
    np.testing.assert_allclose(fits.distribution.each[0], np.diag(conditional), rtol=2e-5)
    together = np.cumsum(np.cumsum(conditional, axis=0), axis=1)
    np.testing.assert_allclose(fits.distribution.together[0], np.diag(together), rtol=2e-5)


@pytest.mark.parametrize(
    ("text", "m"), [("arima(0,1,1)(0,1,1)4", 4), ("arima(2,1,0)(0,1,1)4", 4), ("arima(1,1,1)(0,1,0)4", 4)]
)
@pytest.mark.parametrize("gaps", [4, 40], ids=["a column each", "filtered"])
def test_values_missing_where_differences_start_are_left_open(text: str, m: int, gaps: int) -> None:
    """Against generalised least squares on the dense normal, the missing first values its coefficients."""
    rng = np.random.default_rng(gaps)
    form = parse(text)
    assert form.orders is not None
    y = rng.normal(0, 1, 70).cumsum() + 50
    y[rng.choice(np.arange(6, 69), gaps, replace=False)] = math.nan
    y[[2, 4]] = math.nan
    fits = fitted(with_random_coefficients(text, rng), y, m)
    known = np.where(np.isnan(y), 0.0, y)
    parts = fits.named_parameters(0), fits.sigma2[0], form.orders[1], form.seasonal[1], m
    mean, covariance, lost = joint(*parts, known)
    first = np.nonzero(np.isnan(y[:lost]))[0]
    effects = np.stack([joint(*parts, known + np.eye(len(y))[at])[0] - mean for at in first], axis=1)
    seen, ahead = np.nonzero(~np.isnan(y[lost:]))[0], np.arange(len(y) - lost, len(mean))
    inverse = np.linalg.inv(covariance[np.ix_(seen, seen)])
    own = y[lost:][seen] - mean[seen]
    spread = np.linalg.inv(effects[seen].T @ inverse @ effects[seen])
    found = spread @ effects[seen].T @ inverse @ own
    gain = covariance[np.ix_(ahead, seen)] @ inverse
    expected = mean[ahead] + effects[ahead] @ found + gain @ (own - effects[seen] @ found)
    np.testing.assert_allclose(fits.forecast[0], expected, rtol=1e-8)
    left = effects[ahead] - gain @ effects[seen]
    conditional = covariance[np.ix_(ahead, ahead)] - gain @ covariance[np.ix_(seen, ahead)] + left @ spread @ left.T
    assert isinstance(fits.distribution, Normal)
    np.testing.assert_allclose(fits.distribution.each[0], np.diag(conditional), rtol=2e-5)


def test_a_coefficient_given_is_kept_while_the_others_are_estimated() -> None:
    rng = np.random.default_rng(8)
    y = 5 + lfilter([1.0], [1.0, -0.5, 0.0, -0.3], rng.normal(0, 1, (20, 260)), axis=1)[:, 60:]
    held, free = fitted("arima(3,0,0; ar2=0)", y), fitted("arima(3,0,0)", y)
    assert np.all(held.parameters[:, held.parameter_names.index("ar2")] == 0.0)
    assert np.all(held.n_parameters == free.n_parameters - 1)
    assert np.all(held.loglik <= free.loglik + 1e-6)
    # twice the difference is chi-squared with one degree: a mean of 1 and a spread of 1.41 over twenty series
    assert 2 * np.mean(free.loglik - held.loglik) < 1 + 3 * 1.41 / math.sqrt(20)


def test_published_estimates_of_textbook_series() -> None:
    """Lake Huron: Brockwell, Davis (2016), examples 5.2.5 and 5.4.1; airline: Box, Jenkins' model by exact likelihood;
    Nile: the local level of Durbin, Koopman (2012), whose signal-to-noise ratio 0.0973 gives ma1."""
    lake = fitted("arima(1,0,1)", LAKE, bands="estimated")
    found, errors = lake.named_parameters(0), lake.named_errors(0)
    np.testing.assert_allclose([found[k] for k in ("ar1", "ma1", "mean")], [0.7449, 0.3206, 579.0555], atol=6e-5)
    np.testing.assert_allclose([errors[k] for k in ("ar1", "ma1", "mean")], [0.0777, 0.1135, 0.3501], atol=6e-5)
    assert lake.loglik[0] == pytest.approx(-103.25, abs=5e-3) and lake.sigma2[0] == pytest.approx(0.4749, abs=6e-5)
    second = fitted("arima(2,0,0)", LAKE, bands="estimated")
    found, errors = second.named_parameters(0), second.named_errors(0)
    np.testing.assert_allclose([found[k] for k in ("ar1", "ar2", "mean")], [1.0436, -0.2495, 579.0473], atol=6e-5)
    np.testing.assert_allclose([errors[k] for k in ("ar1", "ar2", "mean")], [0.0983, 0.1008, 0.3319], atol=6e-5)
    air = fitted("arima(0,1,1)(0,1,1)12", np.log(AIRLINE), 12, bands="estimated")
    np.testing.assert_allclose([air.named_parameters(0)[k] for k in ("ma1", "sma1")], [-0.4018, -0.5569], atol=6e-5)
    np.testing.assert_allclose([air.named_errors(0)[k] for k in ("ma1", "sma1")], [0.0896, 0.0731], atol=6e-5)
    assert air.loglik[0] == pytest.approx(244.70, abs=5e-3) and air.sigma2[0] == pytest.approx(0.001348, abs=5e-7)
    ratio = 1469.1 / 15099.0
    theta = 0.5 * (math.sqrt(ratio**2 + 4.0 * ratio) - ratio - 2.0)
    assert fitted("arima(0,1,1)", NILE).named_parameters(0)["ma1"] == pytest.approx(theta, abs=2e-4)


@pytest.mark.parametrize(
    ("text", "ar", "ma", "truth"),
    [
        ("arima(2,0,0)", [1.1, -0.4], [], {"ar1": 1.1, "ar2": -0.4}),
        ("arima(1,0,1)", [0.7], [0.4], {"ar1": 0.7, "ma1": 0.4}),
        ("arima(1,0,0)(0,0,1)4", [0.5], [0, 0, 0, 0.6], {"ar1": 0.5, "sma1": 0.6}),
    ],
)
def test_known_parameters_are_recovered_and_standard_errors_are_their_spread(
    text: str, ar: list[float], ma: list[float], truth: dict[str, float]
) -> None:
    rng = np.random.default_rng(12)
    y = 10 + lfilter(np.r_[1.0, ma], np.r_[1.0, -np.array(ar)], rng.normal(0, 1, (200, 350)), axis=1)[:, 150:]
    fits = fitted(text, y, 4, bands="estimated")
    assert fits.standard_errors is not None
    for name, value in truth.items():
        j = fits.parameter_names.index(name)
        found, claimed = fits.parameters[:, j], np.median(fits.standard_errors[:, j])
        # the mean of 200 estimates is known to a fourteenth of their spread, which has a bias of order 1/n besides
        assert found.mean() == pytest.approx(value, abs=0.35 * claimed)
        assert found.std() == pytest.approx(claimed, rel=0.15)


@pytest.mark.parametrize(("text", "m", "n"), [("arima(1,0,1)(0,1,1)6", 6, 90), ("arima(1,1,1)", 1, 120)])
def test_a_fit_seldom_ends_below_the_best_of_many_starts(
    text: str, m: int, n: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Likelihoods of mixed models have several tops; `bench.arima` prints how often the best one is missed."""
    rng = np.random.default_rng(21)
    y = rng.normal(0, 1, (40, n)).cumsum(axis=1) * rng.uniform(0, 1.5, (40, 1)) + rng.normal(0, 3, (40, n))
    y += rng.uniform(0, 15, (40, 1)) * np.sin(2 * np.pi * np.arange(n) / max(m, 4))
    batch = Batch(y, Timeline("M", 24000, n, m))
    found = fit(parse(text), batch, 1)
    best = found.loglik.copy()
    for _ in range(10):
        monkeypatch.setattr(arima_fit, "_starts", lambda form, names: rng.uniform(-2.0, 2.0, (1, len(names))))
        best = np.fmax(best, fit(parse(text), batch, 1).loglik)
    short = best - found.loglik
    assert np.mean(short > 0.05) <= 0.1
    assert (short >= -1e-9).all()


def test_searches_go_to_the_end_where_factors_nearly_cancel() -> None:
    """On such a ridge steps of least squares creep. What is left to gain from the end is nothing, and a change of 1e-7
    in the values does not show in the forecasts: its own size times what a ridge magnifies."""
    rng = np.random.default_rng(5)
    y = 100.0 + lfilter([1.0, -0.55], [1.0, -0.8], rng.normal(0.0, 5.0, (150, 182)), axis=1)
    found = fitted("arima(1,0,1)", y)
    timeline = Timeline("M", 24000, y.shape[1], 1)
    for i in range(0, 150, 5):  # no step to either side, nor along the ridge, leads further up
        p = found.named_parameters(i)
        for ar, ma in ((1e-4, 0.0), (-1e-4, 0.0), (0.0, 1e-4), (0.0, -1e-4), (1e-3, -1e-3), (-1e-3, 1e-3)):
            beside = parse(f"arima(1,0,1; ar1={p['ar1'] + ar:.12f}, ma1={p['ma1'] + ma:.12f})")
            assert fit(beside, Batch(y[i : i + 1], timeline), 1).loglik[0] - found.loglik[i] < 1e-7
    moved = fitted("arima(1,0,1)", y * (1.0 + 1e-7 * rng.uniform(-1.0, 1.0, y.shape)))
    apart = np.abs(moved.forecast / found.forecast - 1.0).max(axis=1)
    assert np.median(apart) < 1e-7
    assert apart.max() < 1e-5


def normal_variances(fits: Fits) -> Floats:
    assert isinstance(fits.distribution, Normal)
    return np.stack([fits.distribution.each, fits.distribution.together])


def test_what_does_not_vary_goes_on_as_it_is_and_what_is_too_short_is_said() -> None:
    flat = fitted("arima(1,0,1)", np.full(40, 7.0))
    np.testing.assert_allclose(flat.forecast[0], 7.0)
    line = np.arange(40.0)
    for text in ("arima(1,1,0; drift)", "arima(best)"):
        np.testing.assert_allclose(fitted(text, line).forecast[0], np.arange(40.0, 40.0 + HORIZON), rtol=1e-9)
    short = fitted("arima(2,0,2)(0,1,1)12", np.r_[np.full(30, np.nan), np.arange(10.0) ** 2 % 7], 12)
    assert not short.defined[0] and "10 values are too few" in short.notes[0][0]
    vast = fitted("arima(1,0,1)", np.r_[np.ones(39), 1e300])
    assert not vast.defined[0] and "too large" in vast.notes[0][0]
    # fitted without error: bands are there and as narrow as what is left
    exact = fitted("arima(2,0,2)(1,0,1)4", np.tile([1.0, 2.0], 25), 4, bands="estimated")
    np.testing.assert_allclose(exact.forecast[0], np.tile([1.0, 2.0], 3)[:HORIZON], atol=1e-3)
    assert ((normal_variances(exact) > 0.0) & (normal_variances(exact) < 1e-9)).all()
    best = fitted("arima(best)", np.r_[np.full(36, np.nan), [3.0, 5.0, 4.0]], 12)
    assert not best.defined[0] and "3 values are too few" in best.notes[0][0]


def test_differences_are_undone_exactly() -> None:
    y = 1e6 + 1e3 * np.sin(np.arange(60)) + 50.0 * np.arange(60)
    found = fitted("arima(0,1,0)(0,1,0)12", y, 12)
    expected = y[-12:-7] + y[-1] - y[-13]
    np.testing.assert_allclose(found.forecast[0], expected, rtol=1e-10)
    np.testing.assert_allclose(found.residuals[0][13:], np.diff(y)[12:] - np.diff(y)[:-12], atol=1e-10 * 1e6)


def test_a_series_is_fitted_the_same_alone_and_beside_others() -> None:
    rng = np.random.default_rng(3)
    y = 50 + rng.normal(0, 1, (6, 80)).cumsum(axis=1) + rng.normal(0, 1, (6, 80))
    y[1, :30], y[2, 60:], y[3, 10:14], y[4], y[5] = math.nan, math.nan, math.nan, 7.0, math.nan
    for text in ("arima(1,1,1)", "arima(1,0,0)(0,1,1)12", "arima(best)"):
        together = fitted(text, y, 12)
        for i in range(5):
            alone = fitted(text, y[i], 12)
            np.testing.assert_array_equal(alone.forecast[0], together.forecast[i])
            assert alone.form(0) == together.form(i)
        assert not together.defined[5]


def simulated(kind: str, rng: np.random.Generator, n: int, length: int) -> Floats:
    noise = rng.normal(0, 1, (n, length + 60))
    month = 6 * np.sin(2 * np.pi * np.arange(length) / 12)
    return {
        "noise": 30 + noise[:, 60:],
        "ar": 30 + lfilter([1.0], [1.0, -0.7], noise, axis=1)[:, 60:],
        "walk": 30 + noise[:, 60:].cumsum(axis=1),
        "season": 30 + month + lfilter([1.0], [1.0, -0.4], noise, axis=1)[:, 60:],
    }[kind]


@pytest.mark.parametrize(
    ("kind", "m", "differences"), [("noise", 1, 0), ("ar", 1, 0), ("walk", 1, 1), ("season", 12, 12)]
)
def test_the_search_differences_as_the_truth_asks_and_is_near_the_best_of_all_models(
    kind: str, m: int, differences: int
) -> None:
    y = simulated(kind, np.random.default_rng(4), 60, 120)
    found = fitted("arima(best; together=3)", y, m)
    chosen = [found.form(i) for i in range(len(y))]
    right = [form.orders is not None and form.orders[1] + form.seasonal[1] * 12 == differences for form in chosen]
    # of 400 series each the tests are right for 96, 72, 91 and 100; the few lags of the level test take a
    # slow autoregression for a walk more often than one in twenty, and cost real series less than the other error
    assert np.mean(right) >= 0.65
    every = fitted("arima(best; together=3, exhaustive)", y, m)
    short = found.aicc - every.aicc
    assert np.mean(short < 0.5) >= 0.8
    for i in range(3):  # what is reported is the fit of the form that was chosen
        again = fitted(str(chosen[i]), y[i], m)
        assert found.loglik[i] == pytest.approx(again.loglik[0], abs=1e-3)
        assert found.n_parameters[i] == again.n_parameters[0]
        assert "models tried" in found.notes[i][-1] and "level test" in found.notes[i][-1]


def test_given_differences_and_bounds_are_kept() -> None:
    y = simulated("season", np.random.default_rng(6), 4, 96)
    found = fitted("arima(best; p=1, q=0, P=0, Q=1, d=1, D=0)", y, 12)
    for i in range(4):
        form = found.form(i)
        assert form.orders is not None and form.orders[1] == 1 and form.orders[0] <= 1 and form.orders[2] == 0
        assert form.seasonal[0] == form.seasonal[1] == 0
    assert all("d = 1 as given" in found.notes[i][-1] and "D = 0 as given" in found.notes[i][-1] for i in range(4))
    assert all(form.period == 0 for form in fitted("arima(best; no-season)", y, 12).forms)
    with pytest.raises(NotationError, match="models lie within"):
        fitted("arima(best; exhaustive, p=8, q=8, together=8)", y, 12)


@pytest.mark.parametrize("text", ["arima(best)", "arima(0,1,1; drift)", "arima(1,0,0)", "arima(0,1,1)(0,1,0)12"])
def test_names_of_parameters_do_not_depend_on_the_series_of_a_batch(text: str) -> None:
    """Studies put batches side by side: one whose series are all too short has the same columns."""
    walks = simulated("walk", np.random.default_rng(1), 4, 90)
    short = np.where(np.arange(90) < 88, math.nan, 5.0)
    names = fitted(text, walks, 12).parameter_names
    assert fitted(text, short, 12).parameter_names == names == fitted(text, np.full(90, 3.0), 12).parameter_names


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("arima(0,1,1)(0,1,1)", "season length"), ("arima(1,0,0)(4,0,0)12", "P and Q"),
        ("arima(1,0,0; ar2=0.5)", "not a constant"), ("arima(1,0,0; drift)", "differenced"),
        ("arima(1,0,0; mean=3)", "mean=0"), ("arima(best; p=9)", "up to 8"), ("arima(best)(0,1,1)12", "itself"),
    ],
)  # fmt: skip
def test_what_cannot_be_meant_is_refused_in_words(text: str, problem: str) -> None:
    with pytest.raises(NotationError, match=problem):
        parse(text)


def test_coefficients_that_cannot_be_are_refused_when_fitted() -> None:
    with pytest.raises(NotationError, match="ar1 to ar2"):
        fitted("arima(2,0,0; ar1=0.9, ar2=0.4)", LAKE)
    with pytest.raises(NotationError, match="ma1 to ma1"):
        fitted("arima(0,1,1; ma1=-1.5)", LAKE)


def test_a_form_is_said_in_words() -> None:
    assert in_words(parse("arima(2,0,0; drift)(0,1,1)52")) == (
        "ARIMA of values, each less that of 52 periods before: from 2 past ones, no past errors, 1 past error whole "
        "seasons back, a steady drift."
    )


@pytest.mark.parametrize("text", [text for text, _ in SHAPES] + ["arima(best; p=3, exhaustive)", "log arima(1,1,0)"])
def test_a_form_written_down_reads_back(text: str) -> None:
    assert parse(str(parse(text))) == parse(text)


@pytest.mark.parametrize(
    ("text", "true", "m", "length"),
    [
        ("arima(1,0,1)", {"ar1": 0.7, "ma1": 0.3}, 1, 156),
        ("arima(0,1,1)", {"ma1": -0.5}, 1, 156),
        ("arima(1,0,0)(0,1,1)12", {"ar1": 0.5, "sma1": -0.4}, 12, 60),
    ],
)
def test_bands_cover_what_comes_when_the_form_is_true(text: str, true: dict[str, float], m: int, length: int) -> None:
    """80 and 95 % bands over 1,500 series and five leads, everything estimated: within three points of their level."""
    n, rng = 1500, np.random.default_rng(17)
    form = parse(text)
    assert form.orders is not None
    phi, theta = polynomials(true, m)
    w = lfilter(theta, phi, rng.normal(size=(n, length + HORIZON + 200)), axis=1)[:, 200:]
    for lag in [1] * form.orders[1] + [m] * form.seasonal[1]:
        for t in range(lag, w.shape[1]):
            w[:, t] += w[:, t - lag]
    fits = fitted(text, 20.0 + w[:, :length], m, bands="estimated")
    assert fits.distribution is not None
    came = 20.0 + w[:, length:]
    low80, high80, low95, high95 = fits.distribution.quantiles(np.array([0.1, 0.9, 0.025, 0.975])).swapaxes(0, 1)
    in80, in95 = ((low80 <= came) & (came <= high80)).mean(), ((low95 <= came) & (came <= high95)).mean()
    assert abs(in80 - 0.80) < 0.03, (in80, in95)
    assert abs(in95 - 0.95) < 0.03, (in80, in95)


def test_days_keep_their_week_beside_a_yearly_season() -> None:
    rng = np.random.default_rng(3)
    t = np.arange(1100)
    week = np.tile([0.0, 1, 2, 1, 0, 8, 9], 158)[:1100]
    y = 30 + 6 * np.sin(2 * np.pi * t / 365.25) + week + rng.normal(0, 1.0, 1100)
    timeline = Timeline("D", 20000, 1100, 7)
    fits = fit(parse("arima(best) + harmonics(2)"), Batch(y[None], timeline), 28)
    form = fits.form(0)
    assert form.period == 7 and form.harmonics == 2
    ahead = 30 + 6 * np.sin(2 * np.pi * np.arange(1100, 1128) / 365.25)
    ahead += np.tile([0.0, 1, 2, 1, 0, 8, 9], 162)[1100:1128]
    assert np.abs(fits.forecast[0] - ahead).max() < 1.5  # the noise has a standard deviation of 1


@pytest.mark.parametrize("text", ["arima(1,0,0)", "log arima(1,0,1)", "regression(price)", "arima(best; together=3)"])
def test_pairs_of_harmonics_are_those_with_the_least_aicc(text: str) -> None:
    rng = np.random.default_rng(31)
    n, length, true = 30, 180, 2
    timeline = Timeline("W", 2800, length, 52)
    x = timeline.harmonics(true, 0)
    noise = lfilter([1.0], [1.0, -0.5], rng.normal(0.0, 3.0, (n, length + 50)), axis=1)[:, 50:]
    y = 100.0 + rng.normal(0.0, 6.0, (n, x.shape[1])) @ x.T + noise
    price = np.exp(rng.normal(0.0, 0.1, (n, length + HORIZON)))
    batch = Batch(y, timeline, {"price": price})
    found = fit(parse(f"{text} + harmonics(best)"), batch, HORIZON, bands="estimated")
    assert found.criteria is not None and found.criteria.shape == (n, 7)
    chosen = np.array([found.form(i).harmonics for i in range(n)])
    assert np.array_equal(chosen, found.criteria.argmin(axis=1))
    if text != "regression(price)":  # whose errors are not the noise of this truth
        assert (chosen == true).sum() >= 0.7 * n  # AICc takes a needless pair now and then, by its nature
    assert isinstance(found.distribution, Normal | Transformed)
    bands = found.distribution.quantiles(np.array([0.1, 0.9]))
    for k in np.unique(chosen).tolist():
        rows = np.flatnonzero(chosen == k)
        own = fit(parse(f"{text} + harmonics({k})" if k else text), batch.rows(rows), HORIZON, bands="estimated")
        assert own.distribution is not None and own.standard_errors is not None and found.standard_errors is not None
        np.testing.assert_allclose(found.forecast[rows], own.forecast, rtol=1e-10)
        np.testing.assert_allclose(bands[rows], own.distribution.quantiles(np.array([0.1, 0.9])), rtol=1e-10)
        for i, row in enumerate(rows.tolist()):
            assert found.form(row) == own.form(i)
            assert found.notes[row] == (f"pairs of harmonics by AICc, 0 to 6 tried: {k}", *own.notes.get(i, ()))
            assert found.named_parameters(row) == pytest.approx(own.named_parameters(i), rel=1e-9)
            assert found.named_errors(row) == pytest.approx(own.named_errors(i), rel=1e-9)
        if "best" not in text:
            np.testing.assert_allclose(found.criteria[rows, k], own.aicc, atol=1e-6)
