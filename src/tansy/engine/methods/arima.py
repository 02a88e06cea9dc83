"""ARIMA by exact Gaussian likelihood (`kernels/arima.py`)."""

from __future__ import annotations

import math

import numpy as np

from tansy.engine.kernels import arima as kernel
from tansy.engine.methods.distribution import Normal
from tansy.engine.methods.fits import Batch, Fits, Floats
from tansy.engine.methods.notation import Form
from tansy.engine.timeline import PERIODS_PER_YEAR


def fit(form: Form, batch: Batch, horizon: int, warm: Floats | None = None, bands: str = "none") -> Fits:
    """Fit a form to every series of a batch.

    warm: [series, free parameters], where the search of a shorter history ended. A series is fitted when it has two
    values more than the form has parameters, and a whole year more where it has harmonics.
    """
    assert form.orders is not None
    p, d, q = form.orders
    has_mean = d == 0 or "drift" in form.words
    # First partial autocorrelations, before tanh: a mild pattern, and a persistent one where both parts compete.
    grid = [(0.4, -0.2), (1.2, 0.6)] if p and q else [(0.4, 0.2)]
    starts = np.array([[ar, *[0.0] * (p - 1)][:p] + [ma, *[0.0] * (q - 1)][:q] for ar, ma in grid])
    starts = starts.reshape(len(grid), p + q)
    pairs = range(1, form.harmonics + 1)
    names = (
        *(f"ar{i}" for i in range(1, p + 1)), *(f"ma{i}" for i in range(1, q + 1)), "mean" if d == 0 else "drift",
        *(f"sin{k}" for k in pairs), *(f"cos{k}" for k in pairs),
    )  # fmt: skip
    k = p + q + int(has_mean) + 2 * form.harmonics + 1
    year = round(PERIODS_PER_YEAR[batch.timeline.frequency]) if form.harmonics else 2
    n, length = batch.values.shape
    n_free, n_names = p + q, len(names)
    forecast, psi_squared, psi_total = (np.empty((n, horizon)) for _ in range(3))
    residuals, parameters = np.empty((n, length)), np.empty((n, n_names))
    statistics, raw = np.empty((n, 4)), np.empty((n, n_free))
    with_uncertainty = bands == "estimated"
    rows = n if with_uncertainty else 0
    curvature, forecast_slopes = np.zeros((rows, n_free, n_free)), np.zeros((rows, horizon, n_free))
    parameter_slopes, linear_parameters = np.zeros((rows, n_names, n_free)), np.zeros((rows, n_names))
    linear, linear_total = np.zeros((rows, horizon)), np.zeros((rows, horizon))
    kernel.fit_batch(
        np.ascontiguousarray(batch.values), batch.timeline.harmonics(form.harmonics, horizon), (p, q), d, has_mean,
        starts, np.full((n, n_free), math.nan) if warm is None else np.ascontiguousarray(warm), k + max(year, 2),
        forecast, psi_squared, psi_total, residuals, parameters, raw, statistics,
        with_uncertainty, curvature, forecast_slopes, parameter_slopes, linear, linear_total, linear_parameters,
    )  # fmt: skip
    loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
    distribution, errors = None, None
    if bands == "known":
        distribution = Normal(forecast, psi_squared * sigma2[:, None], psi_total * sigma2[:, None])
    elif with_uncertainty:
        free = (sum_squares / np.maximum(n_used - k + 1.0, 1.0))[:, None]
        summed = np.cumsum(forecast_slopes, axis=1)
        distribution = Normal(
            forecast,
            free * (psi_squared + linear) + _through(forecast_slopes, curvature),
            free * (psi_total + linear_total) + _through(summed, curvature),
        )
        errors = np.sqrt(free * linear_parameters + _through(parameter_slopes, curvature))
    keep = np.array([has_mean or name not in ("mean", "drift") for name in names])
    return Fits(
        forecast, residuals, parameters[:, keep], tuple(np.array(names)[keep].tolist()), loglik, sigma2, n_used,
        sum_squares, np.full(n, float(k)), raw, (form,), np.zeros(n, dtype=np.int64),
        None if errors is None else errors[:, keep], distribution,
    )  # fmt: skip


def _through(slopes: Floats, curvature: Floats) -> Floats:
    """Variance of what moves by `slopes` [series, X, free] with the numbers searched: the delta method on the profile
    likelihood.

    With u what was searched and b what is linear given u, the inverse of the joint information splits into
    cov(b | u) and (db/du) cov(u) (db/du)', cov(u) being the inverse curvature of the profile (Davison 2003, section
    4.5). A direction in which the likelihood is flat moves the forecast by nothing and is left out.
    """
    if not curvature.shape[1]:
        return np.zeros(slopes.shape[:2])
    flat = 1e-5
    size, axes = np.linalg.eigh(curvature)
    inverse = np.where(size > flat, 1.0 / np.where(size > flat, size, 1.0), 0.0)
    through: Floats = ((slopes @ axes) ** 2 * inverse[:, None, :]).sum(axis=2)
    return through
