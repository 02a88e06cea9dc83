"""Sines and cosines beside a level and a trend, without filtering them in an evaluation of smoothing.

The recursion without a season is a linear filter that does not change over time. What it makes of a turning u_t = rho^t
u_0 with |rho| = 1 is H u_t once what began at zero has died away, and the level and the trend turn along as L u_t and
B u_t:

    H = (1 - 1/rho) / (1 - (1 - alpha)/rho + phi beta/(rho - phi)),   L = 1 - (1 - alpha) H,   B = beta H/(1 - phi/rho)

What dies away is the response to first states of -L u_0/rho and -B u_0/rho, which lies in the span of the columns of
level and trend. So the columns of level, trend and filtered harmonics span the same space as those of level, trend and
the harmonics as they are, whatever the weights. An orthonormal basis of the latter is found once for a series; an
evaluation filters three columns, however many harmonics there are, and takes their shadow on the basis away.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.least_squares import dots, less
from tansy.engine.kernels.options import BORROWING, PART

_TOLD_APART = 1e-8  # of a column's square: what must be left of it beside the others
_LEFT = 1e-11  # the same for level and trend, as in `least_squares.cholesky`


@njit(**PART)
def harmonic_basis(x):
    """Harmonics x [n, 2 K], each sine beside its cosine -> (told apart, basis [2 K, n], factor [2 K, 2 K], turning [K]
    and first value [K], complex).

    x = basis' factor, factor upper triangular (Gram and Schmidt, each column twice).
    """
    n, columns = x.shape
    basis = np.empty((columns, n))
    factor = np.zeros((columns, columns))
    turning = np.empty(columns // 2, np.complex128)
    first = np.empty(columns // 2, np.complex128)
    for k in range(columns // 2):
        first[k] = complex(x[0, 2 * k + 1], x[0, 2 * k])
        turning[k] = complex(x[1, 2 * k + 1], x[1, 2 * k]) / first[k]
    for k in range(columns):
        own = basis[k]
        for t in range(n):
            own[t] = x[t, k]
        size = dots(own, own, n)
        for _ in range(2):
            for j in range(k):
                shadow = dots(basis[j], own, n)
                factor[j, k] += shadow
                less(own, shadow, basis[j])
        left = dots(own, own, n)
        if not left > _TOLD_APART * size:
            return False, basis, factor, turning, first
        factor[k, k] = math.sqrt(left)
        scale = 1.0 / factor[k, k]
        for t in range(n):
            own[t] *= scale
    return True, basis, factor, turning, first


@njit(**BORROWING)
def solve_harmonic(columns, has_trend, weights, harmonics, shadows, states, coefficients, log_det):
    """Least squares over level, trend and harmonics; False where they cannot be told apart.

    columns: [3, n], errors of a unit of level, of a unit of trend, and of the series itself, changed in place: the last
    becomes the errors that are left. harmonics: what `harmonic_basis` found. shadows: [3, 2 K], scratch. Written:
    states [2], coefficients [2 K], and log_det [1] of the normal matrix of the filtered columns, but for a constant.
    """
    _, basis, factor, turning, first = harmonics
    n = columns.shape[1]
    c, b, z = columns[0], columns[1], columns[2]
    whole_level = dots(c, c, n)
    whole_trend = dots(b, b, n) if has_trend else 0.0
    for k in range(len(basis)):
        _take_shadow(c, basis[k], shadows[0, k:])
        _take_shadow(z, basis[k], shadows[2, k:])
        if has_trend:
            _take_shadow(b, basis[k], shadows[1, k:])
    of_level = dots(c, c, n)
    if not of_level > _LEFT * whole_level:
        return False
    log_det[0] = math.log(of_level)
    trend = 0.0
    both = 0.0
    if has_trend:
        both = dots(b, c, n) / of_level
        less(b, both, c)
        of_trend = dots(b, b, n)
        if not of_trend > _LEFT * whole_trend:
            return False
        log_det[0] += math.log(of_trend)
        trend = dots(b, z, n) / of_trend
        less(z, trend, b)
    level = dots(c, z, n) / of_level
    less(z, level, c)
    level -= both * trend
    _unfilter(level, trend, has_trend, weights, factor, turning, first, shadows, states, coefficients, log_det)
    return True


@njit(**BORROWING)
def _take_shadow(column, unit, shadow):
    shadow[0] = dots(unit, column, len(column))
    less(column, shadow[0], unit)


@njit(**BORROWING)
def _unfilter(level, trend, has_trend, weights, factor, turning, first, shadows, states, coefficients, log_det):
    """From coefficients of the columns as they were solved for to those of the recursion."""
    alpha, beta, phi = weights[0], weights[1], weights[3]
    width = len(factor)
    for i in range(width - 1, -1, -1):
        value = shadows[2, i] - level * shadows[0, i]
        if has_trend:
            value -= trend * shadows[1, i]
        for j in range(i + 1, width):
            value -= factor[i, j] * coefficients[j]
        coefficients[i] = value / factor[i, i]
    states[0] = level
    states[1] = trend
    for k in range(width // 2):
        back = 1.0 / turning[k]
        of_trend = beta / (1.0 - phi * back) if has_trend else 0.0j
        gain = (1.0 - back) / (1.0 - (1.0 - alpha) * back + phi * back * of_trend)
        # a sin + d cos = Re[(d - i a)(cos + i sin)]
        own = complex(coefficients[2 * k + 1], -coefficients[2 * k]) / gain
        coefficients[2 * k] = -own.imag
        coefficients[2 * k + 1] = own.real
        before = own * first[k] * back
        states[0] -= (before * (1.0 - (1.0 - alpha) * gain)).real
        states[1] -= (before * of_trend * gain).real
        log_det[0] += 2.0 * math.log(gain.real * gain.real + gain.imag * gain.imag)
