"""Least squares with a penalty on the absolute sum of the coefficients (Tibshirani 1996), for a batch of series.

Coordinate descent (Friedman, Hastie, Hoefling, Tibshirani 2007) from the normal matrix: a coefficient moves to what its
column says of what the others leave, drawn towards zero by the penalty, until none moves any more. From heavy penalties
to light ones, each starting where the one before it ended.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, KERNEL

_MOST_SWEEPS = 200
_STILL = 1e-6  # of the largest coefficient


@njit(**BORROWING)
def _descend(s, limit, coefficients, left):
    """Coefficients [J] at one penalty, in place; left [J]: what each column still says, r - s coefficients."""
    n = len(left)
    for _ in range(_MOST_SWEEPS):
        moved = 0.0
        largest = 0.0
        for j in range(n):
            own = max(s[j, j], 1e-12)
            pull = left[j] + s[j, j] * coefficients[j]
            fresh = math.copysign(max(abs(pull) - limit, 0.0) / own, pull)
            step = fresh - coefficients[j]
            if step != 0.0:
                coefficients[j] = fresh
                for i in range(n):
                    left[i] -= s[j, i] * step
            moved = max(moved, abs(step))
            largest = max(largest, abs(fresh))
        if moved <= _STILL * largest:
            return


@njit(**KERNEL)
def shrink_batch(s, r, total, count, independent, others, penalties, kept):
    """Coefficients [series, J] with the least BIC over the penalties, zero where none is worth it.

    s: [series, J, J], normal matrices. r: [series, J], the columns' products with the series. total: [series], its sum
    of squares. count, independent: [series], values, and how many of them count as independent. others: coefficients
    beside these. penalties: falling, as shares of the least one that leaves all at zero.
    """
    n_series, n = r.shape
    coefficients = np.zeros(n)
    left = np.zeros(n)
    for i in range(n_series):
        coefficients[:] = 0.0
        left[:] = r[i]
        kept[i] = 0.0
        best = math.inf
        largest = np.abs(r[i]).max()
        for penalty in penalties:
            _descend(s[i], penalty * largest, coefficients, left)
            used = 0
            squares = total[i]
            for j in range(n):
                used += 1 if coefficients[j] != 0.0 else 0
                squares -= coefficients[j] * (r[i, j] + left[j])  # c'r and c'sc, as s c = r - left
            rest = max(squares, 1e-9 * total[i]) / max(count[i], 1.0)
            criterion = independent[i] * math.log(rest) + used * math.log(max(independent[i], 2.0))
            if criterion < best - 1e-9 and count[i] > others + used + 5:
                best = criterion
                kept[i] = coefficients
