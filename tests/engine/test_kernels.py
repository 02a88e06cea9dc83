"""Leaves of the engine against linear algebra, signal filters and definitions written out."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numba import njit
from numpy.typing import NDArray
from scipy.linalg import solve_discrete_lyapunov, toeplitz
from scipy.signal import lfilter

from tansy.engine.kernels import arma, least_squares, missing
from tansy.engine.kernels.differencing import LEVEL_AT_5_PERCENT, STRONG_SEASON, choose_differences
from tansy.engine.kernels.paths import smoothing_paths
from tansy.engine.kernels.smoothing_linear import evaluate, linear_problem
from tansy.engine.methods.distribution import draws

Floats = NDArray[np.float64]


# --- least squares


@njit
def solve(rows, k):  # type: ignore[no-untyped-def]
    """Coefficients of the first k rows for each row below them, and the variance of x'b for x = 1, 2, 3, ..."""
    n_rows = len(rows)
    gram = np.zeros((n_rows, n_rows))
    dropped = np.zeros(k, dtype=np.bool_)
    least_squares.normal_matrix(rows, rows.shape[1], gram)
    least_squares.cholesky(gram, k, dropped)
    found = np.zeros((n_rows - k, k))
    for i in range(n_rows - k):
        least_squares.back_substitute(gram, k, k + i, dropped, found[i])
    x = np.arange(1.0, k + 1.0)
    return found, dropped, least_squares.quadratic_form(gram, k, dropped, x, np.zeros(k))


@njit
def inverted(matrix):  # type: ignore[no-untyped-def]
    k = len(matrix)
    inverse = np.zeros((k, k))
    done = least_squares.inverse_of_normal(matrix.copy(), np.zeros((k, k)), inverse)
    return done, inverse


@pytest.mark.parametrize("k", [1, 2, 5, 9])
def test_coefficients_are_those_of_dense_least_squares(k: int) -> None:
    rng = np.random.default_rng(k)
    rows = rng.normal(size=(k + 3, 40))
    found, dropped, spread = solve(rows, k)
    dense = np.linalg.lstsq(rows[:k].T, rows[k:].T, rcond=None)[0].T
    np.testing.assert_allclose(found, dense, rtol=1e-10)
    assert not dropped.any()
    x = np.arange(1.0, k + 1.0)
    assert spread == pytest.approx(x @ np.linalg.inv(rows[:k] @ rows[:k].T) @ x, rel=1e-9)
    done, inverse = inverted(rows[:k] @ rows[:k].T)
    assert done
    np.testing.assert_allclose(inverse, np.linalg.inv(rows[:k] @ rows[:k].T), rtol=1e-6)  # its own small ridge


def test_a_column_that_others_explain_is_dropped_and_the_fit_stays() -> None:
    rng = np.random.default_rng(1)
    rows = rng.normal(size=(5, 40))
    rows[2] = 3.0 * rows[0] - 0.5 * rows[1]
    found, dropped, _ = solve(rows, 4)
    assert dropped.tolist() == [False, False, True, False] and found[0, 2] == 0.0
    without = np.linalg.lstsq(rows[[0, 1, 3]].T, rows[4], rcond=None)[0]
    np.testing.assert_allclose(found[0, [0, 1, 3]], without, rtol=1e-9)
    assert not inverted(np.zeros((2, 2)) - np.eye(2))[0]


# --- smoothing beside harmonics


@njit
def with_harmonics(y, x, harmonic, damped, shares):  # type: ignore[no-untyped-def]
    """n log(Q/n) with its gradient, then states, coefficients, log det and errors, at every row of `shares`."""
    none = np.full(4, math.nan)
    has_trend = shares.shape[1] > 1
    problem = linear_problem(y, x, harmonic, 0, has_trend, damped, none, none[:2])
    free = shares.shape[1]
    found = np.zeros((len(shares), 4 + free + x.shape[1] + len(y)))
    for i in range(len(shares)):
        gradient = np.zeros(free)
        found[i, 0] = evaluate(shares[i], problem, True, gradient)
        found[i, 1 : 1 + free] = gradient
        found[i, 1 + free : 3 + free] = problem.found.states
        found[i, 3 + free] = problem.found.log_det[0]
        found[i, 4 + free : 4 + free + x.shape[1]] = problem.found.coefficients
        found[i, 4 + free + x.shape[1] :] = problem.found.path[3]
    return found, problem.given.turning


