"""Seasonal naive, naive, drift and mean: what every other method has to beat."""

from __future__ import annotations

import numpy as np

from tansy.engine.kernels import simple as kernel
from tansy.engine.methods.fits import Batch, Fits, Floats
from tansy.engine.methods.notation import Form

_KINDS = {
    "seasonal-naive": (kernel.SEASONAL_NAIVE, (), 1),
    "naive": (kernel.NAIVE, (), 1),
    "drift": (kernel.DRIFT, ("drift",), 2),
    "mean": (kernel.MEAN, ("mean",), 2),
}


def fit(form: Form, batch: Batch, horizon: int, warm: Floats | None = None, uncertainty: bool = False) -> Fits:
    """Fit a simple method. A season of one period makes the seasonal naive the naive method.

    The variances of `methods.md` hold the uncertainty of mean and drift already, so `uncertainty` changes nothing.
    """
    kind, names, n_parameters = _KINDS[form.family]
    n, length = batch.values.shape
    forecast, variance = np.empty((n, horizon)), np.empty((n, horizon))
    residuals, parameters, statistics = np.empty((n, length)), np.empty((n, 1)), np.empty((n, 4))
    kernel.fit_simple_batch(
        np.ascontiguousarray(batch.values), kind, batch.timeline.season_length,
        forecast, variance, residuals, parameters, statistics,
    )  # fmt: skip
    return Fits(
        forecast, variance, residuals, parameters[:, : len(names)], names, statistics[:, 0], statistics[:, 1],
        statistics[:, 2], statistics[:, 3], n_parameters, np.empty((n, 0)),
    )  # fmt: skip
