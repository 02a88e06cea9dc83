"""Forecast distributions against SciPy's, closed forms and simulation; sums of leads as well as single ones."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy import stats

from tansy.engine.methods.distribution import (
    Chosen,
    Counts,
    Lifted,
    Normal,
    Simulated,
    Transformed,
    draws,
    normal_paths,
    path_quantiles,
)
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
P = np.array([0.025, 0.1, 0.25, 0.5, 0.75, 0.9, 0.975])


def walk(n: int = 3, horizon: int = 6, sigma: float = 2.0) -> Normal:
    """A random walk: lead h has variance h, the sum of leads 1..h the sum of squares 1..h."""
    h = np.arange(1, horizon + 1)
    mean = np.full((n, horizon), 50.0)
    each = np.tile(sigma**2 * h, (n, 1)).astype(float)
    together = np.tile(sigma**2 * np.cumsum(h**2), (n, 1)).astype(float)
    return Normal(mean, each, together)


def test_normal_and_student_quantiles_are_those_of_their_distributions() -> None:
    plain = walk()
    for together, variances in ((False, plain.each), (True, plain.together)):
        mean = np.cumsum(plain.mean, axis=1) if together else plain.mean
        expected = stats.norm.ppf(P[None, :, None], mean[:, None], np.sqrt(variances)[:, None])
        np.testing.assert_allclose(plain.quantiles(P, together), expected, rtol=1e-12)
    freedom = np.array([3.0, 10.0, 1e6])
    student = Normal(plain.mean, plain.each, plain.together, freedom=freedom)
    expected = stats.t.ppf(P[None, :, None], freedom[:, None, None], 50.0, np.sqrt(plain.each)[:, None])
    np.testing.assert_allclose(student.quantiles(P), expected, rtol=1e-9)


@pytest.mark.parametrize("excess", [0.2, 1.0, 4.0])
def test_heavier_tails_have_the_variance_and_the_kurtosis_that_were_given(excess: float) -> None:
    plain = walk(1, 1)
    tails = np.full((1, 1), excess)
    heavy = Normal(plain.mean, plain.each, plain.together, excess=tails, excess_together=tails)
    p = (np.arange(400_000) + 0.5) / 400_000
    z = (heavy.quantiles(p)[0, :, 0] - 50.0) / 2.0
    assert z.var() == pytest.approx(1.0, rel=0.01)
    freedom = 4.0 + 6.0 / excess
    assert stats.t.stats(freedom, moments="k") == pytest.approx(excess)
    np.testing.assert_allclose(z, stats.t.ppf(p, freedom) * np.sqrt((freedom - 2) / freedom), rtol=1e-9)


@settings(max_examples=50)
@given(st.floats(1e-12, 80.0), st.one_of(st.floats(0.02, 500.0), st.just(np.inf)), st.floats(0.001, 0.999))
def test_quantiles_of_counts_are_the_least_that_reach_their_probability(mean: float, size: float, p: float) -> None:
    (found,) = Counts(np.array([[mean]]), np.array([size])).quantiles(np.array([p])).ravel()
    own = stats.poisson(mean) if np.isinf(size) else stats.nbinom(size, size / (size + mean))
    assert found == np.round(found) >= 0
    assert own.cdf(found) >= p * (1 - 1e-9)
    assert found == 0 or own.cdf(found - 1) < p * (1 + 1e-9)


@pytest.mark.parametrize("size", [0.02, 1.0, 50.0, np.inf])
def test_counts_of_any_size_are_found_at_once(size: float) -> None:
    """Where the inverse of the distribution has run out of digits too: by mean + z sd, or by the gamma distribution."""
    means = np.array([[1e5, 0.999e6, 1.001e6, 1e9, 1e13]])
    found = Counts(means, np.array([size])).quantiles(P)[0]
    if np.isfinite(size):
        limit = stats.gamma(size).ppf(P)[:, None] * means / size
    else:
        limit = means + stats.norm.ppf(P)[:, None] * np.sqrt(means)
    np.testing.assert_allclose(found, limit, rtol=2e-4, atol=2.0)


def test_the_sum_of_counts_is_the_count_of_a_sum() -> None:
    """Independent leads of one mean: sizes add up, as a simulation of sums has it."""
    mean, size, horizon = 0.8, 1.5, 10
    found = Counts(np.full((1, horizon), mean), np.array([size])).quantiles(P, together=True)[0, :, -1]
    exact = stats.nbinom(size * horizon, size / (size + mean)).ppf(P)
    np.testing.assert_array_equal(found, exact)
    draws = np.random.default_rng(1).negative_binomial(size, size / (size + mean), (200_000, horizon)).sum(axis=1)
    np.testing.assert_allclose(found, np.quantile(draws, P), atol=1.0)
    poisson = Counts(np.full((1, horizon), mean), np.array([np.inf])).quantiles(P, together=True)[0, :, -1]
    np.testing.assert_array_equal(poisson, stats.poisson(mean * horizon).ppf(P))


def test_counts_of_nothing_are_nothing_and_of_unknown_unknown() -> None:
    found = Counts(np.array([[0.0], [np.nan], [0.0]]), np.array([1.0, 1.0, np.inf])).quantiles(P)
    assert (found[[0, 2]] == 0).all() and np.isnan(found[1]).all()


@pytest.mark.parametrize("together", [False, True])
def test_paths_of_a_normal_have_the_variance_of_every_lead_and_of_every_sum(together: bool) -> None:
    plain = walk(1, 6)
    paths = normal_paths(plain, slice(None), draws(6, 1 << 16))
    values = np.cumsum(paths, axis=1) if together else paths
    variances = plain.together if together else plain.each
    # the standard error of a variance over 65,536 paths would be 0.6 % if they were left to chance
    np.testing.assert_allclose(values.var(axis=2), variances, rtol=0.005)


@pytest.mark.parametrize("power", [0.0, 0.5, 1.0])
def test_a_transformed_scale_keeps_quantiles_of_leads_and_sums_paths(power: float) -> None:
    """With power 1 nothing is bent, and the sum over paths is the exact one but for the paths' own noise."""
    plain = walk(2, 5, 0.05 if power == 0.0 else 0.8)
    scale = Normal(np.full((2, 5), np.log(50.0) if power == 0.0 else 12.0), plain.each, plain.together)
    found = Transformed(scale, np.full(2, power))
    inner = scale.quantiles(P)
    back = np.exp(inner) if power == 0.0 else np.maximum(power * inner + 1.0, 0.0) ** (1.0 / power)
    np.testing.assert_allclose(found.quantiles(P), back, rtol=1e-12)
    summed = found.quantiles(P, together=True)
    np.testing.assert_allclose(summed[:, :, 0], back[:, :, 0], rtol=1e-3)
    if power == 1.0:
        np.testing.assert_allclose(summed, scale.quantiles(P, together=True) + np.arange(1, 6), rtol=1e-4)


