"""The recursions of smoothing without a season over sixteen series side by side, forth and back.

A recursion waits for its own last step, so that one series leaves most of the processor idle; sixteen in lockstep fill
it. Block arrays are flat, row t of a [n, rows, LANES] array after the other, because only constant distances let the
compiler prove that it may work on several lanes per instruction. Missing values, and what follows the end of a shorter
series, have weight 0: the error counts 0 and the states go on.
"""

import math

from numba import njit

from tansy.engine.kernels.options import BORROWING

LANES = 16
_VALUE, _SEEN, INPUTS = 0, 1, 2  # rows of a block's input
_ERROR, _TREND, _OTHER, PATH = 0, 1, 2, 3  # rows of a block's path; other: the level's column, or 1 / mu
MOST_DIRECTIONS = 5  # alpha, beta, phi, level, trend


@njit(**BORROWING)
def fill(lane, values, start, end, shift, scale, block):
    """Put (values - shift) * scale from start to end into a lane, and weight 0 after it."""
    n = len(block) // (INPUTS * LANES)
    for t in range(n):
        at = t * INPUTS * LANES + lane
        value = values[start + t] if start + t < end else math.nan
        seen = not math.isnan(value)
        block[at] = (value - shift) * scale if seen else 0.0
        block[at + LANES] = 1.0 if seen else 0.0


@njit(**BORROWING)
def linear_sums(block, weights, has_trend, path, s):
    """Errors of one unit of level (row other), of trend (row trend) and of the series (row error), and their sums.

    s: the states in rows 0 to 5, then the sums level x level, level x trend, trend x trend, level x series,
    trend x series in rows 6 to 10.
    """
    for i in range(11 * LANES):
        s[i] = 0.0
    for lane in range(LANES):
        s[lane] = -1.0
        s[3 * LANES + lane] = -1.0
    n = len(block) // (INPUTS * LANES)
    for t in range(n):
        row = block[t * INPUTS * LANES : (t + 1) * INPUTS * LANES]
        out = path[t * PATH * LANES : (t + 1) * PATH * LANES]
        if has_trend:
            for i in range(LANES):
                seen = row[LANES + i]
                alpha, beta, phi = weights[i], weights[LANES + i], weights[3 * LANES + i]
                d = phi * s[LANES + i]
                q = s[i] + d
                level = -seen * q
                s[i] = q + alpha * level
                s[LANES + i] = d + beta * level
                d = phi * s[3 * LANES + i]
                q = s[2 * LANES + i] + d
                trend = -seen * q
                s[2 * LANES + i] = q + alpha * trend
                s[3 * LANES + i] = d + beta * trend
                d = phi * s[5 * LANES + i]
                q = s[4 * LANES + i] + d
                own = seen * (row[i] - q)
                s[4 * LANES + i] = q + alpha * own
                s[5 * LANES + i] = d + beta * own
                out[i] = own
                out[LANES + i] = trend
                out[2 * LANES + i] = level
                s[6 * LANES + i] += level * level
                s[7 * LANES + i] += level * trend
                s[8 * LANES + i] += trend * trend
                s[9 * LANES + i] += level * own
                s[10 * LANES + i] += trend * own
        else:
            for i in range(LANES):
                seen = row[LANES + i]
                alpha = weights[i]
                level = -seen * s[i]
                s[i] += alpha * level
                own = seen * (row[i] - s[4 * LANES + i])
                s[4 * LANES + i] += alpha * own
                out[i] = own
                out[2 * LANES + i] = level
                s[6 * LANES + i] += level * level
                s[9 * LANES + i] += level * own


@njit(**BORROWING)
def solve_linear(s, has_trend, states):
    """Level and trend of every lane by least squares from `linear_sums`; NaN where they cannot be told apart."""
    for i in range(LANES):
        both, own = s[7 * LANES + i], s[8 * LANES + i]
        first = s[6 * LANES + i]
        level = s[9 * LANES + i] / first if first > 0.0 else math.nan
        trend = 0.0
        if has_trend:
            rest = own - both * both / first
            trend = (s[10 * LANES + i] - both * level) / rest if rest > 1e-11 * own else math.nan
            level -= trend * both / first
        states[i] = level
        states[LANES + i] = trend


