"""Exponential smoothing against hand arithmetic, its plain definition, an independent optimiser and simulated truth."""

from __future__ import annotations

import math

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.methods.distribution import Normal
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.timeline import Timeline
from tests.engine import plain_smoothing as plain
from tests.engine.textbook import AIRLINE, LAKE, NILE

Floats = NDArray[np.float64]
Letters = tuple[str, str, str]

LINEAR = [letters for letters in plain.ALL_FORMS if letters[0] == "A" and letters[2] != "M"]
text_of = "ets({},{},{})".format


def fitted(
    text: str, values: Floats | list[float], horizon: int = 4, m: int = 12, bands: str = "known", **more: object
) -> Fits:
    y = np.atleast_2d(np.asarray(values, dtype=float))
    batch = Batch(y, Timeline("M", 24000, y.shape[1], m), **more)  # type: ignore[arg-type]
    return fit(parse(text), batch, horizon, bands=bands)


def normal(fits: Fits) -> Normal:
    assert isinstance(fits.distribution, Normal)
    return fits.distribution


def truth(letters: Letters, m: int) -> dict[str, float]:
    """Parameters that make a plausible series of about 100."""
    _, trend, season = letters
    p = {"alpha": 0.3, "level": 100.0}
    if trend != "N":
        p |= {"beta": 0.03, "trend": 0.6}
    if trend == "Ad":
        p["phi"] = 0.93
    if season != "N":
        swing = np.sin(2 * np.pi * np.arange(m) / m)
        swing -= swing.mean()
        p["gamma"] = 0.15
        p |= {f"season{j + 1}": 1 + 0.2 * s if season == "M" else 20 * s for j, s in enumerate(swing)}
    return p


def noise(letters: Letters) -> float:
    return 0.03 if letters[0] == "M" else 3.0


def test_fixed_constants_give_the_recursion_that_is_done_by_hand() -> None:
    # level 10 -> error 2, level 11 -> error -1, level 10.5 -> error 3.5, level 12.25
    fits = fitted("ets(A,N,N; alpha=0.5, level=10)", [12.0, 10.0, 14.0])
    np.testing.assert_allclose(fits.residuals[0], [2.0, -1.0, 3.5], rtol=1e-14)
    np.testing.assert_allclose(fits.forecast[0], 12.25, rtol=1e-14)
    sigma2 = (4.0 + 1.0 + 12.25) / 3
    np.testing.assert_allclose(normal(fits).each[0], sigma2 * (1 + 0.25 * np.arange(4)), rtol=1e-12)
    # the sum of two leads: an error counts 1 in the second and 1 + alpha in the first
    np.testing.assert_allclose(normal(fits).together[0, 1], sigma2 * (1 + 1.5**2), rtol=1e-12)
    assert fits.loglik[0] == pytest.approx(-1.5 * (math.log(2 * math.pi * sigma2) + 1), rel=1e-12)


def test_a_trend_with_a_season_by_hand() -> None:
    """Two seasons of two, weights of a half, by fractions: every state on paper."""
    text = "ets(A,A,A; alpha=0.5, beta=0.25, gamma=0.5, level=10, trend=2, season1=1, season2=-1)"
    # period 1: q 12, mu 13, y 15, e 2   -> level 13, trend 2.5, season1 2
    # period 2: q 15.5, mu 14.5, y 14.5, e 0 -> level 15.5, trend 2.5, season2 -1
    # period 3: q 18, mu 20, y 16, e -4  -> level 16, trend 1.5, season1 0
    fits = fitted(text, [15.0, 14.5, 16.0], m=2)
    np.testing.assert_allclose(fits.residuals[0], [2.0, 0.0, -4.0], atol=1e-13)
    np.testing.assert_allclose(fits.forecast[0], [16 + 1.5 - 1, 16 + 3.0, 16 + 4.5 - 1, 16 + 6.0], rtol=1e-13)