def test_a_factor_multiplies_bands_and_doubt_widens_them() -> None:
    plain = walk(1, 3)
    factors = np.array([[1.0, 2.0, 0.5]])
    none = np.zeros((1, 3))
    sure = Lifted(plain, factors, plain.mean, none, none)
    np.testing.assert_allclose(sure.quantiles(P), plain.quantiles(P) * factors[:, None], rtol=1e-9)
    # of a sum the spread grows as its mean does
    grown = np.cumsum(plain.mean * factors, axis=1) / np.cumsum(plain.mean, axis=1)
    np.testing.assert_allclose(sure.quantiles(P, True), plain.quantiles(P, True) * grown[:, None], rtol=1e-9)
    doubt = np.full((1, 3), 9.0)
    wide = Lifted(plain, factors, plain.mean, doubt, doubt).quantiles(P)
    spread = np.sqrt(plain.each * factors**2 + doubt)
    np.testing.assert_allclose(wide, stats.norm.ppf(P[None, :, None], (50.0 * factors)[:, None], spread[:, None]))


def test_quantiles_of_paths_are_the_places_of_sorted_ones() -> None:
    paths = np.arange(1.0, 100.0)[None, None, ::-1].astype(np.float32)
    np.testing.assert_allclose(path_quantiles(paths.copy(), np.array([0.01, 0.5, 0.755]))[0, :, 0], [1.0, 50.0, 75.5])
    np.testing.assert_allclose(path_quantiles(paths.copy(), np.array([0.0001, 0.9999]))[0, :, 0], [1.0, 99.0])


def test_each_series_may_have_its_own() -> None:
    own = Simulated(1, 6, lambda rows, drawn: drawn.normals[None].astype(np.float32))
    mixed = Chosen(3, [(np.array([2]), own), (np.array([0]), walk(1))])
    found = mixed.quantiles(P)
    np.testing.assert_allclose(found[0], walk(1).quantiles(P)[0])
    assert np.isnan(found[1]).all()
    np.testing.assert_allclose(found[2], np.repeat(stats.norm.ppf(P)[:, None], 6, axis=1), atol=0.005)


