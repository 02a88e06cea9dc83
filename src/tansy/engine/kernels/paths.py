"""Sample paths of future values: each series' own recursion, run on with shocks.

Shocks are taken from a table of normal numbers, those of each series and lead from a place of their own: drawing them
inside the loop would cost more than all the rest. Or they are drawn from the series' own past errors.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, KERNEL
from tansy.engine.kernels.smoothing import MULTIPLICATIVE

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)
_LEADS = np.uint64(1 << 16)  # places of a series; how many leads are asked for moves none of them
_LEAST = 1e-6  # of the first level: where a falling trend has taken a form that multiplies to nothing, it stays there


@njit(**BORROWING)
def _mixed(number):
    """A well mixed 64-bit number from a counter (SplitMix64: Steele, Lea, Flood 2014)."""
    z = number * _GOLDEN
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@njit(**BORROWING)
def _step_additive(m, shock, alpha, beta, gamma, phi, level, trend, seasonal, out):
    """One period of all paths of a form in which nothing multiplies."""
    for i in range(len(out)):
        q = level[i] + phi[i] * trend[i]
        s = seasonal[i] if m > 0 else 0.0
        e = shock[i]
        out[i] = q + s + e
        level[i] = q + alpha[i] * e
        trend[i] = phi[i] * trend[i] + beta[i] * e
        if m > 0:
            seasonal[i] = s + gamma[i] * e


@njit(**BORROWING)
def _step_proportional(m, least, shock, alpha, beta, gamma, phi, level, trend, seasonal, out):
    """The same with errors in proportion to the mean, which stays above zero."""
    for i in range(len(out)):
        q = level[i] + phi[i] * trend[i]
        s = seasonal[i] if m > 0 else 0.0
        mu = max(q + s, least)
        e = mu * max(shock[i], -0.999)
        out[i] = mu + e
        level[i] = q + alpha[i] * e
        trend[i] = phi[i] * trend[i] + beta[i] * e
        if m > 0:
            seasonal[i] = s + gamma[i] * e


@njit(**BORROWING)
def _step_multiplicative(least, shock, alpha, beta, gamma, phi, level, trend, seasonal, out):
    """One period where the season multiplies; every path's mean stays above zero."""
    for i in range(len(out)):
        q = max(level[i] + phi[i] * trend[i], least)
        s = seasonal[i]
        mu = q * s
        e = max(shock[i], -0.999 * mu)
        out[i] = mu + e
        by_s = e / s
        level[i] = q + alpha[i] * by_s
        trend[i] = phi[i] * trend[i] + beta[i] * by_s
        seasonal[i] = s + gamma[i] * e / q


@njit(**BORROWING)
def _step_relative(least, shock, alpha, beta, gamma, phi, level, trend, seasonal, out):
    """The same with relative errors: e / s is q times the relative error, e / q is s times it."""
    for i in range(len(out)):
        q = max(level[i] + phi[i] * trend[i], least)
        s = seasonal[i]
        eps = max(shock[i], -0.999)
        out[i] = q * s * (1.0 + eps)
        level[i] = q * (1.0 + alpha[i] * eps)
        trend[i] = phi[i] * trend[i] + beta[i] * q * eps
        seasonal[i] = s * (1.0 + gamma[i] * eps)


@njit(**KERNEL)
def smoothing_paths(relative, season, m, weights, states, sigma, errors, n_errors, table, stream, paths):
    """Paths of smoothing forms, paths [series, H, N] of float32, written.

    relative, season [series], m: as in `smoothing_apply.apply_batch`. weights [series, D, 4], states [series, D, 2 +
    m], season1 belonging to the first lead, and sigma [series, D]: D draws of the parameters, taken in turn; NaN
    series are passed over. errors [series, R], n_errors [series]: past errors divided by their sigma to draw from, or
    none, and then `table` of normal numbers is read. stream [series]: series of one stream get the
    same shocks. A multiplicative form's values are kept above zero.
    """
    n_series, horizon, n_paths = paths.shape
    draws = weights.shape[1]
    room = np.uint64(len(table) - n_paths + 1)
    seasonal = np.empty((max(m, 1), n_paths))
    level, trend, shock, scale = np.empty(n_paths), np.empty(n_paths), np.empty(n_paths), np.empty(n_paths)
    weight = np.empty((4, n_paths))
    place = np.empty(n_paths, dtype=np.uint64)
    for s in range(n_series):
        if math.isnan(weights[s, 0, 0]):
            paths[s] = math.nan
            continue
        own_m = m if season[s] > 0 else 0
        least = _LEAST * abs(states[s, 0, 0])
        d = 0
        for i in range(n_paths):
            level[i] = states[s, d, 0]
            trend[i] = states[s, d, 1]
            scale[i] = sigma[s, d]
            for k in range(4):
                weight[k, i] = weights[s, d, k]
            for j in range(own_m):
                seasonal[j, i] = states[s, d, 2 + j]
            place[i] = _mixed(np.uint64(stream[s]) * np.uint64(n_paths) + np.uint64(i + 1))
            d += 1
            if d == draws:
                d = 0
        for h in range(horizon):
            at = h % own_m if own_m > 0 else 0
            if n_errors[s] > 0:
                for i in range(n_paths):
                    shock[i] = scale[i] * errors[s, _mixed(place[i] + np.uint64(h)) % np.uint64(n_errors[s])]
            else:
                begin = _mixed(np.uint64(stream[s]) * _LEADS + np.uint64(h + 1)) % room
                drawn = table[np.int64(begin) : np.int64(begin) + n_paths]
                for i in range(n_paths):
                    shock[i] = scale[i] * drawn[i]
            step = (shock, weight[0], weight[1], weight[2], weight[3], level, trend, seasonal[at], paths[s, h])
            if season[s] == MULTIPLICATIVE and relative[s]:
                _step_relative(least, *step)
            elif season[s] == MULTIPLICATIVE:
                _step_multiplicative(least, *step)
            elif relative[s]:
                _step_proportional(own_m, least, *step)
            else:
                _step_additive(own_m, *step)