@pytest.mark.parametrize("letters", plain.ALL_FORMS, ids=lambda x: "".join(x))
def test_every_form_is_its_plain_recursion_and_no_slow_search_finds_better(letters: Letters) -> None:
    """Twenty simulated series per form; the promise is 0.05 of log-likelihood without a season, 0.5 with one."""
    rng = np.random.default_rng(7)
    m, n = 4, 60
    y = np.array([plain.simulate(letters, truth(letters, m), m, n, noise(letters), rng) for _ in range(20)])
    y[3, [20, 21, 40]] = math.nan
    y[4, :5] = math.nan
    fits = fitted(text_of(*letters), y, m=m)
    for i in range(len(y)):
        found, own = fits.named_parameters(i), y[i][np.argmax(~np.isnan(y[i])) :]
        again = plain.run(own, letters, found, m)
        np.testing.assert_allclose(fits.residuals[i][-len(own) :], again.errors, atol=1e-9)
        np.testing.assert_allclose(fits.forecast[i], again.ahead, rtol=1e-10)
        assert fits.loglik[i] == pytest.approx(plain.loglik(own, letters, found, m), rel=1e-10)
        other = plain.best_by_search(own, letters, m, found, rng, restarts=2)  # `bench.smoothing --slow`: 200 series
        assert fits.loglik[i] >= other - (0.05 if letters[2] == "N" else 0.5)
    if letters[2] != "N":
        seasons = [j for j, name in enumerate(fits.parameter_names) if name.startswith("season")]
        np.testing.assert_allclose(fits.parameters[:, seasons].sum(axis=1), m if letters[2] == "M" else 0.0, atol=1e-9)


@pytest.mark.parametrize("letters", plain.ALL_FORMS, ids=lambda x: "".join(x))
def test_no_slow_search_finds_better_on_textbook_series(letters: Letters) -> None:
    rng = np.random.default_rng(8)
    for y, m in ((NILE, 1), (LAKE, 1)) if letters[2] == "N" else ((AIRLINE, 12),):
        fits = fitted(text_of(*letters), y, m=m)
        other = plain.best_by_search(y, letters, m, fits.named_parameters(0), rng, restarts=3)
        assert fits.loglik[0] >= other - (0.05 if letters[2] == "N" else 0.5)


def test_a_series_is_fitted_the_same_beside_others_of_any_length() -> None:
    """Series without a season are searched side by side: gaps, lengths and misfits next to one do not touch it."""
    rng = np.random.default_rng(9)
    y = np.maximum(100 + rng.normal(0, 1, (41, 90)).cumsum(axis=1) + rng.normal(0, 3, (41, 90)), 1.0)
    y[1, :70], y[2, 30:], y[3, rng.random(90) < 0.4], y[4], y[5, 7], y[6] = *([math.nan] * 3), 5.0, 1e7, math.nan
    for text in ("ets(A,Ad,N)", "ets(M,A,N)", "ets(A,N,N; alpha=0.3)", "ets(M,N,N; alpha=0.3)", "ets(best)"):
        together = fitted(text, y, m=1)
        for i in (0, 1, 2, 3, 4, 5, 40):
            alone = fitted(text, y[i], m=1)
            np.testing.assert_array_equal(alone.parameters[0], together.parameters[i][: alone.parameters.shape[1]])
            np.testing.assert_array_equal(alone.forecast[0], together.forecast[i])
        assert np.isnan(together.forecast[6]).all()