@pytest.mark.parametrize(("n", "pairs", "turned"), [(156, 3, True), (70, 6, True), (40, 3, True), (20, 9, False)])
@pytest.mark.parametrize("free", [1, 2, 3])
def test_harmonics_solved_for_as_they_are_give_what_filtering_each_gives(
    n: int, pairs: int, turned: bool, free: int
) -> None:
    """Nine pairs over 20 weeks of a year cannot be told apart, and are filtered after all."""
    rng = np.random.default_rng(n + free)
    angle = 2.0 * np.pi * np.outer(np.arange(1234.0, 1234.0 + n), np.arange(1, pairs + 1)) / 52.1775
    x = np.stack([np.sin(angle), np.cos(angle)], axis=2).reshape(n, -1)
    y = 50.0 + rng.normal(0, 1, n).cumsum() + 5.0 * x[:, 0] + rng.normal(0, 3, n)
    shares = np.array([[0.4, 0.2, 0.7], [0.02, 0.01, 0.1], [0.95, 0.9, 1.0], [1e-6, 1e-6, 1e-6]])[:, :free]
    shares = np.ascontiguousarray(shares)
    plain, never = with_harmonics(y, x, False, free == 3, shares)
    found, used = with_harmonics(y, x, True, free == 3, shares)
    assert used == turned and not never
    determinant = 3 + free  # but for a constant
    found[:, determinant] -= found[0, determinant] - plain[0, determinant]
    # those filtered are nearly alike over part of a year, and normal equations square that: 1e-12 over two years
    assert (np.abs(found - plain) <= 1e-10 * (1.0 + np.abs(plain).max(axis=0))).all()


# --- ARMA processes


@njit
def from_partials(raw):  # type: ignore[no-untyped-def]
    coefficients, partials = np.zeros(len(raw)), np.zeros(len(raw))
    arma.coefficients_from_partials(raw, coefficients)
    stationary = arma.partials_from_coefficients(coefficients, partials)
    return coefficients, partials, stationary


@settings(max_examples=60)
@given(st.lists(st.floats(-2.5, 2.5), min_size=1, max_size=6))
def test_any_numbers_searched_give_a_stationary_process_and_come_back(raw: list[float]) -> None:
    coefficients, partials, stationary = from_partials(np.array(raw))
    assert stationary
    np.testing.assert_allclose(partials, np.tanh(raw), atol=1e-9)
    assert np.abs(np.roots(np.r_[1.0, -coefficients])).max() < 1.0


@njit
def refused(coefficients):  # type: ignore[no-untyped-def]
    return not arma.partials_from_coefficients(coefficients, np.zeros(len(coefficients)))


@pytest.mark.parametrize("coefficients", [[1.0], [0.5, 0.6], [-1.2], [2.0, -1.0]])
def test_what_is_not_stationary_is_told(coefficients: list[float]) -> None:
    assert refused(np.array(coefficients))


@njit
def both_filters(inputs, orders, coefficients, settled):  # type: ignore[no-untyped-def]
    """Errors, spread, log determinant and what the past says about the future by the fast and by the full filter."""
    rows, n = inputs.shape
    room = arma.process(orders, n)
    arma.set_process(orders, coefficients, room)
    r = room[0]
    ahead, errors, spread = np.zeros((2, rows, n + r + 1)), np.zeros((2, rows, n)), np.zeros((2, n))
    fast = arma.innovations(inputs, room, settled, ahead[0], errors[0], spread[0])
    work = np.zeros((2, r, r)), np.zeros(r), np.zeros(0, np.int64)
    seen, none, no_lags = np.ones(n), np.zeros(0), np.zeros(0, np.int64)
    full = missing.missing_innovations(inputs, seen, none, no_lags, room, settled, ahead[1], errors[1], spread[1], work)
    covariance = np.zeros((r, r))
    missing.stationary_covariance(room, covariance)
    return np.array([fast, full]), ahead[:, :, n : n + r], errors, spread, covariance, room[1], room[2]


PROCESSES: list[tuple[tuple[int, int, int, int, int], list[float]]] = [
    ((1, 0, 0, 0, 1), [0.9]), ((1, 1, 0, 0, 1), [0.8, -0.4]), ((0, 2, 0, 0, 1), [0.4, -0.5]),
    ((2, 2, 0, 0, 1), [1.2, -0.5, 0.3, 0.2]), ((1, 1, 1, 1, 4), [0.5, -0.4, 0.6, -0.3]),
    ((0, 1, 0, 1, 12), [-0.6, -0.7]),
]  # fmt: skip


