"""What can be said about estimates: their tests, and the roots of ARIMA polynomials."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtr, stdtr

from tansy.engine.methods.fits import Fits, Floats
from tansy.engine.methods.form import Form
from tansy.engine.methods.transforms import transformed

WEAK = 0.05
"""p-value above which a coefficient is called weak: it may as well be zero."""


@dataclass(frozen=True)
class Coefficient:
    """One estimate. error, z and p are None where it was given by hand; z is Student's t where tests are Student's."""

    name: str
    value: float
    error: float | None
    z: float | None
    p: float | None


def coefficients(fits: Fits, series: int) -> list[Coefficient]:
    """Every parameter of one series with the test that it is zero."""
    errors = fits.named_errors(series)
    found = []
    for name, value in fits.named_parameters(series).items():
        error = errors.get(name)
        if error is None:
            found.append(Coefficient(name, value, None, None, None))
            continue
        z = value / error
        freedom = None if fits.freedom is None else float(fits.freedom[series])
        tail = float(ndtr(-abs(z)) if freedom is None else stdtr(freedom, -abs(z)))
        found.append(Coefficient(name, value, error, z, 2.0 * tail))
    return found


def correlations(fits: Fits, series: int) -> tuple[list[str], Floats]:
    """Names of what was estimated for one series, and the correlation of the estimates [k, k]."""
    if fits.covariance is None:
        return [], np.empty((0, 0))
    covariance = fits.covariance[series]
    spread = np.sqrt(np.maximum(np.diagonal(covariance), 0.0))
    at = np.nonzero((spread > 0.0) & np.isfinite(fits.parameters[series]))[0]
    found = covariance[np.ix_(at, at)] / np.outer(spread[at], spread[at])
    return [fits.parameter_names[i] for i in at], found


def errors_on_scale(values: Floats, fits: Fits) -> Floats:
    """One-step errors [T] of the one series that was fitted, on the scale where the method takes them for alike:
    transformed, or in proportion to the forecast where errors are multiplicative."""
    form, errors = fits.form(0), fits.residuals[0]
    fitted = values - errors
    known = ~np.isnan(errors)
    if form.transformed:
        power = np.array([form.power or 0.0])
        own, forecast = np.where(known, values, 1.0), np.where(known, fitted, 1.0)
        return np.where(known, transformed(own, power) - transformed(forecast, power), np.nan)
    if form.letters and form.letters[0] == "M":
        return np.divide(errors, fitted, out=np.full_like(errors, np.nan), where=np.nan_to_num(fitted) != 0.0)
    return errors


@dataclass(frozen=True)
class Roots:
    """Reciprocal roots of phi(B) Phi(B^m) and of theta(B) Theta(B^m): inside the unit circle where a model is
    stationary and invertible."""

    phi: NDArray[np.complex128]
    theta: NDArray[np.complex128]


def roots(form: Form, parameters: dict[str, float]) -> Roots:
    """Of an ARIMA form with these coefficients; those of a seasonal factor are the m-th roots of the roots in B^m."""
    found = []
    for names, sign in ((("ar", "sar"), 1.0), (("ma", "sma"), -1.0)):
        own = _reciprocal(names[0], sign, parameters)
        seasonal = _reciprocal(names[1], sign, parameters)
        m = max(form.period, 1)
        turns = np.exp(2j * np.pi * np.arange(m) / m)
        found.append(np.concatenate([own, (seasonal[:, None] ** (1.0 / m) * turns).ravel()]))
    return Roots(*found)


def _reciprocal(name: str, sign: float, parameters: dict[str, float]) -> NDArray[np.complex128]:
    """Zeros of z^n - sign (c_1 z^(n-1) + ... + c_n)."""
    numbers = [int(key[len(name) :]) for key in parameters if key.rstrip("0123456789") == name]
    polynomial = np.zeros(max(numbers, default=0) + 1)
    polynomial[0] = 1.0
    for i in numbers:
        polynomial[i] = -sign * parameters[f"{name}{i}"]
    return np.roots(polynomial).astype(np.complex128)