@pytest.mark.parametrize("letters", LINEAR, ids=lambda x: "".join(x))
def test_exact_variances_are_those_of_simulated_paths(letters: Letters) -> None:
    """100,000 paths of the plain recursion: the variance of a lead and of the sum of leads 1..h."""
    rng = np.random.default_rng(3)
    m, h, n_paths = 4, 9, 100_000
    y = plain.simulate(letters, truth(letters, m), m, 48, 3.0, rng)
    fits = fitted(text_of(*letters), y, horizon=h, m=m)
    p = fits.named_parameters(0)
    last = plain.run(np.append(y, math.nan), letters, p, m).states[-1]
    level, slope = np.full(n_paths, last[0]), np.full(n_paths, last[1])
    season = np.array([np.full(n_paths, last[2][j]) for j in range(m)])
    phi = {"N": 0.0, "A": 1.0, "Ad": p.get("phi", 1.0)}[letters[1]]
    paths = np.empty((h, n_paths))
    for k in range(h):
        e = math.sqrt(fits.sigma2[0]) * rng.standard_normal(n_paths)
        j = (len(y) + k) % m
        q = level + phi * slope
        paths[k] = q + season[j] + e
        level, slope = q + p["alpha"] * e, phi * slope + p.get("beta", 0.0) * e
        season[j] = season[j] + p.get("gamma", 0.0) * e
    # a variance from 100,000 draws is known to 0.45 %: four of those
    np.testing.assert_allclose(normal(fits).each[0], paths.var(axis=1), rtol=0.018)
    np.testing.assert_allclose(normal(fits).together[0], np.cumsum(paths, axis=0).var(axis=1), rtol=0.018)
    np.testing.assert_allclose(fits.forecast[0], paths.mean(axis=1), atol=4 * paths.std(axis=1).max() / n_paths**0.5)


@pytest.mark.parametrize("letters", [("M", "N", "N"), ("M", "Ad", "M"), ("A", "A", "M")], ids=lambda x: "".join(x))
def test_paths_of_a_form_that_is_not_linear_are_its_own(letters: Letters) -> None:
    rng = np.random.default_rng(4)
    m = 4
    y = plain.simulate(letters, truth(letters, m), m, 60, noise(letters), rng)
    fits = fitted(text_of(*letters), y, m=m, horizon=5)
    p = fits.named_parameters(0)
    assert fits.distribution is not None
    quantiles = fits.distribution.quantiles(np.array([0.1, 0.5, 0.9]))[0]
    sigma = math.sqrt(fits.sigma2[0])
    ends = []
    for _ in range(1500):
        path = np.append(y, np.full(5, math.nan))
        for h in range(5):
            mu = plain.run(path[: len(y) + h + 1], letters, p, m).mu[-1]
            shock = sigma * rng.standard_normal()
            path[len(y) + h] = mu * (1 + shock) if letters[0] == "M" else mu + shock
        ends.append(path[len(y) :])
    expected = np.quantile(np.array(ends), [0.1, 0.5, 0.9], axis=0)
    spread = expected[2] - expected[0]
    # quantiles of 1,500 and of 2,000 draws each have an error of about 2 % of the 80 % band
    assert np.abs(quantiles - expected).max() < 0.1 * spread.max()


def test_parameters_are_recovered() -> None:
    """400 series of 200 periods: estimates lie about the truth, which a bias of one standard error would not."""
    rng = np.random.default_rng(5)
    n, length = 400, 200
    e = rng.normal(0, 2.0, (n, length))
    level, slope, y = np.full(n, 50.0), np.full(n, 0.5), np.empty((n, length))
    for t in range(length):
        y[:, t] = level + slope + e[:, t]
        level, slope = level + slope + 0.4 * e[:, t], slope + 0.1 * e[:, t]
    fits = fitted("ets(A,A,N)", y)
    median = dict(zip(fits.parameter_names, np.median(fits.parameters, axis=0), strict=True))
    assert median["alpha"] == pytest.approx(0.4, abs=0.03)
    assert median["beta"] == pytest.approx(0.1, abs=0.03)
    assert np.sqrt(np.median(fits.sigma2)) == pytest.approx(2.0, rel=0.03)


def season_of(m: int, form: str) -> Floats:
    swing = np.sin(2 * np.pi * np.arange(m) / m)
    return 1 + 0.2 * swing if form == "M" else 8 * swing


