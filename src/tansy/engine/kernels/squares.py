"""Squared errors of many series, [series, origins, H], NaN where there is none: over their leads and over themselves.

scale: [H], what squares at each lead are divided by.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import AS_WRITTEN, KERNEL


@njit(**KERNEL | AS_WRITTEN)
def mean_squares(z, scale, most, means, counts):
    """Mean of z^2 / scale of each series, none of them counting for more than most [series]; means: [series], NaN of
    nothing; counts: [series]."""
    n, n_origins, horizon = z.shape
    for i in range(n):
        total, count = 0.0, 0
        for o in range(n_origins):
            for h in range(horizon):
                square = z[i, o, h] * z[i, o, h] / scale[h]
                if not math.isnan(square):
                    total += min(square, most[i])
                    count += 1
        means[i] = total / count if count > 0 else math.nan
        counts[i] = count


@njit(**KERNEL | AS_WRITTEN)
def median_squares(z, scale, medians):
    """Median of z^2 / scale of each series, NaN of nothing."""
    n, n_origins, horizon = z.shape
    own = np.empty(n_origins * horizon)
    for i in range(n):
        count = 0
        for o in range(n_origins):
            for h in range(horizon):
                square = z[i, o, h] * z[i, o, h] / scale[h]
                if not math.isnan(square):
                    own[count] = square
                    count += 1
        medians[i] = np.median(own[:count]) if count > 0 else math.nan


@njit(**KERNEL | AS_WRITTEN)
def shares_by_lead(z, scale, unit, most, totals, counts):
    """Sums over series of z^2 / scale in units of each series' own, up to most, and how many there are, [H] each.
    Series whose unit is not above zero are left out."""
    n, n_origins, horizon = z.shape
    totals[:] = 0.0
    counts[:] = 0
    for i in range(n):
        if not unit[i] > 0.0:
            continue
        for o in range(n_origins):
            for h in range(horizon):
                share = z[i, o, h] * z[i, o, h] / scale[h] / unit[i]
                if not math.isnan(share):
                    totals[h] += min(share, most)
                    counts[h] += 1
