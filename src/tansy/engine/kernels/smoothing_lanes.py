"""Maximum likelihood of smoothing without a season, sixteen series side by side.

The same searches as in `smoothing_linear` and `smoothing_joint`, for the forms that a batch is fitted with most: first
states estimated, no regressors. Each of the `lanes` holds one search; when it ends, the lane takes the next one in the
queue. A lane never sees another, so results depend on neither their number nor their order.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.lanes import (
    INPUTS,
    LANES,
    MOST_DIRECTIONS,
    PATH,
    back_over,
    fill,
    linear_errors,
    linear_sums,
    normal_of_relative,
    relative_errors,
    solve_linear,
)
from tansy.engine.kernels.least_squares import inverse_of_normal
from tansy.engine.kernels.options import BORROWING, INLINED, KERNEL
from tansy.engine.kernels.quasi_newton import advance, begin, is_hopeless, least_value, new_search, take_best
from tansy.engine.kernels.smoothing import (
    LEAST_SHARE,
    count_shares,
    extent,
    observed_mean,
    share_directions,
    weights_from_shares,
)


class Work(NamedTuple):
    """Flat arrays of an evaluation, see `lanes`."""

    weights: Any
    path: Any
    sums: Any
    factor: Any


@njit(**BORROWING)
def _evaluate(relative, has_trend, block, counts, sizes, work, value, states, with_gradient):
    """What `smoothing_linear.evaluate` and `smoothing_joint.evaluate` minimise, in every lane, and its derivatives.

    counts: [LANES] observed values, sizes: their sums of squares. states: level and trend, read where errors are
    relative and written where not. Leaves derivatives by level, trend, alpha, beta, phi in rows 0 to 4 of the sums
    where asked.
    """
    weights, path, s, factor = work.weights, work.path, work.sums, work.factor
    if relative:
        relative_errors(block, weights, states, path, s)
        for i in range(LANES):
            squares = max(s[i], 1e-200)
            factor[i] = counts[i] / squares
            value[i] = counts[i] * math.log(squares / counts[i]) + 2.0 * s[LANES + i]
            if math.isnan(value[i]):
                value[i] = math.inf
    else:
        linear_sums(block, weights, has_trend, path, s)
        solve_linear(s, has_trend, states)
        linear_errors(weights, has_trend, states, path, s)
        for i in range(LANES):
            squares = max(s[i], 1e-24 * sizes[i] + 1e-200)
            factor[i] = counts[i] / squares
            value[i] = counts[i] * math.log(squares / counts[i])
            if math.isnan(s[i]):
                value[i] = math.inf
    if with_gradient:
        back_over(block, weights, path, relative, factor, s)


@njit(**BORROWING)
def _set_weights(lane, point, fixed, has_trend, damped, own, weights):
    weights_from_shares(point, fixed, has_trend, damped, 0, own)
    for j in range(4):
        weights[j * LANES + lane] = own[j]


@njit(**BORROWING)
def _gradient_of(lane, point, relative, has_trend, damped, fixed, own, directions, s, gradient):
    """Derivatives by the numbers that are searched: shares, and with relative errors level and trend."""
    n_shares = len(directions)
    share_directions(point, fixed, own, has_trend, damped, 0, directions)
    for a in range(n_shares):
        gradient[a] = (
            directions[a, 0] * s[2 * LANES + lane]
            + directions[a, 1] * s[3 * LANES + lane]
            + directions[a, 3] * s[4 * LANES + lane]
        )
    if relative:
        gradient[n_shares] = s[lane]
        if has_trend:
            gradient[n_shares + 1] = s[LANES + lane]


@njit(**INLINED)
def _inverse_curvature(has_trend, damped, block, counts, work, points, own, directions, fixed, lanes, normal, inverse):
    """Inverse of the expected second derivatives of -2 log L in each of the first `lanes` lanes, [LANES, k, k], after
    `relative_errors`; NaN where there is none. See `smoothing_joint.inverse_curvature`."""
    weights, path, s = work.weights, work.path, work.sums
    most = MOST_DIRECTIONS
    n_shares = len(directions)
    k = points.shape[1]
    leads = np.zeros(most * most * LANES)
    for i in range(lanes):
        for j in range(4):
            own[j] = weights[j * LANES + i]
        share_directions(points[i], fixed, own, has_trend, damped, 0, directions)
        for a in range(n_shares):
            leads[(a * most) * LANES + i] = directions[a, 0]
            leads[(a * most + 1) * LANES + i] = directions[a, 1]
            leads[(a * most + 2) * LANES + i] = directions[a, 3]
        leads[(n_shares * most + 3) * LANES + i] = 1.0
        if has_trend:
            leads[((n_shares + 1) * most + 4) * LANES + i] = 1.0
    normal_of_relative(block, weights, path, leads, k, np.empty(3 * most * LANES), normal)
    factor = np.empty((k, k))
    rows = np.empty((k, k))
    for i in range(lanes):
        weight = 2.0 * (counts[i] / max(s[i], 1e-200) + 2.0)
        for a in range(k):
            for b in range(a + 1):
                factor[a, b] = weight * normal[(a * most + b) * LANES + i]
        if not inverse_of_normal(factor, rows, inverse[i]):
            inverse[i] = math.nan


@njit(**KERNEL)
def search_batch(
    values, relative, has_trend, damped, fixed, starts, states_at, descents, own_starts, target, least_used, enough,
    shares_found, weights_found, states_found, objective, tops, heights,
):  # fmt: skip
    """Fit one form without a season to each row of `values` [series, T], NaN missing.

    fixed: [4] given weights, NaN where estimated. Additive errors: starts [starts, free] are shared, of which the best
    `descents` are followed, and own_starts [series, own, free] as in `smoothing_linear.search_batch`; states_at is not
    read. Relative errors, values above zero: starts [series x starts, free] with states_at [series x starts, 2], row
    after row of `smoothing_joint.search_batch`, NaN passes a start over; all are followed. Target and what is written
    as there, tops and heights with additive errors alone.
    """
    n_series = len(values)
    n_shares = count_shares(fixed, has_trend, damped, 0)
    k = n_shares + (1 + int(has_trend) if relative else 0)
    shares_found[:] = math.nan
    weights_found[:] = math.nan
    states_found[:] = math.nan
    objective[:] = math.nan
    tops[:] = math.nan
    heights[:] = math.nan
    # What every series is: where it lies, how it is scaled.
    spans = np.zeros((n_series, 3), dtype=np.int64)
    scales = np.zeros((n_series, 3))  # shift, scale, sum of squares after that
    beyond = np.zeros(n_series)  # what the scale adds to the objective
    longest_span = 0
    for s in range(n_series):
        start, end, n_seen = extent(values[s])
        mean = observed_mean(values[s])
        if n_seen < least_used or n_seen == 0 or (relative and not mean > 0.0):
            continue
        spans[s, 0], spans[s, 1], spans[s, 2] = start, end, n_seen
        scales[s, 0] = 0.0 if relative else mean
        scales[s, 1] = 1.0 / mean if relative else 1.0
        beyond[s] = 2.0 * n_seen * math.log(mean) if relative else 0.0
        for t in range(start, end):
            if not math.isnan(values[s, t]):
                scales[s, 2] += ((values[s, t] - scales[s, 0]) * scales[s, 1]) ** 2
        longest_span = max(longest_span, end - start)
        objective[s] = math.inf
    work = Work(
        np.zeros(4 * LANES), np.zeros(longest_span * PATH * LANES), np.zeros(11 * LANES), np.zeros(LANES)
    )  # fmt: skip
    block = np.zeros(longest_span * INPUTS * LANES)
    counts = np.ones(LANES)
    sizes = np.ones(LANES)
    value = np.zeros(LANES)
    states = np.zeros(2 * LANES)
    points = np.zeros((LANES, k))
    own = np.zeros(4)
    directions = np.zeros((n_shares, 4))
    rows = np.zeros(LANES, dtype=np.int64)
    job_of = np.zeros(LANES, dtype=np.int64)

    # The queue: one row for each search that is followed to the end.
    if relative:
        per_row = len(starts) // max(n_series, 1)
        jobs = len(starts)
    else:
        per_row = own_starts.shape[1] + max(descents, 1)
        jobs = n_series * per_row
    job_points = np.full((jobs, k), math.nan)
    trusted = np.zeros((jobs, k, k)) if relative else np.zeros((0, k, k))
    if relative:
        _queue_relative(
            starts, states_at, per_row, has_trend, damped, fixed, spans, scales, values, block, counts, work, value,
            states, points, own, directions, rows, job_points, trusted,
        )  # fmt: skip
    else:
        _queue_linear(
            starts, descents, own_starts, per_row, has_trend, damped, fixed, spans, scales, values, block, counts,
            sizes, work, value, states, points, own, rows, job_points,
        )  # fmt: skip

    low = np.full(k, -math.inf)
    high = np.full(k, math.inf)
    longest = np.full(k, math.inf)
    low[:n_shares] = LEAST_SHARE
    high[:n_shares] = 1.0 - LEAST_SHARE
    longest[:n_shares] = 0.3
    search = new_search(LANES, k)
    gradient = np.zeros(k)
    rows[:] = -1
    next_job = 0
    while True:
        active = 0
        for i in range(LANES):
            while rows[i] < 0 and next_job < jobs:
                job = next_job
                next_job += 1
                s = job // per_row
                if spans[s, 2] == 0 or (k > 0 and math.isnan(job_points[job, 0])) or (k == 0 and job % per_row > 0):
                    continue
                rows[i] = s
                job_of[i] = job
                points[i] = job_points[job]
                counts[i] = spans[s, 2]
                sizes[i] = scales[s, 2]
                fill(i, values[s], spans[s, 0], spans[s, 1], scales[s, 0], scales[s, 1], block)
                trusting = relative and not math.isnan(trusted[job, 0, 0])
                if trusting:
                    for a in range(k):
                        for b in range(k):
                            search.inverse_hessian[i, a, b] = trusted[job, a, b]
                begin(search, i, trusting)
            if rows[i] >= 0:
                active += 1
                _set_weights(i, points[i], fixed, has_trend, damped, own, work.weights)
                if relative:
                    states[i] = points[i, n_shares]
                    states[LANES + i] = points[i, n_shares + 1] if has_trend else 0.0
        if active == 0:
            break
        _evaluate(relative, has_trend, block, counts, sizes, work, value, states, True)
        for i in range(LANES):
            s = rows[i]
            if s < 0:
                continue
            _keep_better(i, s, n_shares, value, points, states, work.weights, scales, objective, shares_found,
                         weights_found, states_found)  # fmt: skip
            for j in range(4):
                own[j] = work.weights[j * LANES + i]
            _gradient_of(i, points[i], relative, has_trend, damped, fixed, own, directions, work.sums, gradient)
            ended = advance(search, i, points, value[i], gradient, low, high, longest, enough)
            if not ended and is_hopeless(search, i, target[s] - beyond[s]):
                take_best(search, i, points)
                ended = True
            if ended:
                rows[i] = -1
                at = job_of[i] % per_row
                if at < tops.shape[1]:
                    heights[s, at] = least_value(search, i)
                    for a in range(n_shares):
                        tops[s, at, a] = points[i, a]
    for s in range(n_series):
        if math.isinf(objective[s]):
            objective[s] = math.nan
        else:
            objective[s] += beyond[s]


@njit(**BORROWING)
def _keep_better(
    i, s, n_shares, value, points, states, weights, scales, objective, shares_found, weights_found, states_found
):
    if not value[i] < objective[s]:
        return
    objective[s] = value[i]
    for a in range(n_shares):
        shares_found[s, a] = points[i, a]
    for j in range(4):
        weights_found[s, j] = weights[j * LANES + i]
    states_found[s, 0] = states[i] / scales[s, 1] + scales[s, 0]
    states_found[s, 1] = states[LANES + i] / scales[s, 1]


@njit(**INLINED)
def _queue_linear(
    starts, descents, own_starts, per_row, has_trend, damped, fixed, spans, scales, values, block, counts, sizes, work,
    value, states, points, own, rows, job_points,
):  # fmt: skip
    """Where the searches of each series begin: its own starts, and the best of the shared ones."""
    n_series, n_starts, n_free = len(values), len(starts), starts.shape[1]
    n_own = own_starts.shape[1] if n_free > 0 else 0
    at_start = np.full((n_series, max(n_starts, 1)), 0.0)
    # one start, or as many as are followed, need no comparing; own ones leave room for one beside them
    has_own = np.zeros(n_series, dtype=np.bool_)
    for s in range(n_series):
        for c in range(n_own):
            if not math.isnan(own_starts[s, c, 0]):
                has_own[s] = True
    if n_starts > (1 if np.any(has_own) else descents):
        lanes = 0
        for s in range(n_series + 1):
            if s < n_series and spans[s, 2] > 0:
                rows[lanes] = s
                counts[lanes] = spans[s, 2]
                sizes[lanes] = scales[s, 2]
                fill(lanes, values[s], spans[s, 0], spans[s, 1], scales[s, 0], scales[s, 1], block)
                lanes += 1
            if lanes == LANES or (s == n_series and lanes > 0):
                for c in range(n_starts):
                    for i in range(LANES):
                        _set_weights(i, starts[c], fixed, has_trend, damped, own, work.weights)
                    _evaluate(False, has_trend, block, counts, sizes, work, value, states, False)
                    for i in range(lanes):
                        at_start[rows[i], c] = value[i]
                lanes = 0
    for s in range(n_series):
        job = s * per_row
        for c in range(n_own):
            job_points[job + c] = own_starts[s, c]
        job += n_own
        for _ in range(min(1 if has_own[s] else descents, n_starts)):
            best = 0
            for c in range(1, n_starts):
                if at_start[s, c] < at_start[s, best]:
                    best = c
            at_start[s, best] = math.inf
            job_points[job] = starts[best]
            job += 1


@njit(**INLINED)
def _queue_relative(
    starts, states_at, per_row, has_trend, damped, fixed, spans, scales, values, block, counts, work, value, states,
    points, own, directions, rows, job_points, trusted,
):  # fmt: skip
    """Starts with the inverse of the expected curvature there; those that the recursion cannot follow are left out."""
    jobs = len(starts)
    n_shares = starts.shape[1]
    job_of = np.zeros(LANES, dtype=np.int64)
    normal = np.zeros(MOST_DIRECTIONS * MOST_DIRECTIONS * LANES)
    inverse = np.zeros((LANES, points.shape[1], points.shape[1]))
    lanes = 0
    for job in range(jobs + 1):
        s = job // per_row
        if job < jobs and spans[s, 2] > 0 and not math.isnan(states_at[job, 0]):
            rows[lanes] = s
            job_of[lanes] = job
            counts[lanes] = spans[s, 2]
            fill(lanes, values[s], spans[s, 0], spans[s, 1], scales[s, 0], scales[s, 1], block)
            for a in range(n_shares):
                points[lanes, a] = min(1.0 - LEAST_SHARE, max(LEAST_SHARE, starts[job, a]))
            points[lanes, n_shares] = states_at[job, 0] * scales[s, 1]
            states[lanes] = points[lanes, n_shares]
            states[LANES + lanes] = 0.0
            if has_trend:
                points[lanes, n_shares + 1] = states_at[job, 1] * scales[s, 1]
                states[LANES + lanes] = points[lanes, n_shares + 1]
            _set_weights(lanes, points[lanes], fixed, has_trend, damped, own, work.weights)
            lanes += 1
        if lanes == LANES or (job == jobs and lanes > 0):
            relative_errors(block, work.weights, states, work.path, work.sums)
            _inverse_curvature(
                has_trend, damped, block, counts, work, points, own, directions, fixed, lanes, normal, inverse
            )
            for i in range(lanes):
                if not math.isnan(work.sums[LANES + i]):
                    job_points[job_of[i]] = points[i]
                    trusted[job_of[i]] = inverse[i]
            lanes = 0