@pytest.mark.parametrize(("alpha", "sigma"), [(0.3, 0.06), (0.8, 0.06), (0.8, 0.15)])
def test_quantiles_of_paths_are_right_to_two_hundredths_of_a_deviation_and_smooth(alpha: float, sigma: float) -> None:
    """ets(M,N,N): against four million plain paths, whose own error at 2.5 % is 0.0013 of a standard deviation."""
    rng = np.random.default_rng(0)
    y = 100.0 * np.ones(90) + rng.normal(0.0, 1.0, 90)
    fits = fit(
        parse(f"ets(M,N,N; alpha={alpha}, level=100)"), Batch(y[None], Timeline("M", 24000, 90, 12)), 12, "known"
    )
    assert isinstance(fits.distribution, Chosen)
    simulated = fits.distribution.parts[-1][1]
    assert isinstance(simulated, Simulated)
    own: Any = simulated.paths
    wider = replace(own, estimates=replace(own.estimates, sigma=np.full_like(own.estimates.sigma, sigma)))
    found = replace(simulated, paths=wider, response=wider.response).quantiles(P)[0]
    level = np.full(1 << 22, fits.forecast[0, 0])
    for h in range(12):
        shock = rng.normal(0.0, sigma, len(level))
        came = level * (1.0 + shock)
        assert np.abs(found[:, h] - np.quantile(came, P)).max() < 0.02 * came.std(), h
        level *= 1.0 + alpha * shock
    bend = np.abs(np.diff(found[:, 2:], 2, axis=1)) / np.sqrt(1.0 + np.arange(2, 10) * alpha**2) / (100 * sigma)
    assert bend.max() < 0.08  # of a standard deviation; the root of h itself bends by up to 0.05


def test_a_demand_of_sizes_and_gaps_has_the_quantiles_of_its_mixture() -> None:
    """Sizes that are no counts: nothing at the chance of no demand, else a past size, scaled to the forecast."""
    y = np.zeros((1, 40))
    y[0, ::4] = [0.5, 1.5, 2.5, 3.5, 4.5, 1.5, 2.5, 0.5, 3.5, 2.5]
    fits = fit(parse("croston"), Batch(y, Timeline("W", 2800, 40, 52)), 3, bands="known")
    assert fits.distribution is not None
    chance = 1.0 / fits.parameters[0, 3]
    sizes = np.sort(y[0, ::4]) * fits.forecast[0, 0] / (chance * y[0, ::4].mean())
    p = np.array([0.3, 0.72, 0.9, 0.99])
    expected = [0.0 if q <= 1 - chance else sizes[int(np.ceil((q - 1 + chance) / chance * 10 - 1e-9)) - 1] for q in p]
    found = fits.distribution.quantiles(p)[0]
    np.testing.assert_allclose(found, np.repeat(np.array(expected)[:, None], 3, axis=1))
    total = fits.distribution.quantiles(p, together=True)[0]
    draw = np.random.default_rng(0)
    comes = draw.random((3, 400_000)) < chance
    summed = np.cumsum(np.where(comes, sizes[draw.integers(0, 10, comes.shape)], 0.0), axis=0)
    # between two sizes that a sum can have, a quantile near a step may fall on either
    assert np.abs(total - np.quantile(summed, p, axis=1)).max() < 0.3 * summed.std(axis=1).max()


FORMS = (
    "ets(A,A,N)", "ets(M,Ad,M)", "arima(1,1,1)", "log ets(A,N,A)", "boxcox(0.5) arima(1,0,0)", "tsb", "theta", "mean",
    "seasonal-naive", "trend(linear)", "drift", "moving-average(3)", "ets(A,N,N; resampled)",
    "ets(A,N,N) + harmonics(2)",
)  # fmt: skip


