"""One fit under the glass: coefficients with their tests, roots, what is left in the residuals, and a judgement."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tansy.engine.methods.arima import Arima
from tansy.engine.methods.fits import Fits, Floats
from tansy.engine.methods.form import Form
from tansy.engine.methods.inference import (
    WEAK,
    Coefficient,
    Roots,
    coefficients,
    correlations,
    errors_on_scale,
    roots,
)
from tansy.engine.methods.regression import Regression
from tansy.engine.profile.correlation import (
    NOISE_95,
    autocorrelations,
    ljung_box,
    normal_quantiles,
    partial_autocorrelations,
    shape,
)

_FAR = 4.0  # standard deviations of an error that is pointed out
_NEAR_CIRCLE = 0.97
_NEAR_EDGE = 0.8  # of a coefficient: from there on the likelihood is no parabola
_NOT_JUDGED = ("mean", "constant")
_SURE = 1.3  # times the 95 % band: an autocorrelation that is named (p about 0.01)


@dataclass(frozen=True)
class Diagnosis:
    """Of one series. errors: [T], one-step errors on the scale of the method, over their standard deviation, NaN where
    there is none. acf, pacf: of them, lags 1, 2, ...; noise: within which 19 of 20 of noise lie. box, box_p: Ljung-Box
    over lags 1..h. expected, sorted_errors: normal quantiles against errors. estimated, correlation: of the estimates.
    judgement: sentences, the most important first."""

    coefficients: list[Coefficient]
    estimated: list[str]
    correlation: Floats
    roots: Roots
    errors: Floats
    acf: Floats
    pacf: Floats
    noise: float
    box: Floats
    box_p: Floats
    expected: Floats
    sorted_errors: Floats
    judgement: list[str]


def diagnose(values: Floats, fits: Fits, m: int, labels: list[str]) -> Diagnosis:
    """values: [T], of the one series that was fitted; m: season length, 1 without a season; labels: of the periods."""
    form = fits.form(0)
    errors = _standardised(values, fits)
    seen = errors[~np.isnan(errors)]
    n = len(seen)
    lags = max(1, min(max(24, m + m // 4), n // 2 - 1)) if n > 3 else 1
    r = autocorrelations(errors, lags)
    noise = NOISE_95 / np.sqrt(max(n, 1))
    q, p = ljung_box(r, n, form.memory)
    found = coefficients(fits, 0)
    names, correlation = correlations(fits, 0)
    of_form = roots(form, fits.named_parameters(0)) if form.orders else _no_roots()
    judgement = [
        *_of_lags(r, noise, m, form),
        *_of_box(p, m),
        *_of_roots(of_form, form),
        *(_of_coefficients(found) if isinstance(form, Arima | Regression) else []),
        *_of_errors(values, errors, fits, labels),
    ]
    return Diagnosis(
        found, names, correlation, of_form, errors, r, partial_autocorrelations(r), float(noise), q, p,
        normal_quantiles(n), np.sort(seen), judgement,
    )  # fmt: skip


def _no_roots() -> Roots:
    return Roots(np.empty(0, np.complex128), np.empty(0, np.complex128))


def _standardised(values: Floats, fits: Fits) -> Floats:
    """Errors on the scale of the method over their standard deviation."""
    errors = errors_on_scale(values, fits)
    spread = float(np.sqrt(np.nanmean(errors**2))) if np.isfinite(errors).any() else 0.0
    return errors / spread if spread > 0.0 else np.where(np.isnan(errors), np.nan, 0.0)


def _of_lags(r: Floats, noise: float, m: int, form: Form) -> list[str]:
    says = []
    if 1 < m <= len(r) and abs(r[m - 1]) > _SURE * noise:
        seasonal = form.has_season or form.harmonics
        advice = "the season is not all caught: one more seasonal term, or other harmonics" if seasonal else (
            "try a seasonal term or harmonics"
        )  # fmt: skip
        says.append(f"Lag {m} still holds structure (r = {r[m - 1]:.2f}): {advice}.")
    near = [k for k in range(1, min(4, len(r) + 1)) if abs(r[k - 1]) > _SURE * noise]
    if near:
        k = max(near, key=lambda k: abs(r[k - 1]))
        advice = (
            "one more AR or MA term" if isinstance(form, Arima) else "a method with more memory, such as arima(best)"
        )
        says.append(f"Lag {k} still holds structure (r = {r[k - 1]:.2f}): try {advice}.")
    return says


def _of_box(p: Floats, m: int) -> list[str]:
    """The verdict over the lags that matter: two seasons' worth where there are as many, else ten."""
    usual = min(len(p), m + m // 4 if m > 1 else 10)
    tested = [h for h in range(usual, 0, -1) if not np.isnan(p[h - 1])]
    if not tested:
        return []
    h = tested[0]
    chance = p[h - 1]
    written = f"p = {chance:.2f}" if chance >= 0.005 else "p < 0.005"
    if chance < WEAK:
        return [f"Lags 1 to {h} together are not noise (Ljung-Box, {written})."]
    return [f"Lags 1 to {h} together look like noise (Ljung-Box, {written})."]


def _of_roots(found: Roots, form: Form) -> list[str]:
    says = []
    if len(found.phi) and np.abs(found.phi).max() > _NEAR_CIRCLE:
        farthest = np.abs(found.phi).max()
        own = np.abs(found.phi[: form.orders[0] if form.orders else 0]).max(initial=0.0)
        advice = "one more difference" if own >= farthest else f"one difference at lag {form.period}"
        says.append(f"A root of phi lies at {farthest:.2f}, next to the unit circle: {advice} may say it better.")
    q = form.orders[2] if form.orders else 0
    differenced = bool(form.orders and form.orders[1])
    if differenced and q and np.abs(found.theta[:q]).max(initial=0.0) > _NEAR_CIRCLE:
        says.append("A root of theta lies next to the unit circle: there may be one difference too many.")
    if len(found.phi) and len(found.theta):
        gap = np.abs(found.phi[:, None] - found.theta[None, :]).min()
        if gap < 0.05:
            says.append("A root of phi and one of theta all but cancel: one AR and one MA term less may do.")
    return says


def _of_coefficients(found: list[Coefficient]) -> list[str]:
    says = []
    tested = [
        c for c in found if c.p is not None and c.name not in _NOT_JUDGED and not c.name.startswith(("sin", "cos"))
    ]
    edge = [c.name for c in tested if c.name.lstrip("s").startswith(("ma", "ar")) and abs(c.value) > _NEAR_EDGE]
    weak = [c for c in tested if (c.p or 0.0) > WEAK and c.name not in edge]
    if weak:
        listed = ", ".join(f"{c.name} (p = {c.p:.2f})" for c in weak)
        advice = "leave out one at a time" if len(weak) > 1 else "try it without"
        says.append(f"Weak: {listed}. What is weak may as well be zero: {advice}.")
    unsure = [c.name for c in tested if c.name in edge and (c.p or 0.0) > WEAK]
    if unsure:
        says.append(f"{', '.join(unsure)} lies near the edge of what can be, where a standard error says little.")
    return says


def _of_errors(values: Floats, errors: Floats, fits: Fits, labels: list[str]) -> list[str]:
    says = []
    size = np.abs(np.nan_to_num(errors))
    if len(size) and size.max() > _FAR:
        at = int(np.argmax(size))
        says.append(f"The error of {labels[at]} is {errors[at]:+.1f} standard deviations: look at that period.")
    form = fits.form(0)
    seen = ~np.isnan(errors)
    fitted = values[seen] - fits.residuals[0][seen]
    if seen.sum() >= 20 and not form.transformed and not (form.letters and form.letters[0] == "M"):
        ranks = np.argsort(np.argsort(fitted)), np.argsort(np.argsort(np.abs(errors[seen])))
        together = float(np.asarray(np.corrcoef(np.stack(ranks))).item(1))
        if together > 2.6 / np.sqrt(seen.sum()):
            says.append("Errors grow with the level: try it on logarithms, or with boxcox(best).")
    skew, excess, p = shape(errors)
    if p < 0.01 and abs(skew) > 0.5:
        side = "above" if skew > 0 else "below"
        says.append(f"Errors have a long tail {side} (skewness {skew:.1f}): normal bands are too narrow there.")
    elif p < 0.01 and excess > 1.0:
        says.append(f"Errors have heavy tails (excess kurtosis {excess:.1f}): normal bands miss far ones.")
    return says