@pytest.mark.parametrize(
    ("text", "letters", "n", "m"),
    [
        ("ets(A,N,N)", ("A", "N", "N"), 156, 1),
        ("ets(A,A,N)", ("A", "A", "N"), 156, 1),
        ("ets(A,Ad,N)", ("A", "Ad", "N"), 156, 1),
        ("ets(A,N,A)", ("A", "N", "A"), 60, 12),
        ("ets(A,A,A)", ("A", "A", "A"), 60, 12),
        ("ets(M,N,M)", ("M", "N", "M"), 60, 12),
    ],
)
@pytest.mark.parametrize("bands", ["known", "estimated"])
def test_bands_cover_what_they_say_when_the_form_is_true(
    text: str, letters: Letters, n: int, m: int, bands: str
) -> None:
    """Simulated truth, leads 1 to 12 and the sum of them; known parameters within 1.5 points, estimated within 3."""
    rng = np.random.default_rng(11)
    series, h = 3000, 12
    p = {"alpha": 0.3, "beta": 0.05, "gamma": 0.1, "phi": 0.92, "level": 100.0, "trend": 0.3}
    p = {name: value for name, value in p.items() if name in plain.names(letters, m)}
    first = {f"season{j + 1}": s for j, s in enumerate(season_of(m, letters[2]))} if letters[2] != "N" else {}
    y = simulated(letters, {**p, **first}, m, n + h, series, rng)
    given = {**p, **first}
    known = text[:-1] + "; " + ", ".join(f"{name}={value:.12g}" for name, value in given.items()) + ")"
    fits = fitted(known if bands == "known" else text, y[:, :n], horizon=h, m=m, bands=bands)
    assert fits.distribution is not None
    q = np.array([0.025, 0.1, 0.9, 0.975])
    for together in (False, True):
        low95, low80, high80, high95 = np.moveaxis(fits.distribution.quantiles(q, together), 1, 0)
        came = np.cumsum(y[:, n:], axis=1) if together else y[:, n:]
        inside80, inside95 = ((low80 <= came) & (came <= high80)).mean(), ((low95 <= came) & (came <= high95)).mean()
        slack = 0.015 if bands == "known" else 0.03
        assert inside80 == pytest.approx(0.80, abs=slack)
        assert inside95 == pytest.approx(0.95, abs=slack)


def simulated(letters: Letters, p: dict[str, float], m: int, n: int, series: int, rng: np.random.Generator) -> Floats:
    """Many series at once of a form without (A, any) or with (M, M) proportion, by the plain recursion."""
    e = rng.standard_normal((series, n)) * (0.05 if letters[0] == "M" else 3.0)
    level, slope = np.full(series, p["level"]), np.full(series, p.get("trend", 0.0))
    season = np.array([np.full(series, p.get(f"season{j + 1}", 1.0 if letters[2] == "M" else 0.0)) for j in range(m)])
    phi = {"N": 0.0, "A": 1.0, "Ad": p.get("phi", 1.0)}[letters[1]]
    y = np.empty((series, n))
    for t in range(n):
        q, s = level + phi * slope, season[t % m].copy()
        mu = q * s if letters[2] == "M" else q + s
        error = mu * e[:, t] if letters[0] == "M" else e[:, t]
        y[:, t] = mu + error
        shock = error / s if letters[2] == "M" else error
        level, slope = q + p["alpha"] * shock, phi * slope + p.get("beta", 0.0) * shock
        season[t % m] = s + p.get("gamma", 0.0) * (error / q if letters[2] == "M" else error)
    return y


def test_bands_of_a_long_season_by_harmonics_cover_what_they_say() -> None:
    rng = np.random.default_rng(12)
    n, h, series = 156, 13, 800
    timeline = Timeline("W", 2700, n, 52)
    x = timeline.harmonics(2, h)
    y = simulated(("A", "N", "N"), {"alpha": 0.2, "level": 100.0}, 1, n + h, series, rng) + x @ [12.0, 4.0, -6.0, 3.0]
    fits = fit(parse("ets(A,N,N) + harmonics(2)"), Batch(y[:, :n], timeline), h, bands="estimated")
    low95, low80, high80, high95 = np.moveaxis(normal(fits).quantiles(np.array([0.025, 0.1, 0.9, 0.975])), 1, 0)
    came = y[:, n:]
    assert ((low80 <= came) & (came <= high80)).mean() == pytest.approx(0.80, abs=0.03)
    assert ((low95 <= came) & (came <= high95)).mean() == pytest.approx(0.95, abs=0.03)


