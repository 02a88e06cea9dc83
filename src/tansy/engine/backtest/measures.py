"""Error measures of `methods.md`, over any axes. e = actual - forecast; NaN cells are left out of every measure."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def mean_square_step(values: Floats, lag: int = 1) -> Floats:
    """Scale of RMSSE: in-sample mean (y_t - y_{t-1})^2 from the first non-zero value, [series] of [series, periods].

    NaN where a series has no two neighbouring values.
    """
    started = np.cumsum(np.nan_to_num(values) != 0.0, axis=1) > 0
    y = np.where(started, values, np.nan)
    return nan_mean((y[:, lag:] - y[:, :-lag]) ** 2, axis=1)


def mean_absolute_season_step(values: Floats, m: int) -> Floats:
    """Scale of MASE: in-sample mean abs(y_t - y_{t-m}), [series]; NaN where T <= m."""
    if values.shape[1] <= m:
        return np.full(len(values), np.nan)
    return nan_mean(np.abs(values[:, m:] - values[:, :-m]), axis=1)


def nan_mean(values: Floats, axis: int | tuple[int, ...] | None = None) -> Floats:
    """Mean over what is not NaN; NaN, without a warning, where nothing is left."""
    seen = ~np.isnan(values)
    count = seen.sum(axis=axis)
    total = np.where(seen, values, 0.0).sum(axis=axis)
    return np.divide(total, count, out=np.full(np.shape(total), np.nan), where=count > 0)


def share(part: Floats, whole: Floats) -> Floats:
    """100 part / whole, NaN where the whole is not positive."""
    part, whole = np.asarray(part, dtype=float), np.asarray(whole, dtype=float)
    return np.divide(100.0 * part, whole, out=np.full(np.broadcast(part, whole).shape, np.nan), where=whole > 0)


def wape(errors: Floats, actuals: Floats, axis: int | tuple[int, ...] | None = None) -> Floats:
    """100 sum abs(e) / sum abs(actual), over the cells where there is an error."""
    seen = ~np.isnan(errors)
    return share(
        np.where(seen, np.abs(errors), 0.0).sum(axis=axis),
        np.where(seen, np.abs(actuals), 0.0).sum(axis=axis),
    )


def gain(measure: Floats, benchmark: Floats) -> Floats:
    """100 (1 - measure / benchmark), NaN where the benchmark is not positive."""
    return 100.0 - share(measure, benchmark)


def pinball(actuals: Floats, quantile: Floats, probability: float) -> Floats:
    """q e if e >= 0 else (q - 1) e, per cell."""
    e = actuals - quantile
    return np.where(e >= 0.0, probability * e, (probability - 1.0) * e)


def interval_score(actuals: Floats, low: Floats, high: Floats, level: float) -> Floats:
    """(high - low) + 2/a (low - actual)+ + 2/a (actual - high)+ with a = 1 - level (a share), per cell."""
    a = 1.0 - level
    return (high - low) + 2.0 / a * (np.maximum(low - actuals, 0.0) + np.maximum(actuals - high, 0.0))
