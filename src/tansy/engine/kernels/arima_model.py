"""A seasonal ARIMA model of one series with regressors: its data, its coefficients, and room for its evaluations."""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.arma import coefficients_from_partials, partials_from_coefficients, process
from tansy.engine.kernels.missing import most_missing
from tansy.engine.kernels.options import BORROWING, PART
from tansy.engine.kernels.smoothing import extent, observed_mean

NO_MEAN, CONSTANT, DRIFT = 0, 1, 2
# missing values that cost a column each rather than the full filter, which costs more the more numbers its state has
_MOST_FILLED, _MORE_FILLED = 24, 2


class Orders(NamedTuple):
    """(p, q)(P, Q) at season length m."""

    p: int
    q: int
    sp: int
    sq: int
    m: int


class Counts(NamedTuple):
    """Rows of the inputs that are missing values, and mean or drift; values used; where the series begins and ends."""

    n_gaps: int
    n_linear: int
    n_used: int
    start: int
    end: int


class Data(NamedTuple):
    """What models with the same differences and mean share, see `data_of`.

    inputs: [rows, n], differenced; levels: [rows, T]; seen: [T], 0 where missing. full: whether the full filter runs.
    polynomial: of the differences, lags: where it is not zero. reference: taken off the levels; order, scale: of the
    mean's power of time.
    """

    inputs: Any
    levels: Any
    seen: Any
    full: bool
    polynomial: Any
    lags: Any
    counts: Counts
    reference: float
    order: int
    scale: float


class Work(NamedTuple):
    """What evaluations and searches leave behind.

    coefficients, partials: of the process. ahead: [rows, n + r + 1], what the past says of what comes; errors: [rows,
    n]; spread: [n]. gram, dropped, solution: the factored normal matrix of what is linear, which of it does not vary on
    its own, and its coefficients. rest: r. slopes: of r, [free, n]; normal, held, scratch, before: of the search.
    filtering: of the full filter.
    """

    coefficients: Any
    partials: Any
    ahead: Any
    errors: Any
    spread: Any
    gram: Any
    dropped: Any
    solution: Any
    rest: Any
    slopes: Any
    normal: Any
    held: Any
    scratch: Any
    before: Any
    filtering: Any


class Problem(NamedTuple):
    """A model of some data. fixed: [p + q + P + Q] coefficients given, NaN where estimated. room: of the process."""

    orders: Orders
    fixed: Any
    data: Data
    room: Any
    work: Work


@njit(**PART)
def difference_polynomial(d, seasonal_d, m):
    """dl of y_t = w_t + sum of dl_k y_{t-k}, k = 1, 2, ...; w is y differenced d times and D times at lag m."""
    polynomial = np.zeros(d + seasonal_d * m + 1)
    polynomial[0] = 1.0
    for i in range(d + seasonal_d):
        lag = 1 if i < d else m
        for k in range(len(polynomial) - 1, lag - 1, -1):
            polynomial[k] -= polynomial[k - lag]
    return -polynomial[1:]


@njit(**BORROWING)
def set_coefficients(raw, orders, fixed, coefficients, partials):
    """Coefficients (ar, ma, sar, sma) at the numbers searched; False outside what is stationary and invertible."""
    p, q, sp, sq, _ = orders
    at = 0
    free = 0
    for factor in range(4):
        size = (p, q, sp, sq)[factor]
        sign = -1.0 if factor % 2 else 1.0
        own = coefficients[at : at + size]
        any_fixed = False
        for i in range(size):
            any_fixed = any_fixed or not math.isnan(fixed[at + i])
        if any_fixed:
            for i in range(size):
                own[i] = fixed[at + i]
                if math.isnan(own[i]):
                    own[i] = raw[free]
                    free += 1
                own[i] *= sign
            if not partials_from_coefficients(own, partials):
                return False
        else:
            coefficients_from_partials(raw[free : free + size], own)
            free += size
        for i in range(size):
            own[i] *= sign
        at += size
    return True


@njit(**BORROWING)
def count_free(fixed):
    free = 0
    for value in fixed:
        if math.isnan(value):
            free += 1
    return free


