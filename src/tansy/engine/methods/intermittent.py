"""Croston, its bias-corrected variant (sba), and the one that updates the probability every period (tsb)."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from tansy.engine.kernels import intermittent as kernel
from tansy.engine.methods.distribution import N_PATHS, Chosen, Counts, Distribution, Simulated
from tansy.engine.methods.fits import Batch, Fits, Floats, Integers, note
from tansy.engine.methods.notation import Form

_KINDS = {"croston": kernel.CROSTON, "sba": kernel.SBA, "tsb": kernel.TSB}


def fit(form: Form, batch: Batch, horizon: int, warm: Floats | None = None, bands: str = "none") -> Fits:
    """Fit one of them; a series without any demand gets zeros.

    Bands are those of counts: negative binomial about the forecast where the values are whole numbers, else from the
    sizes and gaps of the past (each period of a path has a demand with the chance 1/interval, of a size of the past).
    """
    n, length = batch.values.shape
    level, residuals, parameters = np.empty(n), np.empty((n, length)), np.empty((n, 4))
    statistics, size = np.empty((n, 4)), np.empty(n)
    kernel.fit_intermittent_batch(
        np.ascontiguousarray(batch.values), _KINDS[form.family], form.given.get("alpha", math.nan),
        form.given.get("beta", form.given.get("alpha", math.nan)), bands != "none", level, residuals, parameters,
        statistics, size,
    )  # fmt: skip
    notes: dict[int, tuple[str, ...]] = {}
    seen = ~np.isnan(batch.values)
    some = np.asarray(seen.any(axis=1))
    without = np.isnan(level) & some
    level = np.where(without, 0.0, level)
    size = np.where(without, math.inf, size)
    note(notes, without, "no demand so far: forecast as zero")
    note(notes, ~some, "not fitted: 0 values are too few for this method")
    forecast = np.repeat(level[:, None], horizon, axis=1)
    loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
    names = ("alpha", "beta", "size", "probability" if form.family == "tsb" else "interval")
    return Fits(
        forecast, residuals, parameters, names, loglik, sigma2, n_used, sum_squares, np.zeros(n), np.empty((n, 0)),
        (form,), np.zeros(n, dtype=np.int64), notes=notes,
        distribution=None if bands == "none" else _distribution(form, batch, forecast, parameters, size),
    )  # fmt: skip


def _distribution(form: Form, batch: Batch, forecast: Floats, parameters: Floats, size: Floats) -> Distribution:
    n = len(forecast)
    whole = np.nonzero(~np.isnan(size))[0]
    rest = np.nonzero(np.isnan(size))[0]
    parts: list[tuple[Integers, Distribution]] = []
    if len(whole):
        parts.append((whole, Counts(forecast[whole], size[whole])))
    if len(rest):
        parts.append(
            (rest, Simulated(_SizesAndGaps(batch.values[rest], forecast[rest], parameters[rest], form.family)))
        )
    return parts[0][1] if len(parts) == 1 else Chosen(n, parts)


class _SizesAndGaps:
    """Paths with a demand at the chance of the fit, of a size drawn from the past and scaled to the smoothed size."""

    def __init__(self, values: Floats, forecast: Floats, parameters: Floats, family: str) -> None:
        chance = parameters[:, 3] if family == "tsb" else 1.0 / parameters[:, 3]
        self._chance, self._forecast = np.clip(chance, 0.0, 1.0), forecast
        demands = np.where(np.nan_to_num(values) != 0.0, values, math.nan)
        order = np.argsort(np.isnan(demands), axis=1, kind="stable")
        self._sizes = np.nan_to_num(np.take_along_axis(demands, order, axis=1))
        self._counts = (~np.isnan(demands)).sum(axis=1)

    def __call__(self, n_paths: int = N_PATHS) -> NDArray[np.float32]:
        rng = np.random.default_rng(20263)
        n, horizon = self._forecast.shape
        u = rng.random((2, horizon, n_paths))
        comes = u[0][None] < self._chance[:, None, None]
        at = (u[1][None] * self._counts[:, None, None]).astype(np.int64)
        drawn = np.take_along_axis(self._sizes, at.reshape(n, -1), axis=1).reshape(n, horizon, n_paths)
        usual = self._sizes.sum(axis=1) / np.maximum(self._counts, 1)
        expected = self._chance * usual
        scale = np.divide(self._forecast[:, :1], expected[:, None], out=np.ones((n, 1)), where=expected[:, None] > 0)
        return np.where(comes, drawn * scale[:, :, None], 0.0).astype(np.float32)
