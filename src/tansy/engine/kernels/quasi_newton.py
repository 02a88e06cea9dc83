"""Minimising within a box by BFGS (Nocedal, Wright 2006, section 6.1), in reverse: the caller evaluates.

    search = new_search(lanes, n)
    begin(search, lane, False)
    while not advance(search, lane, points, value, gradient, low, high, longest, enough):
        value = ...  # and gradient, at the new points[lane]

so that one minimiser serves every kernel without function arguments, which Numba cannot cache. Searches in several
lanes may be under way at once. Everything is indexed by lane, because a view of a row costs more than the arithmetic.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, PART

_BEST, _LENGTH, _ITERATION, _TRIES, _TRUSTED, _PROMISED = range(6)
_SETTLED, _OPTIMISM, _OPTIMISM_TRUSTED = 3.0, 30.0, 20.0  # see `is_hopeless`
_MOST_ITERATIONS = 80
_MOST_TRIES = 14


class Search(NamedTuple):
    """Searches over n numbers, a row for each lane, and room that they share.

    best: point so far, gradient: there; inverse_hessian, direction, held, state: of each lane. free, step, change, z:
    shared.
    """

    best: Any
    gradient: Any
    inverse_hessian: Any
    direction: Any
    held: Any
    state: Any
    free: Any
    step: Any
    change: Any
    z: Any


@njit(**BORROWING)
def descend(search, lane, longest):
    """Write the quasi-Newton direction among what is not held, no component longer than `longest` [n].

    The inverse of the Hessian of the free part is not the free part of the inverse: what is held is eliminated from it.
    """
    gradient, inverse_hessian, direction, held = (
        search.gradient, search.inverse_hessian, search.direction, search.held,
    )  # fmt: skip
    free = search.free
    n = len(longest)
    for i in range(n):
        for j in range(n):
            free[i, j] = inverse_hessian[lane, i, j]
    for h in range(n):
        if held[lane, h]:
            pivot = 1.0 / free[h, h] if free[h, h] > 0.0 else 0.0
            for i in range(n):
                if i != h:
                    factor = free[i, h] * pivot
                    for j in range(n):
                        free[i, j] -= factor * free[h, j]
            for j in range(n):
                free[h, j] = 0.0
                free[j, h] = 0.0
    slope = 0.0
    for i in range(n):
        d = 0.0
        if not held[lane, i]:
            for j in range(n):  # what is held has a column of zeros
                d -= free[i, j] * gradient[lane, j]
        direction[lane, i] = d
        slope += d * gradient[lane, i]
    if not slope < 0.0:  # lost positive definiteness: start again from steepest descent
        for i in range(n):
            for j in range(n):
                inverse_hessian[lane, i, j] = 1.0 if i == j else 0.0
            direction[lane, i] = 0.0 if held[lane, i] else -gradient[lane, i]
    most = 1.0
    for i in range(n):
        most = max(most, abs(direction[lane, i]) / longest[i])
    if most > 1.0:
        for i in range(n):
            direction[lane, i] /= most


@njit(**BORROWING)
def learn_curvature(search, lane, first):
    """Update the inverse Hessian in place from the last step and the change of the gradient over it.

    first: scale the identity to the curvature along the step before.
    """
    inverse_hessian, step, change, z = search.inverse_hessian, search.step, search.change, search.z
    n = len(step)
    sy = 0.0
    yy = 0.0
    for i in range(n):
        sy += step[i] * change[i]
        yy += change[i] * change[i]
    if sy <= 1e-12 * yy or sy <= 0.0:
        return
    if first:
        for i in range(n):
            for j in range(n):
                inverse_hessian[lane, i, j] = sy / yy if i == j else 0.0
    # H <- (I - s y'/sy) H (I - y s'/sy) + s s'/sy, written with z = H y
    yz = 0.0
    for i in range(n):
        total = 0.0
        for j in range(n):
            total += inverse_hessian[lane, i, j] * change[j]
        z[i] = total
        yz += change[i] * total
    by_sy = 1.0 / sy
    both = (1.0 + yz * by_sy) * by_sy
    for i in range(n):
        of_step = both * step[i] - z[i] * by_sy
        of_z = step[i] * by_sy
        for j in range(n):
            inverse_hessian[lane, i, j] += of_step * step[j] - of_z * z[j]


@njit(**PART)
def new_search(lanes, n):
    """Room for searches over n numbers."""
    return Search(
        np.zeros((lanes, n)), np.zeros((lanes, n)), np.zeros((lanes, n, n)), np.zeros((lanes, n)),
        np.zeros((lanes, n), dtype=np.bool_), np.zeros((lanes, 6)), np.zeros((n, n)), np.zeros(n), np.zeros(n),
        np.zeros(n),
    )  # fmt: skip


@njit(**BORROWING)
def begin(search, lane, trusted):
    """Start anew. trusted: the inverse Hessian in `search` is a good one; else it becomes the identity."""
    inverse_hessian, state = search.inverse_hessian, search.state
    for i in range(6):
        state[lane, i] = 0.0
    state[lane, _BEST] = math.inf
    state[lane, _TRUSTED] = 1.0 if trusted else 0.0
    if not trusted:
        n = inverse_hessian.shape[1]
        for i in range(n):
            for j in range(n):
                inverse_hessian[lane, i, j] = 1.0 if i == j else 0.0


@njit(**BORROWING)
def least_value(search, lane):
    return search.state[lane, _BEST]


@njit(**BORROWING)
def take_best(search, lane, points):
    """Write the best point so far, for a search that is given up."""
    for i in range(points.shape[1]):
        points[lane, i] = search.best[lane, i]


@njit(**BORROWING)
def is_hopeless(search, lane, target):
    """Whether a search under way will not come below a target: many times what its quadratic model promises, once that
    has seen a few steps, does not lead there."""
    state = search.state
    optimism = _OPTIMISM_TRUSTED if state[lane, _TRUSTED] > 0.0 else _OPTIMISM
    return state[lane, _ITERATION] >= _SETTLED and state[lane, _BEST] - optimism * state[lane, _PROMISED] > target


@njit(**BORROWING)
def advance(search, lane, points, value, gradient, low, high, longest, enough):
    """Take in value and gradient at points[lane], and write the next point there; True when done.

    Done when the quadratic model promises less than `enough`, or no step gains. The point is then the best one.
    low, high, longest: [n], the box and the longest step in each direction.
    """
    best, best_gradient, inverse_hessian = search.best, search.gradient, search.inverse_hessian
    direction, held, state, step, change = search.direction, search.held, search.state, search.step, search.change
    n = len(gradient)
    first = math.isinf(state[lane, _BEST])
    if not first:
        slope = 0.0  # along the step as the box let it be
        for i in range(n):
            slope += best_gradient[lane, i] * (points[lane, i] - best[lane, i])
        if not value <= state[lane, _BEST] + 1e-4 * slope:
            state[lane, _TRIES] += 1.0
            if state[lane, _TRIES] > _MOST_TRIES or (-enough < slope <= 0.0 and math.isfinite(value)):
                for i in range(n):
                    points[lane, i] = best[lane, i]
                return True
            shrink = 0.2
            if math.isfinite(value) and slope < 0.0:  # else the box has turned the step uphill
                shrink = min(0.5, max(0.1, -0.5 * slope / (value - state[lane, _BEST] - slope)))
            state[lane, _LENGTH] *= shrink
            for i in range(n):
                points[lane, i] = min(high[i], max(low[i], best[lane, i] + state[lane, _LENGTH] * direction[lane, i]))
            return False
        for i in range(n):
            step[i] = points[lane, i] - best[lane, i]
            change[i] = gradient[i] - best_gradient[lane, i]
        learn_curvature(search, lane, state[lane, _ITERATION] == 0.0 and state[lane, _TRUSTED] == 0.0)
        state[lane, _ITERATION] += 1.0
    state[lane, _BEST] = value
    largest = 0.0
    for i in range(n):
        best[lane, i] = points[lane, i]
        best_gradient[lane, i] = gradient[i]
        held[lane, i] = (points[lane, i] <= low[i] and gradient[i] > 0.0) or (
            points[lane, i] >= high[i] and gradient[i] < 0.0
        )
        if not held[lane, i]:
            largest = max(largest, abs(gradient[i]))
    if n == 0 or not math.isfinite(value) or largest < 1e-9 or state[lane, _ITERATION] >= _MOST_ITERATIONS:
        return True
    if first and state[lane, _TRUSTED] == 0.0:
        for i in range(n):
            inverse_hessian[lane, i, i] = 0.3 * min(longest[i], 1.0) / largest
    descend(search, lane, longest)
    promised = 0.0
    for i in range(n):
        promised -= 0.5 * direction[lane, i] * gradient[i]
    state[lane, _PROMISED] = promised
    if promised < enough and (state[lane, _ITERATION] > 0.0 or state[lane, _TRUSTED] > 0.0):
        return True
    state[lane, _LENGTH] = 1.0
    state[lane, _TRIES] = 0.0
    for i in range(n):
        points[lane, i] = min(high[i], max(low[i], best[lane, i] + direction[lane, i]))
    return False
