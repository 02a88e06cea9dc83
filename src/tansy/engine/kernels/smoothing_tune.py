"""Constants of smoothing with the least in-sample error, as they are tuned in a sheet: the first states are given."""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, KERNEL
from tansy.engine.kernels.smoothing import LEAST_SHARE, extent, follow, weights_from_shares

MEASURES = ("MSE", "MAE", "MAPE")
_FINEST_STEP = 1e-5


@njit(**BORROWING)
def _score(shares, y, has_trend, damped, season, m, fixed, states, measure, weights, seasonal, path):
    weights_from_shares(shares, fixed, has_trend, damped, season, weights)
    for j in range(m):
        seasonal[j] = states[2 + j]
    level, _ = follow(y, season, m, weights, states[0], states[1] if has_trend else 0.0, seasonal, path)
    if math.isnan(level):
        return math.inf
    total = 0.0
    for t in range(len(y)):
        if math.isnan(y[t]) or (measure == 2 and y[t] == 0.0):
            continue
        e = path[3, t]
        if measure == 0:
            total += e * e
        elif measure == 1:
            total += abs(e)
        else:
            total += abs(e / y[t])
    return total


@njit(**KERNEL)
def tune_batch(
    values, has_trend, damped, season, m, fixed, fixed_states, measure, grid, shares_found, weights_found, score
):
    """Search the weights of each row of `values` [series, T] for the least error of a measure (see MEASURES).

    fixed [4], fixed_states [series, 2 + m], all given. grid: [points, free] to begin from; then each share is stepped
    up and down, by halves when nothing gains (pattern search: Hooke, Jeeves 1961): absolute errors have no gradient.
    Written: shares_found [series, free], weights_found [series, 4], score [series], the sum over observed periods;
    NaN for a series without values.
    """
    free = grid.shape[1]
    shares_found[:] = math.nan
    weights_found[:] = math.nan
    score[:] = math.nan
    weights = np.zeros(4)
    seasonal = np.zeros(m)
    point = np.zeros(free)
    for s in range(len(values)):
        start, _, n_seen = extent(values[s])
        if n_seen == 0 or math.isnan(fixed_states[s, 0]):
            continue
        y = values[s, start:]
        path = np.empty((4, len(y)))
        least = math.inf
        for i in range(len(grid)):
            value = _score(
                grid[i], y, has_trend, damped, season, m, fixed, fixed_states[s], measure, weights, seasonal, path
            )
            if value < least or i == 0:
                least = value
                shares_found[s] = grid[i]
        step = 0.2
        while free > 0 and step > _FINEST_STEP:
            gained = False
            for i in range(free):
                for sign in range(2):
                    point[:] = shares_found[s]
                    moved = point[i] + (step if sign == 0 else -step)
                    point[i] = min(1.0 - LEAST_SHARE, max(LEAST_SHARE, moved))
                    value = _score(
                        point, y, has_trend, damped, season, m, fixed, fixed_states[s], measure, weights, seasonal, path
                    )
                    if value < least:
                        least = value
                        shares_found[s] = point
                        gained = True
            if not gained:
                step *= 0.5
        weights_from_shares(shares_found[s], fixed, has_trend, damped, season, weights)
        weights_found[s] = weights
        score[s] = least