def test_the_best_form_is_the_one_with_the_least_aicc_of_all_fifteen() -> None:
    rng = np.random.default_rng(6)
    m = 4
    letters_true: list[Letters] = [("A", "N", "N"), ("M", "A", "M"), ("A", "Ad", "A"), ("M", "N", "N")]
    y = np.array([plain.simulate(one, truth(one, m), m, 72, noise(one), rng) for one in letters_true for _ in range(4)])
    best = fitted("ets(best)", y, m=m)
    fifteen = [one for one in plain.ALL_FORMS if one[0] == "M" or one[2] != "M"]
    assert len(fifteen) == len(best.tried) == 15
    each = np.stack([fitted(text_of(*one), y, m=m).aicc for one in fifteen], axis=1)
    # candidates are searched once and loosely, those within reach of the best to the end; a second optimum is missed
    # now and then (bench/smoothing.py prints how often)
    lost = best.aicc - each.min(axis=1)
    assert np.mean(lost < 0.05) > 0.9
    assert lost.max() < 1.0
    with_zero = fitted("ets(best)", np.r_[0.0, y[0, 1:]], m=m)
    assert with_zero.form(0).letters[0] == "A" and "above zero" in with_zero.notes[0][0]  # type: ignore[index]
    no_trend = fitted("ets(best; no-trend, no-multiplicative)", y, m=m)
    assert no_trend.tried == ("ets(A,N,N)", "ets(A,N,A)")


@pytest.mark.parametrize("letters", ["M,N,N", "M,Ad,N", "M,N,M", "A,N,M"])
@pytest.mark.parametrize("bands", ["known", "estimated"])
def test_errors_of_missing_periods_are_in_the_bands_of_paths(letters: str, bands: str) -> None:
    """Far above zero a form that multiplies moves like the one that adds, whose variances are exact. Half of what is
    wide here comes from two values missing at the end."""
    trend, season = letters.split(",")[1:]
    rng = np.random.default_rng(8)
    level, y = 1000.0, list[float]()
    for e in rng.normal(0.0, 1.0, 80).tolist():
        y.append(level + 20.0 * math.sin(len(y) * math.pi / 2) * (season == "M") + e)
        level += 0.8 * e
    values = np.array(y)
    values[[20, 41, 60, 77, 78, 79]] = math.nan
    widths = []
    for one in (f"A,{trend},{'A' if season == 'M' else 'N'}", letters):
        found = fitted(f"ets({one})", values, m=4, bands=bands)
        assert found.distribution is not None
        low, high = found.distribution.quantiles(np.array([0.1, 0.9]))[0]
        widths.append(high - low)
    # 4,096 draws of what the missing errors were: a deviation is known to an eightieth
    np.testing.assert_allclose(widths[1], widths[0], rtol=0.06)
    more = values.copy()
    more[30:50] = math.nan
    beside = fitted(f"ets({letters})", np.stack([more, values]), m=4, bands=bands)
    assert beside.distribution is not None
    np.testing.assert_array_equal(beside.distribution.quantiles(np.array([0.1, 0.9]))[1], [low, high])


