"""Minimising within a box by BFGS (Nocedal, Wright 2006, section 6.1), in reverse: the caller evaluates.

    search = new_search(n)
    begin(search)
    while not advance(search, point, value, gradient, low, high, longest, enough):
        value = ...  # and gradient, at the new point

so that one minimiser serves every kernel without function arguments, which Numba cannot cache.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import KERNEL

_BEST, _LENGTH, _ITERATION, _TRIES, _TRUSTED = range(5)
_MOST_ITERATIONS = 80
_MOST_TRIES = 14


@njit(**KERNEL)
def descend(inverse_hessian, gradient, held, direction, longest, free):
    """Write the quasi-Newton direction among what is not `held`, no component longer than `longest` [n].

    The inverse of the Hessian of the free part is not the free part of the inverse: what is held is eliminated from it,
    in `free` [n, n], scratch.
    """
    n = len(gradient)
    for i in range(n):
        for j in range(n):
            free[i, j] = inverse_hessian[i, j]
    for h in range(n):
        if held[h] and free[h, h] > 0.0:
            pivot = 1.0 / free[h, h]
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
        if not held[i]:
            for j in range(n):
                if not held[j]:
                    d -= free[i, j] * gradient[j]
        direction[i] = d
        slope += d * gradient[i]
    if not slope < 0.0:  # lost positive definiteness: start again from steepest descent
        for i in range(n):
            for j in range(n):
                inverse_hessian[i, j] = 1.0 if i == j else 0.0
            direction[i] = 0.0 if held[i] else -gradient[i]
    most = 1.0
    for i in range(n):
        most = max(most, abs(direction[i]) / longest[i])
    if most > 1.0:
        for i in range(n):
            direction[i] /= most


@njit(**KERNEL)
def learn_curvature(inverse_hessian, step, change, first, z):
    """Update the inverse Hessian in place from a step and the change of the gradient over it.

    first: scale the identity to the curvature along the step before. z: [n], scratch.
    """
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
                inverse_hessian[i, j] = sy / yy if i == j else 0.0
    # H <- (I - s y'/sy) H (I - y s'/sy) + s s'/sy, written with z = H y
    yz = 0.0
    for i in range(n):
        total = 0.0
        for j in range(n):
            total += inverse_hessian[i, j] * change[j]
        z[i] = total
        yz += change[i] * total
    for i in range(n):
        for j in range(n):
            inverse_hessian[i, j] += (1.0 + yz / sy) * step[i] * step[j] / sy - (z[i] * step[j] + step[i] * z[j]) / sy


@njit(**KERNEL)
def new_search(n):
    """Room for a search over n numbers: best point, its gradient, inverse Hessian, direction, held, state, scratch."""
    held = np.zeros(n, dtype=np.bool_)
    return np.zeros(n), np.zeros(n), np.eye(n), np.zeros(n), held, np.zeros(5), np.zeros((3 + n, n))


@njit(**KERNEL)
def begin(search, trusted):
    """Start anew. trusted: the inverse Hessian in `search` is a good one; else it becomes the identity."""
    inverse_hessian, state = search[2], search[5]
    state[:] = 0.0
    state[_BEST] = math.inf
    state[_TRUSTED] = 1.0 if trusted else 0.0
    if not trusted:
        for i in range(len(inverse_hessian)):
            for j in range(len(inverse_hessian)):
                inverse_hessian[i, j] = 1.0 if i == j else 0.0


@njit(**KERNEL)
def least_value(search):
    return search[5][_BEST]


@njit(**KERNEL)
def advance(search, point, value, gradient, low, high, longest, enough):
    """Take in value and gradient at `point`, and write the next point to evaluate; True when done.

    Done when the quadratic model promises less than `enough`, or no step gains. `point` is then the best one.
    low, high, longest: [n], the box and the longest step in each direction.
    """
    best, best_gradient, inverse_hessian, direction, held, state, scratch = search
    n = len(point)
    first = math.isinf(state[_BEST])
    if not first:
        slope = 0.0  # along the step as the box let it be
        for i in range(n):
            slope += best_gradient[i] * (point[i] - best[i])
        if not value <= state[_BEST] + 1e-4 * slope:
            state[_TRIES] += 1.0
            if state[_TRIES] > _MOST_TRIES or (-enough < slope <= 0.0 and math.isfinite(value)):
                for i in range(n):
                    point[i] = best[i]
                return True
            shrink = 0.2
            if math.isfinite(value) and slope < 0.0:  # else the box has turned the step uphill
                shrink = min(0.5, max(0.1, -0.5 * slope / (value - state[_BEST] - slope)))
            state[_LENGTH] *= shrink
            for i in range(n):
                point[i] = min(high[i], max(low[i], best[i] + state[_LENGTH] * direction[i]))
            return False
        step = scratch[0]
        change = scratch[1]
        for i in range(n):
            step[i] = point[i] - best[i]
            change[i] = gradient[i] - best_gradient[i]
        learn_curvature(inverse_hessian, step, change, state[_ITERATION] == 0.0 and state[_TRUSTED] == 0.0, scratch[2])
        state[_ITERATION] += 1.0
    state[_BEST] = value
    largest = 0.0
    for i in range(n):
        best[i] = point[i]
        best_gradient[i] = gradient[i]
        held[i] = (point[i] <= low[i] and gradient[i] > 0.0) or (point[i] >= high[i] and gradient[i] < 0.0)
        if not held[i]:
            largest = max(largest, abs(gradient[i]))
    if n == 0 or not math.isfinite(value) or largest < 1e-9 or state[_ITERATION] >= _MOST_ITERATIONS:
        return True
    if first and state[_TRUSTED] == 0.0:
        for i in range(n):
            inverse_hessian[i, i] = 0.3 * min(longest[i], 1.0) / largest
    descend(inverse_hessian, gradient, held, direction, longest, scratch[3:])
    promised = 0.0
    for i in range(n):
        promised -= 0.5 * direction[i] * gradient[i]
    if promised < enough and (state[_ITERATION] > 0.0 or state[_TRUSTED] > 0.0):
        return True
    state[_LENGTH] = 1.0
    state[_TRIES] = 0.0
    for i in range(n):
        point[i] = min(high[i], max(low[i], best[i] + direction[i]))
    return False