@pytest.mark.parametrize("text", FORMS)
def test_bands_of_every_family_are_ordered_nested_and_of_sums_as_of_leads(text: str) -> None:
    rng = np.random.default_rng(3)
    t = np.arange(84)
    y = rng.poisson(30 + 8 * np.sin(2 * np.pi * t / 12), (4, 84)).astype(float) + 1.0
    fits = fit(parse(text), Batch(y, Timeline("M", 24000, 84, 12)), 12, bands="estimated")
    assert fits.distribution is not None
    each, summed = fits.distribution.quantiles(P), fits.distribution.quantiles(P, together=True)
    for found in (each, summed):
        assert np.isfinite(found).all() and (np.diff(found, axis=1) >= 0).all()
    # of one lead both are the same, but for the paths that a sum is read from
    np.testing.assert_allclose(summed[:, :, 0], each[:, :, 0], rtol=0.12)
    # the middle of a sum is near the sum of the middles, its band narrower than the sum of the bands
    np.testing.assert_allclose(summed[:, 3, -1], each[:, 3].sum(axis=1), rtol=0.04)
    assert (np.ptp(summed[:, [0, -1], -1], axis=1) <= 1.02 * np.ptp(each[:, [0, -1]], axis=1).sum(axis=1)).all()


@pytest.mark.parametrize(
    "text", ["ets(A,A,N)", "tsb", "croston", "mean", "boxcox(0.5) ets(A,N,N)", "ets(M,N,N)", "ets(best)"]
)
def test_the_spread_of_a_lead_is_that_of_its_quantiles(text: str) -> None:
    """Against the standard deviation of the distribution, put together from many of its quantiles."""
    rng = np.random.default_rng(4)
    y = np.stack([rng.poisson(lam, 80).astype(float) for lam in (3.0, 9.0, 30.0)]) + 1.0
    y[0] = rng.poisson(0.8, 80) * 1.5  # no whole numbers: sizes and gaps of the past
    batch = Batch(y if text in ("tsb", "croston", "mean") else y[1:], Timeline("W", 2800, 80, 1))
    fits = fit(parse(text), batch, 5, bands="known")
    assert fits.distribution is not None
    p = (np.arange(4000) + 0.5) / 4000
    exact = fits.distribution.quantiles(p).std(axis=1)
    # the ends of the tails are cut off; a power of a normal is a little skew, and read off its 80 % band
    np.testing.assert_allclose(fits.distribution.spread(), exact, rtol=0.05)


@pytest.mark.parametrize(
    "text",
    [
        "ets(A,Ad,N)", "ets(M,A,M)", "ets(A,N,N; resampled)", "ets(A,N,A; add-bias)", "arima(1,0,1)", "log ets(A,N,A)",
        "boxcox(best) arima(0,1,1)", "trend(linear)", "trend(exponential; indices)", "theta", "seasonal-naive", "tsb",
        "croston", "regression(price)", "ets(A,N,N) + pooled(price)", "arima(1,0,0) + slope-changes", "ets(best)",
    ],
)  # fmt: skip
def test_paths_have_the_quantiles_of_every_lead_and_of_sums(text: str) -> None:
    """One contract: the paths of every method against its own quantiles, lead by lead and added up. In standard
    deviations: 16,384 draws that fill the cube evenly place single leads within 0.03 (counts within a unit); sums of
    what multiplies are themselves simulated or go by a variance, and hold within 0.15."""
    rng = np.random.default_rng(4)
    length, horizon, n = 72, 6, 1 << 14
    price = 5.0 + rng.uniform(-1.0, 1.0, (2, length + horizon))
    season = np.sin(np.arange(length) * 2 * np.pi / 12)
    values = rng.poisson(60.0 * np.exp(0.2 * season - 0.2 * (price[:, :length] - 5.0))).astype(float)
    batch = Batch(values, Timeline("M", 24_000, length, 12), {"price": price})
    distribution = fit(parse(text), batch, horizon, "known").distribution
    assert distribution is not None
    p = np.array([0.1, 0.5, 0.9])
    paths = np.asarray(distribution.paths(slice(0, 2), draws(horizon, n)), np.float64)
    assert paths.shape == (2, horizon, n)
    np.testing.assert_array_equal(paths[1:], distribution.paths(slice(1, 2), draws(horizon, n)))
    # counts are whole, and resampled errors lie apart from one another
    unit = {"tsb": 1.0, "croston": 1.0, "ets(A,N,N; resampled)": 2.5}.get(text, 0.0)
    for together, within in ((False, 0.03), (True, 0.15)):
        own = np.quantile(np.cumsum(paths, axis=1) if together else paths, p, axis=2).transpose(1, 0, 2)
        said = distribution.quantiles(p, together)
        spread = (said[:, 2:] - said[:, :1]) / 2.56
        assert (np.abs(own - said) <= within * spread + unit + 1e-9).all(), np.abs((own - said) / spread).max()