@pytest.mark.parametrize("letters", ["A,N,N", "A,A,N", "A,Ad,A", "A,N,A"])
def test_errors_of_missing_periods_are_in_the_bands(letters: str) -> None:
    """Each error that was not seen moves what comes by so much: the recursion of the textbook run with it, and the
    forecast from values that do not show it, differ by the square root of what it adds to the variance."""
    trend, season = letters.split(",")[1:]
    alpha, beta, gamma, phi = 0.4, 0.1 * (trend != "N"), 0.25 * (season == "A"), 0.9 if trend == "Ad" else 1.0
    weights = {"alpha": alpha, "beta": beta, "gamma": gamma, "phi": phi}
    states = {"level": 50.0, "trend": 0.5, **{f"season{j + 1}": (-1.0) ** j * (3 - j) for j in range(4)}}
    named = [name for name in ("alpha", "beta", "gamma", "phi") if weights[name] not in (0.0, 1.0)]
    named += [
        "level",
        *(["trend"] if trend != "N" else []),
        *([f"season{j}" for j in range(1, 5)] if season == "A" else []),
    ]
    text = f"ets({letters}; {', '.join(f'{name}={({**weights, **states})[name]}' for name in named)})"

    def run(errors: Floats) -> Floats:
        level, slope, seasons = (
            50.0,
            0.5 * (trend != "N"),
            [states[f"season{j + 1}"] * (season == "A") for j in range(4)],
        )
        y = []
        for t, e in enumerate(errors.tolist()):
            y.append(level + phi * slope + seasons[t % 4] + e)
            level, slope = level + phi * slope + alpha * e, phi * slope + beta * e
            seasons[t % 4] += gamma * e
        return np.array(y)

    n, gaps = 30, [7, 12, 26, 27]
    rng = np.random.default_rng(5)
    noise = np.r_[rng.normal(0, 1, n), np.zeros(4)]
    added, together = np.zeros(4), np.zeros(4)
    for gap in gaps:
        errors = np.zeros(n + 4)
        errors[gap] = 1.0
        y = run(errors)
        seen = y[:n].copy()
        seen[gaps] = math.nan
        apart = y[n:] - fitted(text, seen, m=4).forecast[0]
        added += apart**2
        together += apart.cumsum() ** 2
    whole = run(noise)[:n]
    with_gaps = whole.copy()
    with_gaps[gaps] = math.nan
    full, part = fitted(text, whole, m=4), fitted(text, with_gaps, m=4)
    assert isinstance(full.distribution, Normal) and isinstance(part.distribution, Normal)
    np.testing.assert_allclose(
        part.distribution.each[0] / part.sigma2[0], full.distribution.each[0] / full.sigma2[0] + added, rtol=1e-9
    )
    np.testing.assert_allclose(
        part.distribution.together[0] / part.sigma2[0],
        full.distribution.together[0] / full.sigma2[0] + together,
        rtol=1e-9,
    )
    assert (added > 0.0).all()


def test_the_best_form_of_the_airline_totals_is_not_skipped() -> None:
    """The likelihood of M,A,M has a top where the season moves, AICc 1094.3, and a higher one where it stands still.
    The loose search of the form beside it, M,Ad,M at 1092.7, ends at the latter."""
    best = fitted("ets(best)", AIRLINE)
    assert str(best.forms[best.form_of[0]]) == "ets(M,A,M)"
    assert best.aicc[0] == pytest.approx(1083.82, abs=0.01)


@pytest.mark.parametrize("text", ["ets(A,Ad,A)", "ets(M,A,M)", "ets(best)"])
def test_scale_shift_and_order_go_through(text: str) -> None:
    rng = np.random.default_rng(8)
    y = np.array([plain.simulate(("A", "A", "A"), truth(("A", "A", "A"), 4), 4, 60, 3.0, rng) for _ in range(6)])
    fits, scaled = fitted(text, y, m=4), fitted(text, 1000.0 * y, m=4)
    np.testing.assert_allclose(scaled.forecast, 1000.0 * fits.forecast, rtol=1e-6)
    order = rng.permutation(6)
    permuted = fitted(text, y[order], m=4)
    assert (permuted.forecast == fits.forecast[order]).all()
    assert (fitted(text, y[2], m=4).forecast[0] == fits.forecast[2]).all()
    if text == "ets(A,Ad,A)":
        np.testing.assert_allclose(fitted(text, y + 5000.0, m=4).forecast, fits.forecast + 5000.0, rtol=1e-6)