@pytest.mark.parametrize(("orders", "coefficients"), PROCESSES, ids=[str(orders) for orders, _ in PROCESSES])
def test_innovations_are_the_cholesky_factor_of_the_covariance(
    orders: tuple[int, int, int, int, int], coefficients: list[float]
) -> None:
    """With L L' the covariance of the series, its errors over their spread are L^-1 w, and sum log F is log det."""
    inputs = np.random.default_rng(4).normal(size=(6, 60))  # more than are filtered at once
    log_f, ahead, errors, spread, covariance, phi, theta = both_filters(inputs, orders, np.array(coefficients), 1e-14)
    impulse = np.r_[1.0, np.zeros(5000)]
    psi = lfilter(np.r_[1.0, theta], np.r_[1.0, -phi], impulse)
    dense = toeplitz([psi[: len(psi) - k] @ psi[k:] for k in range(60)])
    factor = np.linalg.cholesky(dense)
    for own in errors:
        np.testing.assert_allclose(own, np.linalg.solve(factor, inputs.T).T, rtol=1e-7, atol=1e-9)
    np.testing.assert_allclose(spread, [np.diagonal(factor)] * 2, rtol=1e-8)
    np.testing.assert_allclose(log_f, np.linalg.slogdet(dense)[1], rtol=1e-8, atol=1e-9)
    np.testing.assert_allclose(ahead[0], ahead[1], rtol=1e-6, atol=1e-8)
    r = len(phi)
    companion = np.zeros((r, r))
    companion[:, 0] = phi
    companion[:-1, 1:] = np.eye(r - 1)
    shock = np.r_[1.0, theta[: r - 1]]
    lyapunov = solve_discrete_lyapunov(companion, np.outer(shock, shock))
    np.testing.assert_allclose(covariance, lyapunov, rtol=1e-8, atol=1e-10)


# --- differences


def level_statistic(y: Floats) -> float:
    """Kwiatkowski, Phillips, Schmidt and Shin (1992), equation 13, by cumulated sums and explicit autocovariances."""
    e = y - y.mean()
    n = len(e)
    lags = int(3 * n**0.5 / 13)
    long_run = e @ e / n + 2 * sum((1 - k / (lags + 1)) * (e[k:] @ e[:-k]) / n for k in range(1, lags + 1))
    return float((np.cumsum(e) ** 2).sum() / n**2 / long_run)


def season_strength(y: Floats, m: int) -> float:
    kernel = np.ones(m) / m if m % 2 else np.r_[0.5, np.ones(m - 1), 0.5] / m
    trend = np.convolve(y, kernel, mode="valid")
    half = m // 2
    left = y[half : len(y) - half] - trend
    place = np.arange(half, len(y) - half) % m
    rest = left - np.array([left[place == p].mean() for p in place])
    return float(max(0.0, 1 - rest.var() * len(rest) / (len(rest) - m) / left.var()))


@pytest.mark.parametrize("m", [4, 7, 12])
@pytest.mark.parametrize("size", [0.0, 1.0, 6.0])
def test_tests_for_differences_are_their_formulas(m: int, size: float) -> None:
    rng = np.random.default_rng(m)
    t = np.arange(120)
    y = 50 + rng.normal(size=120).cumsum() * 0.5 + size * np.sin(2 * np.pi * t / m) + rng.normal(size=120)
    found = np.empty(5)
    d, seasonal_d = choose_differences(y, m, 2, 1, found)
    assert found[0] == pytest.approx(season_strength(y, m), rel=1e-9, abs=1e-12)
    assert seasonal_d == int(found[0] > STRONG_SEASON)
    w = y[m:] - y[:-m] if seasonal_d else y
    for step in range(d + 1):
        assert found[1 + step] == pytest.approx(level_statistic(w), rel=1e-9)
        assert (found[1 + step] > LEVEL_AT_5_PERCENT) == (step < d)
        w = np.diff(w)
    assert np.isnan(found[2 + d :]).all()


def test_gaps_are_bridged_for_the_tests_alone() -> None:
    y = np.random.default_rng(2).normal(size=80).cumsum()
    gappy, bridged = y.copy(), y.copy()
    gappy[[0, 30, 31, 79]] = math.nan
    bridged[30:32] = y[29] + (y[32] - y[29]) * np.array([1, 2]) / 3
    found, other = np.empty(5), np.empty(5)
    assert choose_differences(gappy, 4, 2, 1, found) == choose_differences(bridged[1:79], 4, 2, 1, other)
    np.testing.assert_allclose(found, other)


