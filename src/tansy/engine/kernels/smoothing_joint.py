"""Maximum likelihood of the smoothing forms that are not linear in their states: multiplicative errors or season.

Weights and first states are searched together, from the fit of the additive form next to it. With mu = mu(weights,
states) and e = y - mu it minimises -2 log L up to a constant,

    additive errors        n log(sum e^2 / n)
    multiplicative errors  n log(sum (e/mu)^2 / n) + 2 sum log mu

whose gradient is one pass back over the series. A season makes dozens of unknowns of very different size. Therefore the
search starts with the inverse of the expected curvature, from the derivatives of mu at the start (Gauss-Newton), and
BFGS only mends what that leaves.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.least_squares import cholesky, dots, inverse_of_normal, normal_matrix
from tansy.engine.kernels.options import BORROWING, KERNEL, PART
from tansy.engine.kernels.quasi_newton import advance, begin, is_hopeless, least_value, new_search, take_best
from tansy.engine.kernels.smoothing import (
    LEAST_SHARE,
    MULTIPLICATIVE,
    count_shares,
    extent,
    follow,
    follow_back,
    observed_mean,
    sensitivities,
    share_directions,
    states_from,
    weights_from_shares,
)


class Form(NamedTuple):
    relative: bool
    has_trend: bool
    damped: bool
    season: int
    m: int
    n_shares: int


class Work(NamedTuple):
    """What an evaluation leaves: path as of `smoothing.follow`, its errors last."""

    weights: Any
    states: Any
    seasonal: Any
    path: Any
    pull: Any
    by_weight: Any
    by_state: Any
    directions: Any


class Problem(NamedTuple):
    """What evaluations over one series share; fixed_states: on its scale."""

    y: Any
    form: Form
    fixed: Any
    fixed_states: Any
    work: Work


@njit(**BORROWING)
def _point_from(states, n_shares, fixed_states, has_trend, m, point):
    """The inverse of `smoothing.states_from`."""
    c = n_shares
    if math.isnan(fixed_states[0]):
        point[c] = states[0]
        c += 1
    if has_trend and math.isnan(fixed_states[1]):
        point[c] = states[1]
        c += 1
    if m > 0 and math.isnan(fixed_states[2]):
        for j in range(m - 1):
            point[c + j] = states[2 + j]


@njit(**BORROWING)
def objective_and_pull(y, relative, path, season, pull):
    """What is minimised, and its derivatives by mu; infinite where a relative error has no positive mu."""
    n = len(y)
    q, s, errors = path[0], path[1], path[3]
    squares = 0.0
    n_seen = 0.0
    if not relative:
        for t in range(n):
            seen = 0.0 if math.isnan(y[t]) else 1.0
            n_seen += seen
            squares += errors[t] * errors[t]
        squares = max(squares, 1e-200)
        factor = -2.0 * n_seen / squares
        for t in range(n):
            pull[t] = factor * errors[t]
        return n_seen * math.log(squares / n_seen) if n_seen > 0.0 else math.inf
    impossible = 0.0
    for t in range(n):
        mu = q[t] * s[t] if season == MULTIPLICATIVE else q[t] + s[t]
        seen = 0.0 if math.isnan(y[t]) else 1.0
        n_seen += seen
        impossible += 0.0 if mu > 0.0 else seen
        pull[t] = 1.0 / mu if seen > 0.0 else 0.0
    # a loop that sums must not write: whether it is vectorised, and so the order of its sums, would hang on where in
    # memory its arrays happen to lie
    for t in range(n):
        squares += (errors[t] * pull[t]) ** 2
    if n_seen == 0.0 or impossible > 0.0:
        return math.inf
    logs = 0.0
    product = 1.0
    for t in range(n):
        if pull[t] > 0.0:
            product *= pull[t]
            if not 1e-150 < product < 1e150:  # the logarithm of a product rarely, not of every factor
                logs += math.log(product)
                product = 1.0
    squares = max(squares, 1e-200)
    factor = n_seen / squares
    for t in range(n):
        eps = errors[t] * pull[t]
        pull[t] *= 2.0 - 2.0 * factor * eps * (1.0 + eps)
    return n_seen * math.log(squares / n_seen) - 2.0 * (logs + math.log(product))


@njit(**BORROWING)
def evaluate(point, problem, with_gradient, gradient):
    """Objective, and gradient where asked, at (shares, level, trend, season1..m-1), those of them that are free."""
    y, fixed, fixed_states = problem.y, problem.fixed, problem.fixed_states
    relative, has_trend, damped, season, m, n_shares = problem.form
    weights, states, seasonal, path, pull, by_weight, by_state, directions = problem.work
    weights_from_shares(point, fixed, has_trend, damped, season, weights)
    states_from(point, n_shares, fixed_states, has_trend, season, m, states)
    for j in range(m):
        seasonal[j] = states[2 + j]
    level, _ = follow(y, season, m, weights, states[0], states[1], seasonal, path)
    if math.isnan(level):
        return math.inf
    value = objective_and_pull(y, relative, path, season, pull)
    if math.isinf(value) or not with_gradient:
        return value
    by_state[:] = 0.0
    follow_back(y, season, m, weights, path, pull, by_weight, by_state)
    share_directions(point, fixed, weights, has_trend, damped, season, directions)
    for i in range(n_shares):
        gradient[i] = dots(directions[i], by_weight, 4)
    c = n_shares
    if math.isnan(fixed_states[0]):
        gradient[c] = by_state[0]
        c += 1
    if has_trend and math.isnan(fixed_states[1]):
        gradient[c] = by_state[1]
        c += 1
    if m > 0 and math.isnan(fixed_states[2]):
        for j in range(m - 1):
            gradient[c + j] = by_state[2 + j] - by_state[1 + m]
    return value


@njit(**PART)
def inverse_curvature(point, problem, inverse, slopes, factor):
    """Inverse of the expected second derivatives of -2 log L where `evaluate` was last called; False where there is
    none.

    2 (sum over t of w_t dmu dmu'), w = n / sum e^2, or (n / sum eps^2 + 2) / mu^2 with relative errors.
    slopes: [K, n]; factor: [K, K]; both scratch.
    """
    y, fixed_states, work = problem.y, problem.fixed_states, problem.work
    relative, has_trend, _, season, m, n_shares = problem.form
    weights, path, pull, directions = work.weights, work.path, work.pull, work.directions
    k = len(point)
    n = len(y)
    of_weights = np.zeros((k, 4))
    of_states = np.zeros((2 + m, k))
    of_weights[:n_shares] = directions
    c = n_shares
    if math.isnan(fixed_states[0]):
        of_states[0, c] = 1.0
        c += 1
    if has_trend and math.isnan(fixed_states[1]):
        of_states[1, c] = 1.0
        c += 1
    if m > 0 and math.isnan(fixed_states[2]):
        for j in range(m - 1):
            of_states[2 + j, c + j] = 1.0
            of_states[1 + m, c + j] = -1.0
    sensitivities(y, season, m, weights, path, of_weights, of_states, slopes)
    squares = 0.0
    n_seen = 0
    for t in range(n):
        if math.isnan(y[t]):
            pull[t] = 0.0
            continue
        mu = path[0, t] * path[1, t] if season == MULTIPLICATIVE else path[0, t] + path[1, t]
        pull[t] = 1.0 / mu if relative else 1.0
        n_seen += 1
    for t in range(n):
        squares += (path[3, t] * pull[t]) ** 2
    weight = math.sqrt(2.0 * (n_seen / max(squares, 1e-200) + (2.0 if relative else 0.0)))
    for i in range(k):
        row = slopes[i]
        for t in range(n):
            row[t] *= weight * pull[t]
    normal_matrix(slopes, n, factor)
    return inverse_of_normal(factor, slopes, inverse)


@njit(**PART)
def _problem(values, size, relative, has_trend, damped, season, m, n_shares, fixed, fixed_states):
    """What evaluations over one series share, on the scale where its mean is one.

    Returns (problem as `evaluate` takes it, unit [2 + m] of each state, how many numbers are free).
    """
    y = values / size
    unit = np.ones(2 + m)
    unit[:2] = size
    if season != MULTIPLICATIVE:
        unit[2:] = size
    given = fixed_states / unit
    k = n_shares
    if math.isnan(given[0]):
        k += 1
    if has_trend and math.isnan(given[1]):
        k += 1
    if m > 0 and math.isnan(given[2]):
        k += m - 1
    n = len(y)
    work = Work(
        np.zeros(4), np.zeros(2 + m), np.zeros(m), np.empty((4, n)), np.empty(n), np.zeros(4), np.zeros(2 + m),
        np.zeros((n_shares, 4)),
    )  # fmt: skip
    form = Form(relative, has_trend, damped, season, m, n_shares)
    return Problem(y, form, fixed, given, work), unit, k


@njit(**PART)
def _set_start(shares, states, unit, problem, point):
    """A start on the scale of `_problem`, away from the corners where a share of what is left moves nothing."""
    has_trend, m, n_shares = problem.form.has_trend, problem.form.m, problem.form.n_shares
    for j in range(n_shares):
        point[j] = min(0.99, max(0.01, shares[j]))
    _point_from(states / unit, n_shares, problem.fixed_states, has_trend, m, point)


@njit(**KERNEL)
def search_batch(
    values, relative, has_trend, damped, season, m, fixed, fixed_states, shares_at, states_at, descents, target,
    least_used, enough, shares_found, weights_found, states_found, objective,
):  # fmt: skip
    """Fit one form to each row of `values` [series, T], positive, NaN missing.

    relative: multiplicative errors. season: 0, 1 additive, 2 multiplicative; m its length. fixed [4], fixed_states
    [series, 2 + m] as in `smoothing_linear.search_batch`. shares_at: [series, starts, free] and states_at:
    [series, starts, 2 + m], where searches begin; NaN passes a start over. The `descents` best are followed, and
    given up as in `smoothing_linear.search_batch`.
    enough: stop where -2 log L is promised to fall by less. Written as there; the objective of relative errors holds
    2 sum log mu, of values as they are.
    """
    n_series = len(values)
    n_starts = shares_at.shape[1]
    n_shares = count_shares(fixed, has_trend, damped, season)
    shares_found[:] = math.nan
    weights_found[:] = math.nan
    states_found[:] = math.nan
    objective[:] = math.nan
    for s in range(n_series):
        start, end, n_seen = extent(values[s])
        if n_seen < least_used or n_seen == 0:
            continue
        size = observed_mean(values[s])
        if not size > 0.0:
            continue
        problem, unit, k = _problem(
            values[s, start:end], size, relative, has_trend, damped, season, m, n_shares, fixed, fixed_states[s]
        )
        n = end - start
        work = problem.work
        search = new_search(1, k)
        slopes = np.empty((k, max(n, k)))
        factor = np.empty((k, k))
        low = np.full(k, -math.inf)
        high = np.full(k, math.inf)
        longest = np.full(k, math.inf)
        low[:n_shares] = LEAST_SHARE
        high[:n_shares] = 1.0 - LEAST_SHARE
        longest[:n_shares] = 0.3
        points = np.zeros((1, k))
        point = points[0]
        best = np.zeros(k)
        gradient = np.zeros(k)
        at_start = np.empty(n_starts)
        least = math.inf
        goal = target[s] - 2.0 * n_seen * math.log(size)
        for i in range(n_starts):
            at_start[i] = math.inf
            if not math.isnan(states_at[s, i, 0]):
                _set_start(shares_at[s, i], states_at[s, i], unit, problem, point)
                at_start[i] = evaluate(point, problem, False, gradient)
        for _ in range(min(descents, n_starts)):
            i = int(np.argmin(at_start))
            if math.isinf(at_start[i]):
                break
            at_start[i] = math.inf
            _set_start(shares_at[s, i], states_at[s, i], unit, problem, point)
            value = evaluate(point, problem, True, gradient)
            begin(search, 0, inverse_curvature(point, problem, search.inverse_hessian[0], slopes, factor))
            while not advance(search, 0, points, value, gradient, low, high, longest, enough):
                if is_hopeless(search, 0, goal):
                    take_best(search, 0, points)
                    break
                value = evaluate(point, problem, True, gradient)
            if least_value(search, 0) < least:
                least = least_value(search, 0)
                best[:] = point
        if math.isinf(least):
            continue
        evaluate(best, problem, False, gradient)
        shares_found[s] = best[:n_shares]
        weights_found[s] = work.weights
        states_found[s] = work.states * unit
        objective[s] = least + (2.0 * n_seen * math.log(size))


@njit(**KERNEL)
def draw_batch(
    values, relative, has_trend, damped, season, m, fixed, fixed_states, shares, states, normals, unseen,
    weights_drawn, states_drawn, sigma_found, deviations,
):  # fmt: skip
    """Draws of what a joint form's likelihood leaves open, for simulating forecasts with everything estimated.

    Normal about the optimum with the inverse expected curvature as covariance, as estimates are in the limit; shares
    are reflected into their box, and a draw that no recursion can follow repeats the one before. normals: [D, most
    free]; unseen: [D, most missing], normal errors of the periods that are missing, each of which moves the states from
    then on; shares, states: the optimum of `search_batch`, NaN rows are passed over. Written, one row for each draw:
    weights_drawn [series, D, 4], states_drawn [series, D, 2 + m] after the last period (season1 belongs to the first
    lead), deviations [series, 4 + 2 + m]:
    standard deviation of each weight and first state over the draws; and sigma_found [series], the root of Q/(n - k +
    1) at the optimum.
    """
    n_series = len(values)
    steps = len(normals)
    n_shares = shares.shape[1]
    weights_drawn[:] = math.nan
    states_drawn[:] = math.nan
    sigma_found[:] = math.nan
    deviations[:] = math.nan
    for s in range(n_series):
        if math.isnan(states[s, 0]):
            continue
        start, _, n_seen = extent(values[s])
        size = observed_mean(values[s])
        problem, unit, k = _problem(
            values[s, start:], size, relative, has_trend, damped, season, m, n_shares, fixed, fixed_states[s]
        )
        y, work = problem.y, problem.work
        n = len(y)
        best = np.zeros(k)
        best[:n_shares] = shares[s]
        _point_from(states[s] / unit, n_shares, problem.fixed_states, has_trend, m, best)
        gradient = np.zeros(k)
        inverse = np.zeros((k, k))
        evaluate(best, problem, True, gradient)
        known = inverse_curvature(best, problem, inverse, np.empty((k, max(n, k))), np.empty((k, k)))
        root = np.zeros((k, k))
        if known:
            # the covariance is twice the inverse curvature of -2 log L
            root[:] = 2.0 * inverse
            dropped = np.zeros(k, dtype=np.bool_)
            cholesky(root, k, dropped)
            for i in range(k):
                if dropped[i]:
                    root[i, i] = 0.0
        squares = 0.0
        for t in range(n):
            if not math.isnan(y[t]):
                path = work.path
                mu = path[0, t] * path[1, t] if season == MULTIPLICATIVE else path[0, t] + path[1, t]
                squares += (path[3, t] / mu) ** 2 if relative else path[3, t] ** 2
        sigma_found[s] = math.sqrt(squares / max(n_seen - k, 1.0)) * (1.0 if relative else size)
        point = best.copy()
        at = best.copy()
        sums = np.zeros((2, 4 + 2 + m))
        for i in range(steps):
            for a in range(k):
                at[a] = best[a]
                for b in range(a + 1):
                    at[a] += root[a, b] * normals[i, b]
                if a < n_shares:
                    folded = abs(at[a]) % 2.0
                    at[a] = min(1.0 - LEAST_SHARE, max(LEAST_SHARE, 2.0 - folded if folded > 1.0 else folded))
            if math.isfinite(evaluate(at, problem, False, gradient)):
                point[:] = at
            else:
                evaluate(point, problem, False, gradient)
            weights, first, seasonal, path = work.weights, work.states, work.seasonal, work.path
            weights_drawn[s, i] = weights
            for j in range(4 + 2 + m):
                value = weights[j] if j < 4 else first[j - 4] * unit[j - 4]
                sums[0, j] += value / steps
                sums[1, j] += value * value / steps
            level, trend = _last(path, y, season, weights)
            if n_seen < n:
                level, trend = _run_filled(
                    y,
                    relative,
                    season,
                    weights,
                    first,
                    sigma_found[s] / (1.0 if relative else size),
                    unseen[i],
                    seasonal,
                )
            states_drawn[s, i, 0] = level * size
            states_drawn[s, i, 1] = trend * size
            for j in range(m):
                states_drawn[s, i, 2 + j] = seasonal[(n + j) % m] * unit[2 + j]
        for j in range(4 + 2 + m):
            deviations[s, j] = math.sqrt(max(sums[1, j] - sums[0, j] ** 2, 0.0))


@njit(**BORROWING)
def _last(path, y, season, weights):
    """Level and trend after the last period, from the path."""
    t = len(y) - 1
    shock = path[3, t] / path[1, t] if season == MULTIPLICATIVE else path[3, t]
    return path[0, t] + weights[0] * shock, weights[3] * path[2, t] + weights[1] * shock


@njit(**BORROWING)
def _run_filled(y, relative, season, weights, first, sigma, unseen, seasonal):
    """Level and trend after the last period, and the season's states, with an error in every period that is missing.

    first: the first states; seasonal: [m], written, slot t mod m as in `follow`. Values put in stay above zero and
    below ten times all that was seen: errors of a fit that is no good would multiply from gap to gap.
    """
    most = 0.0
    for t in range(len(y)):
        if not math.isnan(y[t]):
            most = max(most, 10.0 * abs(y[t]))
    alpha, beta, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    m = len(seasonal)
    level, trend = first[0], first[1]
    for j in range(m):
        seasonal[j] = first[2 + j]
    missing = 0
    for t in range(len(y)):
        d = phi * trend
        q = level + d
        s = seasonal[t % m] if m > 0 else 0.0
        mu = q * s if season == MULTIPLICATIVE else q + s
        if math.isnan(y[t]):
            e = min(max(sigma * unseen[missing] * (mu if relative else 1.0), -0.999 * mu), max(most - mu, 0.0))
            missing += 1
        else:
            e = y[t] - mu
        of_level = e / s if season == MULTIPLICATIVE else e
        level = q + alpha * of_level
        trend = d + beta * of_level
        if m > 0:
            seasonal[t % m] = s + gamma * (e / q if season == MULTIPLICATIVE else e)
    return level, trend
