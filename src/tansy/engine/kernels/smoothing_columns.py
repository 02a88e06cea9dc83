"""Least squares for what errors of smoothing are linear in: first states, a season's states, regressors.

A season's m columns are time shifts of one impulse response c, as long as no value is missing: state j of the season is
the same as a periodic impulse fed at j, j + m, ... So one pass of the recursion gives them all, and their normal matrix
follows from its first row,

    G[j+1, k+1] = G[j, k] - c[n-1-j] c[n-1-k].

The level's column is the sum of them; it is left out, and the season re-centred afterwards. With missing values, states
given by hand or other regressors, every column is run through the recursion.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.least_squares import (
    back_substitute,
    cholesky,
    copy_into,
    dots,
    less,
    normal_matrix_of_columns,
)
from tansy.engine.kernels.options import BORROWING, PART
from tansy.engine.kernels.smoothing import ADDITIVE, follow_columns, states_from


class Room(NamedTuple):
    """Room for the general case, see `room_of`: states of every column, their errors, and the normal matrix."""

    level: Any
    trend: Any
    season: Any
    errors: Any
    gram: Any
    dropped: Any
    solution: Any


@njit(**BORROWING)
def response_columns(y, m, weights, has_trend, season, columns):
    """Errors of one unit of level (or of the season's first state), of the trend, and of the series itself.

    columns: [3, n]. season: [3, m], scratch.
    """
    alpha, beta, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    l0 = 0.0 if m > 0 else -1.0
    l1 = l2 = b0 = b2 = 0.0
    b1 = -1.0
    if m > 0:
        season[:] = 0.0
        season[0, 0] = -1.0
    j = 0
    for t in range(len(y)):
        s0 = season[0, j] if m > 0 else 0.0
        s2 = season[2, j] if m > 0 else 0.0
        d0 = phi * b0
        d2 = phi * b2
        q0 = l0 + d0
        q2 = l2 + d2
        e0 = -q0 - s0
        e2 = y[t] - q2 - s2
        columns[0, t] = e0
        columns[2, t] = e2
        l0 = (1.0 - alpha) * q0 - alpha * s0
        l2 = (1.0 - alpha) * q2 + alpha * (y[t] - s2)
        b0 = d0 + beta * e0
        b2 = d2 + beta * e2
        if m > 0:
            season[0, j] = s0 + gamma * e0
            season[2, j] = s2 + gamma * e2
        if has_trend:
            s1 = season[1, j] if m > 0 else 0.0
            d1 = phi * b1
            q1 = l1 + d1
            e1 = -q1 - s1
            columns[1, t] = e1
            l1 = (1.0 - alpha) * q1 - alpha * s1
            b1 = d1 + beta * e1
            if m > 0:
                season[1, j] = s1 + gamma * e1
        j += 1
        if j >= m:
            j = 0


@njit(**BORROWING)
def _turn(a, u, x, row, cosine, sine, ratio, left):
    """One step of `_factor_shifted`: rotate x into u, then u hyperbolically into a, which is written to `row`."""
    inverse = 1.0 / left
    for i in range(len(row)):
        turned = cosine * u[i] + sine * x[i]
        x[i] = cosine * x[i] - sine * u[i]
        first = (a[i] - ratio * turned) * inverse
        row[i] = first
        u[i] = left * turned - ratio * first


@njit(**BORROWING)
def _factor_shifted(c, n, generators, upper):
    """Factor G = U' U of the normal matrix of the shifts c[t - j]; False where it is singular to rounding.

    The generalised Schur algorithm (Kailath, Sayed 1995, section 5): G - Z G Z' = a a' - u u' - x x' with Z the shift
    by one, so each row of U costs one rotation and one hyperbolic rotation of what is left of three vectors.
    generators: [3, m], scratch. upper: [m, m], its upper triangle is written.
    """
    a, u, x = generators[0], generators[1], generators[2]
    m = len(a)
    for d in range(m):
        a[d] = dots(c[d:], c, n - d)
    if not a[0] > 0.0:
        return False
    root = 1.0 / math.sqrt(a[0])
    for d in range(m):
        a[d] *= root
        u[d] = a[d]
        x[d] = c[n - d] if d > 0 else 0.0
    u[0] = 0.0
    for k in range(m):
        size = math.sqrt(u[k] * u[k] + x[k] * x[k])
        if size > 0.0:
            cosine = u[k] / size
            sine = x[k] / size
            ratio = size / a[k]
            left = 1.0 - ratio * ratio
            if not left > 1e-14:
                return False
            _turn(a[k:], u[k:], x[k:], upper[k, k:], cosine, sine, ratio, math.sqrt(left))
        else:
            copy_into(upper[k, k:], a[k:])
        copy_into(a[k + 1 :], upper[k, k : m - 1])
    return True


@njit(**BORROWING)
def _solve_factored(upper, right):
    """Solve U' U x = right in place."""
    m = len(right)
    for k in range(m):
        value = right[k] / upper[k, k]
        right[k] = value
        less(right[k + 1 :], value, upper[k, k + 1 :])
    for k in range(m - 1, -1, -1):
        right[k] = (right[k] - dots(upper[k, k + 1 :], right[k + 1 :], m - k - 1)) / upper[k, k]


@njit(**BORROWING)
def solve_shifted(n, m, has_trend, columns, work, states, log_det):
    """Least squares over the states from the columns of `_response_columns`; level, trend and season to `states`.

    False where they cannot be told apart. log_det: [1], of the normal matrix, but for a constant.
    """
    generators, upper, right = work
    width = m if m > 0 else 1
    c, b, z = columns[0], columns[1], columns[2]
    if not _factor_shifted(c, n, generators, upper):
        return False
    log_det[0] = 0.0
    for d in range(width):
        log_det[0] += 2.0 * math.log(upper[d, d])
        right[0, d] = dots(z[d:], c, n - d)
    _solve_factored(upper, right[0])
    states[1] = 0.0
    if has_trend:
        own = dots(b, b, n)
        rest = own
        value = dots(z, b, n)
        for d in range(width):
            right[1, d] = dots(b[d:], c, n - d)
            generators[0, d] = right[1, d]
        _solve_factored(upper, right[1])
        for d in range(width):
            rest -= generators[0, d] * right[1, d]
            value -= generators[0, d] * right[0, d]
        if not rest > 1e-11 * own:
            return False
        states[1] = value / rest
        log_det[0] += math.log(rest)
        for d in range(width):
            right[0, d] -= states[1] * right[1, d]
    if m == 0:
        states[0] = right[0, 0]
        return True
    mean = 0.0
    for j in range(m):
        mean += right[0, j]
    mean /= m
    states[0] = mean
    for j in range(m):
        states[2 + j] = right[0, j] - mean
    return True


@njit(**BORROWING)
def solve_general(inputs, seen, starts, m, weights, work, states, coefficients, fixed_states, has_trend):
    """Least squares with every column run through the recursion; see `set_up` for their order."""
    level, trend, season, errors = work.level, work.trend, work.season, work.errors
    gram, dropped, solution = work.gram, work.dropped, work.solution
    columns = inputs.shape[1]
    k = columns - 1
    for c in range(columns):
        level[c] = starts[0, c]
        trend[c] = starts[1, c]
        for j in range(m):
            season[j, c] = starts[2 + j, c]
    follow_columns(inputs, seen, m, weights, level, trend, season, errors)
    normal_matrix_of_columns(errors, gram)
    cholesky(gram, k, dropped)
    back_substitute(gram, k, k, dropped, solution)
    c = states_from(solution, 0, fixed_states, has_trend, ADDITIVE, m, states)
    for i in range(len(coefficients)):
        coefficients[i] = solution[c + i]


@njit(**PART)
def set_up(y, regressors, m, has_trend, fixed_states):
    """Columns of the general case: (inputs [n, K + 1], seen [n], starts [2 + m, K + 1]); the series comes last.

    Unknown states come first (level, trend, season1..m-1), then regressors. A state starts at -1, so that every
    coefficient is subtracted, as a regressor's is.
    """
    n = len(y)
    k_x = regressors.shape[1]
    free_level = math.isnan(fixed_states[0])
    free_trend = has_trend and math.isnan(fixed_states[1])
    free_season = m > 0 and math.isnan(fixed_states[2])
    n_states = int(free_level) + int(free_trend) + (m - 1 if free_season else 0)
    k = n_states + k_x
    inputs = np.zeros((n, k + 1))
    seen = np.ones(n)
    starts = np.zeros((2 + m, k + 1))
    for t in range(n):
        if math.isnan(y[t]):
            seen[t] = 0.0
        else:
            inputs[t, k] = y[t]
        for i in range(k_x):
            inputs[t, n_states + i] = regressors[t, i]
    c = 0
    if free_level:
        starts[0, c] = -1.0
        c += 1
    else:
        starts[0, k] = fixed_states[0]
    if free_trend:
        starts[1, c] = -1.0
        c += 1
    elif has_trend:
        starts[1, k] = fixed_states[1]
    if free_season:
        for j in range(m - 1):  # seasonal states sum to zero: the last is minus the others
            starts[2 + j, c] = -1.0
            starts[1 + m, c] = 1.0
            c += 1
    else:
        for j in range(m):
            starts[2 + j, k] = fixed_states[2 + j]
    return inputs, seen, starts


@njit(**PART)
def room_of(n, k, m):
    """Room for k columns beside the series, over n periods."""
    return Room(
        np.zeros(k + 1), np.zeros(k + 1), np.zeros((m, k + 1)), np.empty((n, k + 1)), np.zeros((k + 1, k + 1)),
        np.zeros(k + 1, dtype=np.bool_), np.zeros(k + 1),
    )  # fmt: skip