def test_constants_done_in_a_sheet() -> None:
    y = np.array([10.0, 12.0, 11.0, 15.0, 14.0])
    # start=first: the first value is the level, and has no forecast
    first = fitted("ets(A,N,N; alpha=0.5, start=first)", y)
    np.testing.assert_allclose(first.residuals[0], [math.nan, 2.0, 0.0, 4.0, 1.0])
    assert first.forecast[0, 0] == 13.5
    # with a trend: the second value, and the step to it; then y3 is held against 12 + 2
    trend = fitted("ets(A,A,N; alpha=0.5, beta=0.25, start=first)", y)
    np.testing.assert_allclose(trend.residuals[0][:4], [math.nan, math.nan, 11 - 14, 15 - (12.5 + 1.25)])
    # the first season: level its mean, season the deviations from it
    season = fitted("ets(A,N,A; alpha=0.5, gamma=0.5, start=season)", y, m=2)
    np.testing.assert_allclose(season.residuals[0][:4], [math.nan, math.nan, 1.0, 15 - (11.5 + 1.0)])
    # tuned: no constant on a fine grid has a smaller mean absolute error
    rng = np.random.default_rng(9)
    z = 50 + rng.normal(0, 1, 80).cumsum() + rng.normal(0, 2, 80)
    tuned = fitted("ets(A,N,N; start=first, tune=MAE)", z)
    grid = [
        np.nanmean(np.abs(fitted(f"ets(A,N,N; alpha={a:.4f}, start=first)", z).residuals))
        for a in np.linspace(0, 1, 401)
    ]
    assert np.nanmean(np.abs(tuned.residuals)) <= min(grid) + 1e-9


def test_a_shared_season_is_the_groups_and_one_number_per_series() -> None:
    """Noisy members of a group with one sharp season: sharing it must beat 52 states and the seasonal naive."""
    rng = np.random.default_rng(10)
    n, h, series = 156, 26, 60
    timeline = Timeline("W", 2700, n, 52)
    t = np.arange(n + h)
    season = 1 + 0.9 * np.exp(-(((t % 52) - 20) ** 2) / 18.0) - 0.3 * np.cos(2 * np.pi * t / 52.18)
    y = rng.poisson(6.0 * season[None, :] * rng.uniform(0.7, 1.4, (series, 1))).astype(float)
    batch = Batch(y[:, :n], timeline)
    missed = {
        text: float(((fit(parse(text), batch, h).forecast - y[:, n:]) ** 2).mean() ** 0.5)
        for text in ("ets(A,N,N) + shared-season", "ets(A,N,A)", "seasonal-naive")
    }
    assert missed["ets(A,N,N) + shared-season"] < 0.9 * missed["ets(A,N,A)"]
    assert missed["ets(A,N,N) + shared-season"] < 0.9 * missed["seasonal-naive"]


def test_a_yearly_season_beside_the_week_needs_a_year_of_days() -> None:
    rng = np.random.default_rng(15)
    y = 50 + 10 * np.tile(np.arange(7.0), 80)[:500] / 7 + rng.normal(0, 1, 500)
    form = parse("ets(A,N,A) + harmonics(2)")
    short = fit(form, Batch(y[None, :300], Timeline("D", 20000, 300, 7)), 7)
    assert not short.defined[0] and "too few" in short.notes[0][0]
    assert fit(form, Batch(y[None], Timeline("D", 20000, 500, 7)), 7).defined[0]


def test_logarithms_correct_the_mean_and_keep_the_quantiles() -> None:
    rng = np.random.default_rng(13)
    y = np.exp(4 + 0.3 * rng.standard_normal(120))
    logs, plain_fit = fitted("log ets(A,N,N; alpha=0.1)", y), fitted("ets(A,N,N; alpha=0.1)", np.log(y))
    inner = normal(plain_fit)
    np.testing.assert_allclose(logs.forecast[0], np.exp(inner.mean[0] + inner.each[0] / 2), rtol=1e-12)
    assert logs.distribution is not None
    q = np.array([0.1, 0.9])
    np.testing.assert_allclose(logs.distribution.quantiles(q)[0], np.exp(inner.quantiles(q)[0]), rtol=1e-12)
    # sums of leads: log-normals added up, by brute force with what they have in common (alpha^2 sigma^2 a lead)
    e = math.sqrt(plain_fit.sigma2[0]) * rng.standard_normal((4, 200_000))
    x = inner.mean[0][:, None] + e
    for k in range(3):
        x[k + 1 :] += 0.1 * e[k]
    expected = np.quantile(np.exp(x).cumsum(axis=0), q, axis=1)
    np.testing.assert_allclose(logs.distribution.quantiles(q, together=True)[0], expected, rtol=0.03)
