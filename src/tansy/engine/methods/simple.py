"""Seasonal naive, naive, drift, mean and moving averages: what every other method has to beat."""

from __future__ import annotations

import numpy as np

from tansy.engine.kernels import simple as kernel
from tansy.engine.methods.distribution import Normal
from tansy.engine.methods.fits import Batch, Fits, note, too_few
from tansy.engine.methods.notation import BEST, Form

_KINDS = {
    "seasonal-naive": (kernel.SEASONAL_NAIVE, ()),
    "naive": (kernel.NAIVE, ()),
    "drift": (kernel.DRIFT, ("drift",)),
    "mean": (kernel.MEAN, ("mean",)),
    "moving-average": (kernel.MOVING_AVERAGE, ("window",)),
}
_PARAMETERS = {"drift": 2, "mean": 2}
_LONGEST_WINDOW = 26


def fit(form: Form, batch: Batch, horizon: int, bands: str = "none") -> Fits:
    """Fit a simple method. A season of one period makes the seasonal naive the naive method.

    The variances of `methods.md` hold the uncertainty of mean and drift already; parameters taken as known make no
    difference. The moving average's are those of the sum of its own weights' errors: see the kernel.
    """
    kind, names = _KINDS[form.family]
    n, length = batch.values.shape
    season_length = batch.timeline.season_length
    forecast, each, together = (np.empty((n, horizon)) for _ in range(3))
    residuals, parameters, statistics = np.empty((n, length)), np.empty((n, 1)), np.empty((n, 4))
    weights = np.array(form.weights or [1.0] * max(form.window, 1))
    windows = np.arange(1, min(_LONGEST_WINDOW, max(length - 2, 1)) + 1)
    windows = windows if form.window == BEST else np.array([len(weights)])
    kernel.fit_simple_batch(
        np.ascontiguousarray(batch.values), kind, season_length, weights / weights.sum(), windows,
        forecast, each, together, residuals, parameters, statistics,
    )  # fmt: skip
    loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
    notes = {i: too_few(batch.values[i]) for i in np.nonzero(np.isnan(forecast[:, 0]))[0].tolist()}
    note(notes, ~np.isnan(forecast[:, 0]) & np.isnan(each[:, 0]), "no bands: no past forecast to see its errors from")
    return Fits(
        forecast, residuals, parameters[:, : len(names)], names, loglik, sigma2, n_used, sum_squares,
        np.full(n, float(_PARAMETERS.get(form.family, 1))), (form,), np.zeros(n, dtype=np.int64),
        distribution=None if bands == "none" else Normal(forecast, each, together), notes=notes,
    )  # fmt: skip
