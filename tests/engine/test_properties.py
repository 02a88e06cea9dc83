"""What must hold for every method, whatever the numbers: scale, shift, order, gaps, horizon, and the text it reads."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from tansy.engine.errors import NotationError, TansyError
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.form import Form
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.panel import Panel
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
LENGTH, LEADS, M = 72, 8, 6
TIMELINE = Timeline("M", 24000, LENGTH, M)
P = np.array([0.1, 0.5, 0.9])

# The last part says how a constant added to the series goes through.
METHODS = {
    "mean": "shift", "naive": "shift", "seasonal-naive": "shift", "drift": "shift", "moving-average(best)": "shift",
    "moving-average(3; weights=3/2/1)": "shift", "trend(linear)": "shift", "trend(quadratic)": "shift",
    "theta": "scale", "trend(linear; indices)": "scale", "ets(A,N,N)": "shift", "ets(A,Ad,N)": "shift",
    "ets(A,A,A)": "shift",
    "ets(M,N,M)": "scale", "ets(A,N,N; start=first, tune=MAE)": "shift", "ets(A,N,N) + harmonics(2)": "shift",
    "ets(A,N,N) + shared-season": "scale", "arima(1,0,1)": "shift", "arima(0,1,1)(0,1,1)6": "shift",
    "arima(2,1,0; drift)": "shift", "arima(best)": "shift", "arima(1,0,0) + x(price)": "shift",
    "regression(price, promotion)": "shift", "arima(1,0,0) + x(price) + slope-changes": "shift", "croston": "scale",
    "sba": "scale", "tsb": "scale", "log ets(A,N,N)": "scale", "log arima(1,0,0)": "scale",
    "ets(A,N,N) + pooled(promotion)": "scale",
}  # fmt: skip


def drivers(n: int) -> dict[str, Floats]:
    rng = np.random.default_rng(5)
    return {
        "price": np.round(rng.uniform(3.0, 5.0, (n, LENGTH + LEADS)), 2),
        "promotion": (rng.random((n, LENGTH + LEADS)) < 0.2).astype(float),
    }


def sold(n: int = 5) -> Batch:
    """Levels that wander, a season, a promotion; every value is a whole number above zero."""
    rng = np.random.default_rng(4)
    own = drivers(n)
    season = 12.0 * np.sin(2 * np.pi * np.arange(LENGTH) / M)
    y = 100 + rng.normal(0, 2, (n, LENGTH)).cumsum(axis=1) + season + rng.normal(0, 4, (n, LENGTH))
    return Batch(np.round(y + 15 * own["promotion"][:, :LENGTH]), TIMELINE, own)


def run(text: str, batch: Batch, leads: int = LEADS) -> Fits:
    fits = fit(parse(text), batch, leads, bands="estimated")
    assert fits.defined.all(), fits.notes
    return fits


def quantiles(fits: Fits) -> Floats:
    assert fits.distribution is not None
    return fits.distribution.quantiles(P)


@pytest.mark.parametrize("text", METHODS)
def test_another_unit_gives_the_same_forecast_in_that_unit(text: str) -> None:
    """Sold by the dozen: everything is a twelfth. Counts have whole numbers for bands in their own unit alone."""
    batch = sold()
    plain, dozens = run(text, batch), run(text, replace(batch, values=batch.values / 12.0))
    # a search ends within its tolerance of the same optimum; both scales of a search over orders end at one form
    assert [str(one) for one in dozens.forms] == [str(one) for one in plain.forms]
    np.testing.assert_allclose(12.0 * dozens.forecast, plain.forecast, rtol=2e-4)
    if text not in ("croston", "sba", "tsb"):
        noise = 0.03 if text == "ets(M,N,M)" else 2e-3  # its bands are read off paths from a chain of draws
        np.testing.assert_allclose(12.0 * quantiles(dozens), quantiles(plain), rtol=noise)


@pytest.mark.parametrize("text", [text for text, how in METHODS.items() if how == "shift"])
def test_a_constant_goes_through_what_is_additive(text: str) -> None:
    batch = sold()
    plain, lifted = run(text, batch), run(text, replace(batch, values=batch.values + 5000.0))
    np.testing.assert_allclose(lifted.forecast - 5000.0, plain.forecast, rtol=1e-3)
    np.testing.assert_allclose(quantiles(lifted) - 5000.0, quantiles(plain), rtol=5e-3)


@pytest.mark.parametrize("text", METHODS)
def test_the_order_of_series_changes_nothing_and_a_longer_look_ahead_neither(text: str) -> None:
    batch = sold()
    plain = run(text, batch)
    order = np.array([3, 0, 4, 2, 1])
    turned = run(text, batch.rows(order))
    if "pooled" in text:  # the group is summed in another order
        np.testing.assert_allclose(turned.forecast, plain.forecast[order], rtol=1e-6)
    else:
        np.testing.assert_array_equal(turned.forecast, plain.forecast[order])
        np.testing.assert_array_equal(turned.parameters, plain.parameters[order])
    shorter = run(text, batch, 3)
    np.testing.assert_allclose(shorter.forecast, plain.forecast[:, :3], rtol=1e-12)
    np.testing.assert_allclose(quantiles(shorter), quantiles(plain)[:, :, :3], rtol=1e-9)


@pytest.mark.parametrize("text", [text for text in METHODS if "start=" not in text and text != "arima(best)"])
def test_a_gap_is_no_value_and_what_came_before_the_first_sale_no_gap(text: str) -> None:
    """Residuals stand where values are, forecasts are finite, and leading gaps are a shorter series."""
    batch = sold(3)
    gappy = batch.values.copy()
    gappy[0, [20, 21, 40]] = np.nan
    gappy[1, ::9] = np.nan
    fits = run(text, replace(batch, values=gappy))
    assert np.isfinite(fits.forecast).all()
    assert (np.isnan(gappy) <= np.isnan(fits.residuals)).all()
    late = batch.values.copy()
    late[:, :24] = np.nan
    drivers_cut = {name: one[:, 24:] for name, one in batch.drivers.items()}
    cut = Batch(batch.values[:, 24:], Timeline("M", 24024, LENGTH - 24, M), drivers_cut)
    # a year of which half a period is missing may be averaged, so that a shared season starts a little sooner
    slack = 2e-3 if "shared-season" in text else 1e-5
    late_fits = run(text, replace(batch, values=late))
    np.testing.assert_allclose(late_fits.forecast, run(text, cut).forecast, rtol=slack)


@pytest.mark.parametrize("text", METHODS)
def test_nothing_is_seen_of_what_comes_after_an_origin(text: str) -> None:
    """A method is given the same, and so gives the same, when values after the origin move."""
    batch, form = sold(), parse(text)
    changed = batch.values.copy()
    changed[:, 60:] += 500.0
    found = []
    for values in (batch.values, changed):
        names = {"sku": [f"s{i}" for i in range(len(values))]}
        panel = Panel(TIMELINE, ("sku",), names, values, drivers=dict(batch.drivers))
        recipe = Recipe("seen", {}, (text,), origins=1, step=1, leads=4)
        known = prepare(panel, recipe).known(60)
        every = np.arange(len(known.values))
        found.append((known.keys(form), fit(form, known.batch(form, every), 4).forecast))
    for before, after in zip(*found, strict=True):
        np.testing.assert_array_equal(before, after)
    assert not np.isnan(found[0][1]).all()


# --- the text of a method

NUMBERS = st.floats(0.01, 0.95).map(lambda v: round(v, 3))


@st.composite
def smoothing_forms(draw: st.DrawFn) -> str:
    error, trend, season = (
        draw(st.sampled_from("AM")),
        draw(st.sampled_from(["N", "A", "Ad"])),
        draw(st.sampled_from("NAM")),
    )
    options = []
    if draw(st.booleans()):
        options.append(f"alpha={draw(NUMBERS)}")
    if trend == "Ad" and draw(st.booleans()):
        options.append(f"phi={draw(st.floats(0.8, 0.98).map(lambda v: round(v, 2)))}")
    inner = f"{error},{trend},{season}" + ("; " + ", ".join(options) if options else "")
    after = ""
    if season == "N" and error == "A":
        after = draw(st.sampled_from(["", " + harmonics(3)", " + harmonics(best)", " + shared-season"]))
    before = (
        draw(st.sampled_from(["", "log ", "boxcox(0.5) ", "boxcox(best) "])) if error == "A" and season != "M" else ""
    )
    if "shared" in after:
        before = ""
    return f"{before}ets({inner}){after}"


@st.composite
def arima_forms(draw: st.DrawFn) -> str:
    p, d, q = draw(st.tuples(st.integers(0, 3), st.integers(0, 1), st.integers(0, 3)))
    text = f"arima({p},{d},{q})"
    if draw(st.booleans()):
        seasonal = draw(st.tuples(st.integers(0, 2), st.integers(0, 1), st.integers(0, 2)))
        if any(seasonal):
            text += "({},{},{})12".format(*seasonal)
    terms = draw(
        st.lists(st.sampled_from(["harmonics(2)", "x(price, log promo)", "level-shift(2025-W10)"]), unique=True)
    )
    return text + "".join(f" + {term}" for term in sorted(terms, key=lambda t: "hxl".index(t[0])))


@settings(max_examples=150)
@given(st.one_of(smoothing_forms(), arima_forms()))
def test_a_form_is_written_as_it_is_read_with_any_spaces(text: str) -> None:
    form = parse(text)
    assert isinstance(form, Form)
    assert parse(str(form)) == form
    assert parse(f"  {text.replace(',', ' , ').replace('+', '  +  ')} ") == form


@settings(max_examples=300)
@given(st.text(alphabet="ets(A,N) arima=10.5+;xdMbgo-", max_size=25))
def test_any_text_is_a_method_or_is_refused_in_words(text: str) -> None:
    try:
        form = parse(text)
    except NotationError as error:
        assert len(str(error)) > 15 and str(error).endswith((".", ")", "?"))
        return
    assert parse(str(form)) == form


@pytest.mark.parametrize("n", [0, 1, 2, 3, 5, 9, 24])
@pytest.mark.parametrize("kind", ["constant", "zero", "growing", "huge", "negative", "tiny", "alternating"])
def test_series_of_any_size_and_sort_give_numbers_or_a_reason(n: int, kind: str) -> None:
    """Every method on every odd series: a finite forecast with ordered bands, or none and a note."""
    y = {
        "constant": np.full(n, 7.0), "zero": np.zeros(n), "growing": 1.5 ** np.arange(n),
        "negative": -np.arange(1.0, n + 1), "alternating": 2.0 + (-1.0) ** np.arange(n),
        "huge": np.r_[np.ones(max(n - 1, 0)), np.full(min(n, 1), 1e12)], "tiny": np.full(n, 1e-9) * np.arange(1, n + 1),
    }[kind]  # fmt: skip
    values = np.full((1, 24), math.nan)
    values[0, 24 - n :] = y
    own = {name: one[:1, : 24 + 3] for name, one in drivers(1).items()}
    batch = Batch(values, Timeline("M", 24000, 24, 4), own)
    more = ("ets(best)", "ets(M,Ad,M)", "boxcox(best) arima(1,0,0)", "arima(2,0,2)(1,0,1)6", "trend(exponential)")
    for text in (*METHODS, *more):
        text = text.replace(")6", ")4")
        try:
            fits = fit(parse(text), batch, 3, bands="estimated")
        except TansyError as error:
            assert len(str(error)) > 20, text
            continue
        if not fits.defined[0]:
            assert fits.notes.get(0), f"{text}: not fitted, and no word why"
            continue
        assert np.isfinite(fits.forecast[0]).all(), text
        assert fits.distribution is not None
        for of_sums in (False, True):
            found = fits.distribution.quantiles(P, of_sums)[0]
            if np.isnan(found).all():
                assert any("no bands" in one for one in fits.notes.get(0, ())), f"{text}: no bands, and no word why"
                continue
            assert np.isfinite(found).all() and (np.diff(found, axis=0) >= 0).all(), (text, of_sums)
