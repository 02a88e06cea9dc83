"""Sample paths of future values: each series' own recursion, run on with shocks.

Shocks are taken from tables made beforehand, the same for all series: drawing them inside the loop would cost more than
all the rest. They are normal numbers, or places among the series' own past errors.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, KERNEL
from tansy.engine.kernels.smoothing import MULTIPLICATIVE

_TOGETHER = 2048  # paths that advance together: their states stay near the processor
_LEAST = 1e-6  # of the first level: where a falling trend has taken a form that multiplies to nothing, it stays there


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
def smoothing_paths(relative, season, m, weights, states, sigma, errors, n_errors, normals, uniforms, which, paths):
    """Paths of smoothing forms, paths [series, H, N] of float32, written.

    relative, season [series], m: as in `smoothing_apply.apply_batch`. weights [series, D, 4], states [series, D, 2 +
    m], season1 belonging to the first lead, and sigma [series, D]: D draws of the parameters; NaN series are passed
    over. which [N]: the draw of each path, as a share of all. errors [series, R], n_errors [series]: past errors
    divided by their sigma, of which `uniforms` [H, N] say which to take; where there are none, shocks are `normals`
    [H, N]. A multiplicative form's values are kept above zero.
    """
    n_series, horizon, n_paths = paths.shape
    draws = weights.shape[1]
    # rows that lie a power of two apart would stand in each other's way in the cache
    rows = np.empty((8 + max(m, 1), _TOGETHER + 48))
    level, trend, shock, scale, weight, seasonal = rows[0], rows[1], rows[2], rows[3], rows[4:8], rows[8:]
    for s in range(n_series):
        if math.isnan(weights[s, 0, 0]):
            paths[s] = math.nan
            continue
        own_m = m if season[s] > 0 else 0
        least = _LEAST * abs(states[s, 0, 0])
        for first in range(0, n_paths, _TOGETHER):
            n = min(_TOGETHER, n_paths - first)
            for i in range(n):
                d = min(int(which[first + i] * draws), draws - 1)
                level[i] = states[s, d, 0]
                trend[i] = states[s, d, 1]
                scale[i] = sigma[s, d]
                for k in range(4):
                    weight[k, i] = weights[s, d, k]
                for j in range(own_m):
                    seasonal[j, i] = states[s, d, 2 + j]
            for h in range(horizon):
                at = h % own_m if own_m > 0 else 0
                if n_errors[s] > 0:
                    for i in range(n):
                        place = int(uniforms[h, first + i] * n_errors[s])
                        shock[i] = scale[i] * errors[s, min(place, n_errors[s] - 1)]
                else:
                    for i in range(n):
                        shock[i] = scale[i] * normals[h, first + i]
                out = paths[s, h, first : first + n]
                step = (shock, weight[0], weight[1], weight[2], weight[3], level, trend, seasonal[at], out)
                if season[s] == MULTIPLICATIVE and relative[s]:
                    _step_relative(least, *step)
                elif season[s] == MULTIPLICATIVE:
                    _step_multiplicative(least, *step)
                elif relative[s]:
                    _step_proportional(own_m, least, *step)
                else:
                    _step_additive(own_m, *step)


@njit(**KERNEL)
def places_among(values, z, places):
    """Where each of z [Q] lies among the sorted values [series, H, N], counted from 0 with straight lines between them:
    written to places [series, Q, H], but for rows whose values are all the same."""
    n_series, horizon, n = values.shape
    for s in range(n_series):
        for h in range(horizon):
            row = values[s, h]
            if not row[0] < row[n - 1]:
                continue
            for q in range(len(z)):
                above = np.searchsorted(row, z[q])
                if above == 0 or above == n:
                    places[s, q, h] = min(above, n - 1)
                else:
                    before = row[above - 1]
                    places[s, q, h] = above - 1 + (z[q] - before) / (row[above] - before)
