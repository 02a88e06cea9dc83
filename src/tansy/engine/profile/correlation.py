"""Correlation of a series with its own past, and what can be told from noise."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.special import gammaincc, ndtri

Floats = NDArray[np.float64]

NOISE_95 = 1.959963984540054
"""Standard errors within which 19 of 20 autocorrelations of noise lie; one is 1 / sqrt(n)."""


def autocorrelations(x: Floats, lags: int) -> Floats:
    """r_1 .. r_lags of a series [n], NaN missing (Box, Jenkins 1976, section 2.1.5): sums over the pairs that are both
    known, over the sum of squares about the mean. Zero where the series does not vary."""
    known = ~np.isnan(x)
    n = len(x)
    if not known.any():
        return np.zeros(lags)
    z = np.where(known, x - x[known].mean(), 0.0)
    total = float(z @ z)
    if not total > 1e-14 * (float(np.abs(x[known]).max()) ** 2 + 1e-300):
        return np.zeros(lags)
    return np.array([float(z[k:] @ z[: n - k]) / total if k < n else 0.0 for k in range(1, lags + 1)])


def partial_autocorrelations(r: Floats) -> Floats:
    """From autocorrelations r_1, r_2, ... by the recursion of Levinson and Durbin (Durbin 1960)."""
    found = np.zeros(len(r))
    phi = np.zeros(0)
    for k in range(len(r)):
        left = 1.0 - float(phi @ r[:k])
        if left <= 1e-12:
            break
        partial = (r[k] - float(phi @ r[:k][::-1])) / left
        phi = np.append(phi - partial * phi[::-1], partial)
        found[k] = partial
    return found


def ljung_box(r: Floats, n: int, fitted: int) -> tuple[Floats, Floats]:
    """Statistic and p-value for lags 1..h together, h = 1, 2, ... (Ljung, Box 1978), [lags] each.

    fitted: coefficients that took part of the correlation away; p is NaN where they leave no degree of freedom.
    """
    lags = np.arange(1, len(r) + 1)
    q = n * (n + 2.0) * np.cumsum(r**2 / np.maximum(n - lags, 1))
    freedom = lags - fitted
    p = np.where(freedom > 0, gammaincc(np.maximum(freedom, 1) / 2.0, q / 2.0), np.nan)
    return q, p


def normal_quantiles(n: int) -> Floats:
    """Where n sorted draws from a standard normal are expected, [n] (Blom 1958)."""
    found: Floats = ndtri((np.arange(1, n + 1) - 0.375) / (n + 0.25))
    return found


def shape(x: Floats) -> tuple[float, float, float]:
    """Skewness, excess kurtosis, and the p-value of both together under the normal (Jarque, Bera 1980)."""
    x = x[~np.isnan(x)]
    n = len(x)
    if n < 8 or not x.std() > 0.0:
        return 0.0, 0.0, 1.0
    z = (x - x.mean()) / x.std()
    skew, excess = float((z**3).mean()), float((z**4).mean() - 3.0)
    return skew, excess, float(np.exp(-0.5 * n * (skew**2 / 6.0 + excess**2 / 24.0)))