@njit(**BORROWING)
def linear_errors(weights, has_trend, states, path, s):
    """The errors and trends with the states of `solve_linear`; sums of squares into row 0 of s."""
    for i in range(2 * LANES):
        s[i] = 0.0
    for i in range(LANES):
        s[LANES + i] = states[LANES + i]
    for t in range(len(path) // (PATH * LANES)):
        out = path[t * PATH * LANES : (t + 1) * PATH * LANES]
        if has_trend:
            for i in range(LANES):
                e = out[i] - states[i] * out[2 * LANES + i] - states[LANES + i] * out[LANES + i]
                out[i] = e
                out[LANES + i] = s[LANES + i]
                s[LANES + i] = weights[3 * LANES + i] * s[LANES + i] + weights[LANES + i] * e
                s[i] += e * e
        else:
            for i in range(LANES):
                e = out[i] - states[i] * out[2 * LANES + i]
                out[i] = e
                s[i] += e * e


@njit(**BORROWING)
def relative_errors(block, weights, states, path, s):
    """Errors, trends and 1 / mu of every period with relative errors, into the path.

    Into s: sum of squared relative errors in row 0, sum of log mu in row 1 - NaN where mu is not above zero.
    """
    for i in range(LANES):
        s[i] = 0.0
        s[LANES + i] = 0.0
        s[2 * LANES + i] = states[i]
        s[3 * LANES + i] = states[LANES + i]
        s[4 * LANES + i] = 1.0
        s[5 * LANES + i] = 0.0
    n = len(block) // (INPUTS * LANES)
    for t in range(n):
        row = block[t * INPUTS * LANES : (t + 1) * INPUTS * LANES]
        out = path[t * PATH * LANES : (t + 1) * PATH * LANES]
        for i in range(LANES):
            seen = row[LANES + i]
            trend = s[3 * LANES + i]
            d = weights[3 * LANES + i] * trend
            q = s[2 * LANES + i] + d
            e = seen * (row[i] - q)
            mu = seen * q + (1.0 - seen)
            inverse = 1.0 / mu
            out[i] = e
            out[LANES + i] = trend
            out[2 * LANES + i] = inverse
            s[2 * LANES + i] = q + weights[i] * e
            s[3 * LANES + i] = d + weights[LANES + i] * e
            e *= inverse
            s[i] += e * e
            s[4 * LANES + i] *= mu
            s[5 * LANES + i] += abs(mu) - mu  # stays zero while mu is above it
        if t % 16 == 15 or t == n - 1:  # the logarithm of a product rarely, not of every factor
            for i in range(LANES):
                s[LANES + i] += math.log(s[4 * LANES + i])
                s[4 * LANES + i] = 1.0
    for i in range(LANES):
        if s[5 * LANES + i] != 0.0 or not math.isfinite(s[LANES + i]):
            s[LANES + i] = math.nan


@njit(**BORROWING)
def _one_back(i, pull, row, out, weights, s):
    """One step of `back_over` in lane i; see `smoothing.follow_back`."""
    e = out[i]
    to_level = s[i]
    to_trend = s[LANES + i]
    s[2 * LANES + i] += to_level * e
    s[3 * LANES + i] += to_trend * e
    to_q = to_level + row[LANES + i] * (pull - weights[LANES + i] * to_trend - weights[i] * to_level)
    s[4 * LANES + i] += out[LANES + i] * (to_trend + to_q)
    s[i] = to_q
    s[LANES + i] = weights[3 * LANES + i] * (to_trend + to_q)


@njit(**BORROWING)
def back_over(block, weights, path, relative, factor, s):
    """The adjoint of the recursion: derivatives by level, trend, alpha, beta, phi into rows 0 to 4 of s.

    factor: [LANES], n / sum of squares; see `smoothing.follow_back` and `smoothing_joint.objective_and_pull`.
    """
    for i in range(5 * LANES):
        s[i] = 0.0
    n = len(block) // (INPUTS * LANES)
    for t in range(n - 1, -1, -1):
        row = block[t * INPUTS * LANES : (t + 1) * INPUTS * LANES]
        out = path[t * PATH * LANES : (t + 1) * PATH * LANES]
        if relative:
            for i in range(LANES):
                inverse = out[2 * LANES + i]
                eps = out[i] * inverse
                pull = inverse * (2.0 - 2.0 * factor[i] * eps * (1.0 + eps))
                _one_back(i, pull, row, out, weights, s)
        else:
            for i in range(LANES):
                _one_back(i, -2.0 * factor[i] * out[i], row, out, weights, s)


@njit(**BORROWING)
def normal_of_relative(block, weights, path, directions, k, slopes, normal):
    """Sums over t of (dmu / mu)(dmu / mu)' of every lane, row (a * most + b) of `normal`, b <= a < k.

    directions: row (a * 5 + j) says where a unit of direction a leads alpha, beta, phi, level, trend.
    slopes: scratch, rows 0 to 4 the slopes and 5 to 14 the states.
    """
    most = MOST_DIRECTIONS
    for i in range(most * most * LANES):
        normal[i] = 0.0
    for a in range(k):
        for i in range(LANES):
            slopes[(most + a) * LANES + i] = directions[(a * most + 3) * LANES + i]
            slopes[(2 * most + a) * LANES + i] = directions[(a * most + 4) * LANES + i]
    for t in range(len(block) // (INPUTS * LANES)):
        row = block[t * INPUTS * LANES : (t + 1) * INPUTS * LANES]
        out = path[t * PATH * LANES : (t + 1) * PATH * LANES]
        for a in range(k):
            own = directions[a * most * LANES : (a + 1) * most * LANES]
            slope = slopes[a * LANES : (a + 1) * LANES]
            level = slopes[(most + a) * LANES : (most + a + 1) * LANES]
            trend = slopes[(2 * most + a) * LANES : (2 * most + a + 1) * LANES]
            for i in range(LANES):
                d = weights[3 * LANES + i] * trend[i] + own[2 * LANES + i] * out[LANES + i]
                q = level[i] + d
                e = -row[LANES + i] * q
                slope[i] = -e * out[2 * LANES + i]
                level[i] = q + own[i] * out[i] + weights[i] * e
                trend[i] = d + own[LANES + i] * out[i] + weights[LANES + i] * e
        for a in range(k):
            for b in range(a + 1):
                at = (a * most + b) * LANES
                for i in range(LANES):
                    normal[at + i] += slopes[a * LANES + i] * slopes[b * LANES + i]
