"""Weighted means of many series at many points, each series for itself."""

import math

from numba import njit

from tansy.engine.kernels.options import AS_WRITTEN, KERNEL


@njit(**KERNEL | AS_WRITTEN)
def weighted_means(values, weights, means):
    """means [series, points] of values [series, T], NaN missing, with weights [points, T] that are not below zero; NaN
    where nothing weighs. A product of matrices would sum in another order beside other series."""
    n, length = values.shape
    for i in range(n):
        for j in range(len(weights)):
            total, weight = 0.0, 0.0
            for t in range(length):
                w = weights[j, t]
                if w > 0.0 and not math.isnan(values[i, t]):
                    total += w * values[i, t]
                    weight += w
            means[i, j] = total / weight if weight > 1e-9 else math.nan
