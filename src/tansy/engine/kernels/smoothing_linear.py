"""Maximum likelihood of smoothing with additive errors and an additive season or none, for a batch of series.

Given the weights, the one-step errors are linear in the first states and in the coefficients of regressors. So each
evaluation solves those by least squares (`smoothing_columns`; `smoothing_harmonic` where harmonics stand beside a
level and a trend), and the search is over one to four weights. With Q the least sum of squares it minimises n log(Q/n),
whose gradient takes one pass back over the series, because the derivative of a least value is that with all that was
solved for held fixed.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.least_squares import copy_into, dots, quadratic_form
from tansy.engine.kernels.options import BORROWING, KERNEL, PART
from tansy.engine.kernels.quasi_newton import advance, begin, is_hopeless, least_value, new_search, take_best
from tansy.engine.kernels.smoothing import (
    LEAST_SHARE,
    count_shares,
    extent,
    follow,
    follow_back,
    observed_mean,
    share_directions,
    weights_from_shares,
)
from tansy.engine.kernels.smoothing_columns import response_columns, room_of, set_up, solve_general, solve_shifted
from tansy.engine.kernels.smoothing_harmonic import harmonic_basis, solve_harmonic


class Given(NamedTuple):
    """What a form and its data are: shifted, turning: how columns are solved for; size: sum of squares of y."""

    fixed: Any
    fixed_states: Any
    has_trend: bool
    damped: bool
    season: int
    m: int
    shifted: bool
    turning: bool
    n_seen: int
    size: float


class Found(NamedTuple):
    """What an evaluation leaves: path as of `smoothing.follow`, its errors last; log_det of the normal matrix, [1]."""

    weights: Any
    states: Any
    coefficients: Any
    path: Any
    rest: Any
    pull: Any
    by_weight: Any
    by_state: Any
    directions: Any
    seasonal: Any
    log_det: Any


class Problem(NamedTuple):
    """All that evaluations over one series share, see `linear_problem`."""

    y: Any
    regressors: Any
    given: Given
    inputs: Any
    seen: Any
    starts: Any
    fast: Any
    slow: Any
    found: Found
    turned: Any


@njit(**PART)
def linear_problem(y, regressors, harmonic, m, has_trend, damped, fixed, fixed_states):
    """All that evaluations over one series share: see `evaluate`.

    y: observed part, from the first to the last value, less a reference that a free level takes up. harmonic: whether
    the regressors are all the harmonics of one period, as `smoothing_harmonic` takes them.
    """
    n = len(y)
    complete = True
    for t in range(n):
        if math.isnan(y[t]):
            complete = False
    given = not math.isnan(fixed_states[0]) or (has_trend and not math.isnan(fixed_states[1]))
    if m > 0 and not math.isnan(fixed_states[2]):
        given = True
    k_x = regressors.shape[1]
    shifted = complete and not given and k_x == 0 and n > m
    turning = harmonic and complete and not given and m == 0 and n > k_x + 2 and k_x > 0 and k_x % 2 == 0
    harmonics = harmonic_basis(regressors if turning else np.empty((0, 0)))
    turning = turning and harmonics[0]
    if shifted:
        inputs, seen, starts = np.empty((0, 0)), np.empty(0), np.empty((0, 0))
        k = 0
    else:
        inputs, seen, starts = set_up(y, regressors, m, has_trend, fixed_states)
        k = inputs.shape[1] - 1
    season = 1 if m > 0 else 0
    free = count_shares(fixed, has_trend, damped, season)
    width = max(m, 1)
    fast = (np.empty((3, n)), np.empty((3, m)), (np.empty((3, width)), np.empty((width, width)), np.empty((2, width))))
    slow = room_of(len(seen), k, m)
    found = Found(
        np.zeros(4), np.zeros(2 + m), np.zeros(regressors.shape[1]), np.zeros((4, n)), y.copy(), np.empty(n),
        np.zeros(4), np.zeros(2 + m), np.zeros((free, 4)), np.zeros(m), np.zeros(1),
    )  # fmt: skip
    n_seen = 0
    size = 0.0
    for t in range(n):
        if not math.isnan(y[t]):
            n_seen += 1
            size += y[t] * y[t]
    given_numbers = Given(fixed, fixed_states, has_trend, damped, season, m, shifted, turning, n_seen, size)
    turned = harmonics, np.empty((3, k_x))
    return Problem(y, regressors, given_numbers, inputs, seen, starts, fast, slow, found, turned)


@njit(**BORROWING)
def evaluate(shares, problem, with_gradient, gradient):
    """n log(Q/n) at the shares, and its gradient by them where asked.

    Leaves in the problem's `found`: weights, first states, coefficients, errors in the path (see `smoothing.follow`),
    and log det of the normal matrix last.
    """
    y, regressors, given_numbers, inputs, seen, starts, fast, slow, found, turned = problem
    fixed, fixed_states, has_trend, damped, season, m, shifted, turning, n_seen, size = given_numbers
    weights, states, coefficients, path, rest, pull, by_weight, by_state, directions, seasonal, log_det = found
    n = len(y)
    weights_from_shares(shares, fixed, has_trend, damped, season, weights)
    columns, buffers, solving = fast
    errors, trends = path[3], path[2]
    if shifted or turning:
        response_columns(y, m, weights, has_trend, buffers, columns)
    if turning:
        harmonics, shadows = turned
        turning = solve_harmonic(columns, has_trend, weights, harmonics, shadows, states, coefficients, log_det)
    if shifted:
        if not solve_shifted(n, m, has_trend, columns, solving, states, log_det):
            return math.inf
    elif not turning:
        solve_general(inputs, seen, starts, m, weights, slow, states, coefficients, fixed_states, has_trend)
        log_det[0] = 0.0
        for i in range(inputs.shape[1] - 1):
            log_det[0] += 2.0 * math.log(slow.gram[i, i])
    if m == 0 and (shifted or turning):
        # the errors follow from the columns, and of the states only the trend is wanted
        if turning:
            copy_into(errors, columns[2])
        else:
            level, trend = states[0], states[1]
            for t in range(n):
                errors[t] = columns[2, t] - level * columns[0, t] - (trend * columns[1, t] if has_trend else 0.0)
        if damped and with_gradient:
            trend = states[1]
            for t in range(n):
                trends[t] = trend
                trend = weights[3] * trend + weights[1] * errors[t]
    else:
        if len(coefficients) > 0:
            for t in range(n):
                rest[t] = y[t] - dots(coefficients, regressors[t], len(coefficients))
        for j in range(m):
            seasonal[j] = states[2 + j]
        follow(rest, season, m, weights, states[0], states[1], seasonal, path)
    least = max(dots(path[3], path[3], n), 1e-24 * size + 1e-200)
    if with_gradient:
        factor = -2.0 * n_seen / least
        for t in range(n):
            pull[t] = factor * path[3, t]
        by_state[:] = 0.0
        follow_back(rest, season, m, weights, path, pull, by_weight, by_state)
        share_directions(shares, fixed, weights, has_trend, damped, season, directions)
        for i in range(len(shares)):
            gradient[i] = dots(directions[i], by_weight, 4)
    return n_seen * math.log(least / n_seen)


@njit(**KERNEL)
def search_batch(
    values, regressors, harmonic, which, has_trend, damped, m, fixed, fixed_states, starts, descents, own, target,
    least_used, enough, shares_found, weights_found, states_found, coefficients_found, coefficient_variance, objective,
    tops, heights,
):  # fmt: skip
    """Fit one form to each row of `values` [series, T], NaN missing; leading NaN are before the series began.

    regressors: [groups, T, k], which: [series], the group of each series; harmonic: see `linear_problem`. fixed: [4]
    given weights and fixed_states: [series, 2 + m] given states (the season as a whole), NaN where estimated.
    starts: [starts, free]: where searches may begin, of which the `descents` best are followed to the end. own:
    [series, own, free], starts of its own, NaN where there are fewer, all followed, and beside them the best of the
    others. target: [series], a search that will not come below it is given up (infinite: none is).
    least_used: fewest observed values. enough: stop where -2 log L is promised to fall by less.
    Written, NaN where a series has fewer: shares_found [series, free], weights_found [series, 4], states_found [series,
    2 + m], coefficients_found [series, k] and, the weights taken as known, coefficient_variance [series, k], NaN beside
    harmonics; objective [series] = n log(Q/n). All NaN where no start was followed. tops [series,
    own, free] and heights [series, own]: where each start of its own led, and the objective there.
    """
    n_series = values.shape[0]
    n_free = starts.shape[1]
    n_starts = starts.shape[0]
    n_own = own.shape[1] if n_free > 0 else 0
    shares_found[:] = math.nan
    weights_found[:] = math.nan
    states_found[:] = math.nan
    coefficients_found[:] = math.nan
    coefficient_variance[:] = math.nan
    objective[:] = math.nan
    tops[:] = math.nan
    heights[:] = math.nan
    low = np.full(n_free, LEAST_SHARE)
    high = np.full(n_free, 1.0 - LEAST_SHARE)
    longest = np.full(n_free, 0.3)
    points = np.zeros((1, n_free))
    point = points[0]
    gradient = np.zeros(n_free)
    search = new_search(1, n_free)
    begins = np.zeros((max(n_own + n_starts, 1), n_free))
    at_start = np.zeros(len(begins))
    begins[n_own : n_own + n_starts] = starts
    for s in range(n_series):
        start, end, n_seen = extent(values[s])
        if n_seen < least_used or n_seen == 0:
            continue
        reference = observed_mean(values[s]) if math.isnan(fixed_states[s, 0]) else 0.0
        y = values[s, start:end] - reference
        x = regressors[which[s], start:end]
        problem = linear_problem(y, x, harmonic, m, has_trend, damped, fixed, fixed_states[s])
        least = math.inf
        n_given = 0
        for i in range(n_own):
            begins[i] = own[s, i]
            at_start[i] = math.inf if math.isnan(own[s, i, 0]) else -math.inf  # before the others
            n_given += int(not math.isnan(own[s, i, 0]))
        attempts = n_given + min(1 if n_given > 0 else descents, n_starts) if n_free > 0 else 1
        compared = n_starts > attempts - n_given
        for i in range(n_own, n_own + n_starts):
            at_start[i] = 0.0
            if compared:
                at_start[i] = evaluate(begins[i], problem, False, gradient)
        for _ in range(attempts):
            best = 0
            for i in range(1, n_own + n_starts):
                if at_start[i] < at_start[best]:
                    best = i
            at_start[best] = math.inf
            point[:] = begins[best]
            begin(search, 0, False)
            while True:
                value = evaluate(point, problem, True, gradient)
                if advance(search, 0, points, value, gradient, low, high, longest, enough):
                    break
                if is_hopeless(search, 0, target[s]):
                    take_best(search, 0, points)
                    break
            if best < n_own:
                tops[s, best] = point
                heights[s, best] = least_value(search, 0)
            if least_value(search, 0) < least:
                least = least_value(search, 0)
                shares_found[s] = point
        if attempts == 0:
            continue
        objective[s] = evaluate(shares_found[s], problem, False, gradient)
        found, room = problem.found, problem.slow
        weights_found[s] = found.weights
        states_found[s] = found.states
        states_found[s, 0] += reference
        coefficients_found[s] = found.coefficients
        k_x = regressors.shape[2]
        if k_x > 0 and not harmonic:
            unit = room.solution
            k = len(unit) - 1
            sigma2 = dots(found.path[3], found.path[3], len(y)) / max(n_seen - k - n_free, 1)
            for i in range(k_x):
                unit[:] = 0.0
                unit[k - k_x + i] = 1.0
                coefficient_variance[s, i] = sigma2 * quadratic_form(room.gram, k, room.dropped, unit, room.level)


@njit(**KERNEL)
def states_beside(values, has_trend, damped, m, fixed, fixed_states, shares, states):
    """First states [series, starts, 2 + m] that belong to shares [series, starts, free] by least squares; NaN where
    shares are or where states cannot be told apart. The other arguments as in `search_batch`."""
    states[:] = math.nan
    none = np.empty((values.shape[1], 0))
    gradient = np.zeros(shares.shape[2])
    for s in range(len(values)):
        wanted = False
        for i in range(shares.shape[1]):
            wanted = wanted or not math.isnan(shares[s, i, 0])
        start, end, n_seen = extent(values[s])
        if not wanted or n_seen == 0:
            continue
        reference = observed_mean(values[s]) if math.isnan(fixed_states[s, 0]) else 0.0
        y = values[s, start:end] - reference
        problem = linear_problem(y, none[start:end], False, m, has_trend, damped, fixed, fixed_states[s])
        for i in range(shares.shape[1]):
            if math.isnan(shares[s, i, 0]):
                continue
            if math.isfinite(evaluate(shares[s, i], problem, False, gradient)):
                states[s, i] = problem.found.states
                states[s, i, 0] += reference