@njit(**BORROWING)
def power(t, order):
    """What differenced `order` times is 1."""
    return t if order == 1 else 0.5 * t * t if order == 2 else t * t * t / 6.0 if order == 3 else 1.0


@njit(**PART)
def data_of(y, regressors, differences, m, mean, reach):
    """What models with the same differences and mean share.

    y: [T], NaN missing. regressors: [T or more, k]. differences: (d, D), of season length m. reach: longest lag of the
    coefficients. The rows of the inputs are one for each missing value, mean or drift, the regressors, and the series
    itself. With many missing values the full filter runs: only those among the first levels, which differences start
    from, have a row then, and the inputs, from which searches begin, bridge the others by straight lines.
    """
    d, seasonal_d = differences
    lost = d + seasonal_d * m
    start, end, n_seen = extent(y)
    length = end - start
    full = length - n_seen > _MOST_FILLED + _MORE_FILLED * max(lost, reach)
    n_gaps = length - n_seen
    if full:
        n_gaps = 0
        for t in range(min(lost, length)):
            n_gaps += 1 if math.isnan(y[start + t]) else 0
    n_linear = 1 if mean != NO_MEAN else 0
    k_x = regressors.shape[1]
    rows = n_gaps + n_linear + k_x + 1
    order = d + seasonal_d
    scale = float(m) ** -seasonal_d if mean == CONSTANT else 1.0
    reference = observed_mean(y) if n_linear > 0 or lost > 0 else 0.0
    levels = np.zeros((rows, length))
    seen = np.ones(length)
    gap = 0
    for t in range(length):
        if math.isnan(y[start + t]):
            seen[t] = 0.0
            if not full or t < lost:
                levels[gap, t] = -1.0  # so that its coefficient is the value itself, less the reference
                gap += 1
        else:
            levels[rows - 1, t] = y[start + t] - reference
        if n_linear > 0:
            levels[n_gaps, t] = scale * power(float(t), order)
        for i in range(k_x):
            levels[n_gaps + n_linear + i, t] = regressors[start + t, i]
    if full:
        _bridge(levels[rows - 1], seen, lost)
    inputs = np.empty((rows, max(length - lost, 0)))
    polynomial = difference_polynomial(d, seasonal_d, m)
    for c in range(rows):
        for t in range(lost, length):
            value = levels[c, t]
            for j in range(lost):
                if polynomial[j] != 0.0:
                    value -= polynomial[j] * levels[c, t - 1 - j]
            inputs[c, t - lost] = value
    counts = Counts(n_gaps, n_linear, n_seen - lost, start, end)
    lags = np.nonzero(polynomial)[0] + 1
    return Data(inputs, levels, seen, full, polynomial, lags, counts, reference, order, scale)


@njit(**BORROWING)
def _bridge(y, seen, first):
    """Straight lines over what is missing from `first` on, in place; the first and the last value are seen."""
    before = 0
    for t in range(1, len(y)):
        if seen[t] == 0.0:
            continue
        for i in range(max(before + 1, first), t):
            y[i] = y[before] + (y[t] - y[before]) * (i - before) / (t - before)
        before = t


@njit(**PART)
def problem_of(data, orders, fixed):
    """A model of some data, with room for its evaluations."""
    rows, n = data.inputs.shape
    room = process(orders, n)
    free = count_free(fixed)
    lost = data.levels.shape[1] - n
    most = most_missing(data.seen, lost) if data.full else 0
    size = room.r + most if data.full else 0
    filtering = np.zeros((2, size, size)), np.zeros(size), np.zeros(most, dtype=np.int64)
    work = Work(
        np.zeros(len(fixed)), np.zeros(len(fixed) + 1), np.zeros((rows, n + room.r + 1)), np.zeros((rows, n)),
        np.ones(n), np.zeros((rows, rows)), np.zeros(rows, dtype=np.bool_), np.zeros(rows), np.zeros(n),
        np.zeros((free, n)), np.zeros((free + 1, free + 1)), np.zeros(free, dtype=np.bool_), np.zeros((5, free)),
        np.zeros(n), filtering,
    )  # fmt: skip
    return Problem(orders, fixed, data, room, work)