def test_a_level_is_not_differenced_and_a_walk_is() -> None:
    """At 5 % one level in twenty is taken for a walk; of 400 that is 12 to 29 with 95 % chance."""
    rng = np.random.default_rng(9)
    scratch = np.empty(5)
    levels = sum(choose_differences(rng.normal(size=150), 1, 2, 0, scratch)[0] > 0 for _ in range(400))
    walks = sum(choose_differences(rng.normal(size=150).cumsum(), 1, 2, 0, scratch)[0] == 1 for _ in range(400))
    assert 8 <= levels <= 34
    assert walks > 340


# --- paths


def paths(
    *, season: int = 0, m: int = 0, relative: bool = False, sigma: float = 0.0, errors: Floats | None = None,
    n: int = 1, n_paths: int = 2048, horizon: int = 8,
    weights: tuple[float, ...] = (0.3, 0.1, 0.1, 0.9),
) -> Floats:  # fmt: skip
    states = np.r_[100.0, 2.0, np.ones(m) if season == 2 else np.zeros(m)]
    states[2 : 2 + m] += (0.2 if season == 2 else 20.0) * np.sin(2 * np.pi * np.arange(m) / max(m, 1))
    out = np.empty((n, horizon, n_paths), dtype=np.float32)
    own = np.zeros((n, 1)) if errors is None else np.tile(errors, (n, 1))
    drawn = draws(horizon, n_paths)
    smoothing_paths(
        np.full(n, relative), np.full(n, season), m, np.tile(weights, (n, 1, 1)), np.tile(states, (n, 1, 1)),
        np.full((n, 1), sigma), own, np.full(n, 0 if errors is None else len(errors)), drawn.normals,
        drawn.uniforms, drawn.which, out,
    )  # fmt: skip
    return out.astype(np.float64)


@pytest.mark.parametrize(("season", "m"), [(0, 0), (1, 4), (2, 4)])
@pytest.mark.parametrize("relative", [False, True])
def test_without_shocks_all_paths_are_the_forecast(season: int, m: int, relative: bool) -> None:
    found = paths(season=season, m=m, relative=relative)
    trend = 100.0 + 2.0 * np.cumsum(0.9 ** np.arange(1, 9))
    turn = np.sin(2 * np.pi * (np.arange(8) % 4) / 4)
    expected = trend if season == 0 else trend + 20 * turn if season == 1 else trend * (1 + 0.2 * turn)
    np.testing.assert_allclose(found[0], np.repeat(expected[:, None], 2048, axis=1), rtol=1e-6)


def test_variance_of_paths_is_that_of_the_linear_form() -> None:
    """Lead h of simple smoothing: sigma^2 (1 + (h - 1) alpha^2); of the sum of leads 1..h by its weights on shocks."""
    found = paths(sigma=5.0, weights=(0.4, 0.0, 0.0, 0.0), n_paths=1 << 15)[0]
    h = np.arange(1, 9)
    # the standard error of a variance over 32,768 paths is 0.8 %, of even ones less
    np.testing.assert_allclose(found.var(axis=1), 25 * (1 + (h - 1) * 0.4**2), rtol=0.01)
    summed = np.cumsum(found, axis=0)
    weights = [[1 + 0.4 * (lead - j) for j in range(1, lead + 1)] for lead in range(1, 9)]
    np.testing.assert_allclose(summed.var(axis=1), [25 * np.square(w).sum() for w in weights], rtol=0.01)


def test_resampled_shocks_are_past_errors_and_all_of_them() -> None:
    errors = np.array([-3.0, 0.5, 7.0])
    found = paths(errors=errors, sigma=2.0, weights=(0.0, 0.0, 0.0, 0.0), n_paths=4096)[0]
    shocks = np.round(found[0] - 100.0, 4)
    values, counts = np.unique(shocks, return_counts=True)
    np.testing.assert_allclose(values, 2.0 * np.sort(errors), rtol=1e-5)
    assert counts.min() > 1360  # a third of 4,096 paths is 1,365.3, and even draws miss it by one or two


def test_a_series_has_the_same_paths_wherever_it_stands_in_a_batch() -> None:
    together = paths(sigma=5.0, n=3)
    np.testing.assert_array_equal(together[1], paths(sigma=5.0)[0])


@pytest.mark.parametrize(("season", "relative"), [(0, True), (1, True), (2, True), (2, False)])
def test_where_something_multiplies_demand_stays_above_zero(season: int, relative: bool) -> None:
    """Also where shocks turn the trend down for good: it ends near nothing and does not come back with another sign."""
    sigma = 0.6 if relative else 60.0
    found = paths(season=season, m=4 if season else 0, relative=relative, sigma=sigma, horizon=40)[0]
    assert np.isfinite(found).all() and found.min() >= 0.0
    assert (found[-4:] < 1.0).all(axis=0).any(), "no path has died out, so nothing was tested"
