"""Maximum likelihood of smoothing with additive errors and an additive season or none, for a batch of series.

Given the weights, the one-step errors are linear in the first states and in the coefficients of regressors. So each
evaluation solves those by least squares, and the search is over one to four weights. With Q the least sum of squares it
minimises n log(Q/n), whose gradient takes one pass back over the series, because the derivative of a least value is
that with all that was solved for held fixed.

A season's m columns are time shifts of one impulse response c, as long as no value is missing: state j of the season is
the same as a periodic impulse fed at j, j + m, ... So one pass of the recursion gives them all, and their normal matrix
follows from its first row,

    G[j+1, k+1] = G[j, k] - c[n-1-j] c[n-1-k].

The level's column is the sum of them; it is left out, and the season re-centred afterwards. Harmonics beside a level
and a trend are solved for by `smoothing_harmonic.py`. With missing values, states given by hand or other regressors,
every column is run through the recursion.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.least_squares import (
    back_substitute,
    cholesky,
    copy_into,
    dots,
    less,
    normal_matrix_of_columns,
    quadratic_form,
)
from tansy.engine.kernels.options import BORROWING, KERNEL, PART
from tansy.engine.kernels.quasi_newton import advance, begin, is_hopeless, least_value, new_search, take_best
from tansy.engine.kernels.smoothing import (
    ADDITIVE,
    LEAST_SHARE,
    count_shares,
    extent,
    follow,
    follow_back,
    follow_columns,
    observed_mean,
    share_directions,
    states_from,
    weights_from_shares,
)
from tansy.engine.kernels.smoothing_harmonic import harmonic_basis, solve_harmonic


@njit(**BORROWING)
def _response_columns(y, m, weights, has_trend, season, columns):
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
def _solve_shifted(n, m, has_trend, columns, work, states, log_det):
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
    level, trend, season, errors, gram, dropped, solution = work
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
    slow = (
        np.zeros(k + 1), np.zeros(k + 1), np.zeros((m, k + 1)), np.empty((len(seen), k + 1)),
        np.zeros((k + 1, k + 1)), np.zeros(k + 1, dtype=np.bool_), np.zeros(k + 1),
    )  # fmt: skip
    found = (
        np.zeros(4), np.zeros(2 + m), np.zeros(regressors.shape[1]), np.zeros((4, n)), y.copy(), np.empty(n),
        np.zeros(4), np.zeros(2 + m), np.zeros((free, 4)), np.zeros(m), np.zeros(1),
    )  # fmt: skip
    n_seen = 0
    size = 0.0
    for t in range(n):
        if not math.isnan(y[t]):
            n_seen += 1
            size += y[t] * y[t]
    given_numbers = (fixed, fixed_states, has_trend, damped, season, m, shifted, turning, n_seen, size)
    return y, regressors, given_numbers, inputs, seen, starts, fast, slow, found, (harmonics, np.empty((3, k_x)))


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
        _response_columns(y, m, weights, has_trend, buffers, columns)
    if turning:
        harmonics, shadows = turned
        turning = solve_harmonic(columns, has_trend, weights, harmonics, shadows, states, coefficients, log_det)
    if shifted:
        if not _solve_shifted(n, m, has_trend, columns, solving, states, log_det):
            return math.inf
    elif not turning:
        solve_general(inputs, seen, starts, m, weights, slow, states, coefficients, fixed_states, has_trend)
        log_det[0] = 0.0
        for i in range(inputs.shape[1] - 1):
            log_det[0] += 2.0 * math.log(slow[4][i, i])
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
        weights_found[s] = problem[8][0]
        states_found[s] = problem[8][1]
        states_found[s, 0] += reference
        coefficients_found[s] = problem[8][2]
        k_x = regressors.shape[2]
        if k_x > 0 and not harmonic:
            gram, dropped, unit = problem[7][4], problem[7][5], problem[7][6]
            k = len(unit) - 1
            sigma2 = dots(problem[8][3][3], problem[8][3][3], len(y)) / max(n_seen - k - n_free, 1)
            for i in range(k_x):
                unit[:] = 0.0
                unit[k - k_x + i] = 1.0
                coefficient_variance[s, i] = sigma2 * quadratic_form(gram, k, dropped, unit, problem[7][0])


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
                states[s, i] = problem[8][1]
                states[s, i, 0] += reference
