"""Sample paths of future values: each series' own recursion, run on with shocks.

Shocks are taken from a table of normal numbers, each path from a place of its own: drawing them inside the loop would
cost more than all the rest. Or they are drawn from the series' own past errors.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import KERNEL
from tansy.engine.kernels.smoothing import MULTIPLICATIVE

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


@njit(**KERNEL)
def _mixed(number):
    """A well mixed 64-bit number from a counter (SplitMix64: Steele, Lea, Flood 2014)."""
    z = number * _GOLDEN
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@njit(**KERNEL)
def smoothing_paths(relative, season, m, weights, states, sigma, errors, n_errors, table, stream, paths):
    """Paths of smoothing forms, paths [series, H, N] of float32, written.

    relative, season [series], m: as in `smoothing_apply.apply_batch`. weights [series, D, 4], states [series, D, 2 +
    m], season1 belonging to the first lead, and sigma [series, D]: D draws of the parameters, taken in turn; NaN
    series are passed over. errors [series, R], n_errors [series]: past errors divided by their sigma to draw from, or
    none, and then `table` [a power of two] of normal numbers is read. stream [series]: series of one stream get the
    same shocks. A multiplicative form's values are kept above zero.
    """
    n_series, horizon, n_paths = paths.shape
    draws = weights.shape[1]
    mask = np.uint64(len(table) - 1)
    seasonal = np.empty((m, n_paths))
    level = np.empty(n_paths)
    trend = np.empty(n_paths)
    place = np.empty(n_paths, dtype=np.uint64)
    for s in range(n_series):
        if math.isnan(weights[s, 0, 0]):
            paths[s] = math.nan
            continue
        own_m = m if season[s] > 0 else 0
        for i in range(n_paths):
            d = i % draws
            level[i] = states[s, d, 0]
            trend[i] = states[s, d, 1]
            for j in range(own_m):
                seasonal[j, i] = states[s, d, 2 + j]
            place[i] = _mixed(np.uint64(stream[s]) * np.uint64(n_paths) + np.uint64(i + 1))
        at = 0
        for h in range(horizon):
            for i in range(n_paths):
                d = i % draws
                if n_errors[s] > 0:
                    shock = errors[s, _mixed(place[i] + np.uint64(h)) % np.uint64(n_errors[s])]
                else:
                    shock = table[(place[i] + np.uint64(h)) & mask]
                shock *= sigma[s, d]
                phi = weights[s, d, 3]
                q = level[i] + phi * trend[i]
                if season[s] == MULTIPLICATIVE:
                    s_at = seasonal[at, i]
                    mu = q * s_at
                    e = max(mu * shock if relative[s] else shock, -0.999 * mu)
                    paths[s, h, i] = mu + e
                    level[i] = q + weights[s, d, 0] * e / s_at
                    trend[i] = phi * trend[i] + weights[s, d, 1] * e / s_at
                    seasonal[at, i] = s_at + weights[s, d, 2] * e / q
                else:
                    s_at = seasonal[at, i] if own_m > 0 else 0.0
                    mu = q + s_at
                    e = mu * max(shock, -0.999) if relative[s] else shock
                    paths[s, h, i] = mu + e
                    level[i] = q + weights[s, d, 0] * e
                    trend[i] = phi * trend[i] + weights[s, d, 1] * e
                    if own_m > 0:
                        seasonal[at, i] = s_at + weights[s, d, 2] * e
            at += 1
            if at >= own_m:
                at = 0


@njit(**KERNEL)
def add_up_leads(paths):
    """Running sums over leads of each path, in place; paths [series, H, N]."""
    for s in range(paths.shape[0]):
        for h in range(1, paths.shape[1]):
            for i in range(paths.shape[2]):
                paths[s, h, i] += paths[s, h - 1, i]
