"""What a search for orders looks at before and after fits: which models promise something, and which may not stand."""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.arma import partials_from_coefficients
from tansy.engine.kernels.least_squares import back_substitute, cholesky, normal_matrix
from tansy.engine.kernels.options import BORROWING, PART

_FARTHEST_ROOT = 0.99
_CANCELLING = 0.05


@njit(**PART)
def _near_circle(coefficients, partials):
    """Whether a reciprocal root of 1 - c_1 B - ... is farther out than `_FARTHEST_ROOT`.

    The roots of the polynomial with c_i / f^i are those of the first over f; whether all lie inside the unit circle
    shows in its partial autocorrelations.
    """
    scaled = np.empty(len(coefficients))
    power = 1.0
    for i in range(len(coefficients)):
        power /= _FARTHEST_ROOT
        scaled[i] = coefficients[i] * power
    return len(scaled) > 0 and not partials_from_coefficients(scaled, partials)


@njit(**PART)
def _reciprocal_roots(coefficients, sign):
    """Of 1 - sign (c_1 B + c_2 B^2 + ...): by their formula up to the second degree, else the eigenvalues of the
    companion matrix."""
    n = len(coefficients)
    if n <= 2:
        found = np.empty(n, dtype=np.complex128)
        first = sign * coefficients[0]
        if n == 1:
            found[0] = first
            return found
        root = np.sqrt(complex(0.25 * first * first + sign * coefficients[1], 0.0))
        found[0] = 0.5 * first + root
        found[1] = 0.5 * first - root
        return found
    companion = np.zeros((n, n), dtype=np.complex128)
    for i in range(n):
        companion[0, i] = sign * coefficients[i]
        if i + 1 < n:
            companion[i + 1, i] = 1.0
    return np.linalg.eigvals(companion)


@njit(**PART)
def _cancels(ar, ma):
    """Whether a reciprocal root of phi lies next to one of theta, so that the factors all but cancel."""
    p, q = len(ar), len(ma)
    if p == 0 or q == 0:
        return False
    if p == 1 and q == 1:
        return abs(ar[0] + ma[0]) < _CANCELLING
    of_phi = _reciprocal_roots(ar, 1.0)
    of_theta = _reciprocal_roots(ma, -1.0)
    for i in range(p):
        for j in range(q):
            if abs(of_phi[i] - of_theta[j]) < _CANCELLING:
                return True
    return False


@njit(**PART)
def refusal(coefficients, orders, partials):
    """0 where a model may stand, else why not."""
    p, q, sp, _, _ = orders
    ar, ma = coefficients[:p], coefficients[p : p + q]
    sar, sma = coefficients[p + q : p + q + sp], coefficients[p + q + sp :]
    if _near_circle(ar, partials) or _near_circle(sar, partials):
        return 1
    if _cancels(ar, ma) or _cancels(sar, sma):
        return 2
    return 0


@njit(**PART)
def without(y, x):
    """y [n], NaN missing, less what least squares on a constant and x [n, k] gives to x."""
    n, k = x.shape
    if k == 0:
        return y
    rows = np.zeros((k + 2, n))
    for t in range(n):
        if not math.isnan(y[t]):
            rows[0, t] = 1.0
            rows[1 : k + 1, t] = x[t]
            rows[k + 1, t] = y[t]
    gram = np.zeros((k + 2, k + 2))
    dropped = np.zeros(k + 2, dtype=np.bool_)
    solution = np.zeros(k + 1)
    normal_matrix(rows, n, gram)
    cholesky(gram, k + 1, dropped)
    back_substitute(gram, k + 1, k + 1, dropped, solution)
    left = y.copy()
    for i in range(k):
        for t in range(n):
            left[t] -= solution[i + 1] * x[t, i]
    return left


@njit(**PART)
def screened(w, residuals, most, m, best):
    """The models with the least criterion of Hannan and Rissanen (1982), best [count, 4] written: w is regressed on its
    own past and on that of the guessed innovations, at the lags of the factors alone. All models share one normal
    matrix, so that hundreds of them cost as much as a few likelihoods. Returns how many were found."""
    p, q, sp, sq, together = most.p, most.q, most.sp, most.sq, most.together
    if len(w) - m * max(sp, sq) < 30:
        sp, sq = 0, 0
    first = max(max(p, q), m * max(sp, sq))
    n = len(w) - first
    total = p + q + sp + sq
    if n < 20:
        return 0
    rows = np.empty((total + 1, n))
    for i in range(total + 1):
        lag = i + 1 if i < p else i - p + 1 if i < p + q else (i - p - q + 1) * m
        lag = lag if i < p + q + sp else (i - p - q - sp + 1) * m
        of_past = i < p or p + q <= i < p + q + sp
        lag = 0 if i == total else lag
        source = w if of_past or i == total else residuals
        for t in range(n):
            rows[i, t] = source[first + t - lag]
    gram = np.zeros((total + 1, total + 1))
    normal_matrix(rows, n, gram)
    chosen = np.empty(together + 1, dtype=np.int64)
    factor = np.empty((together + 1, together + 1))
    criteria = np.full(len(best), math.inf)
    found = 0
    for a in range(p + 1):
        for b in range(q + 1):
            for c in range(sp + 1):
                for d in range(sq + 1):
                    k = a + b + c + d
                    if k > together:
                        continue
                    for i in range(a):
                        chosen[i] = i
                    for i in range(b):
                        chosen[a + i] = p + i
                    for i in range(c):
                        chosen[a + b + i] = p + q + i
                    for i in range(d):
                        chosen[a + b + c + i] = p + q + sp + i
                    chosen[k] = total
                    left = _left_over(gram, chosen, k, factor)
                    room = n - k - 2.0
                    if not left > 0.0 or room <= 0.0:
                        continue
                    value = n * math.log(left) + 2.0 * k + 2.0 * (k + 1.0) * (k + 2.0) / room
                    if value >= criteria[len(best) - 1]:
                        continue
                    at = len(best) - 1
                    while at > 0 and criteria[at - 1] > value:
                        criteria[at] = criteria[at - 1]
                        best[at] = best[at - 1]
                        at -= 1
                    criteria[at] = value
                    best[at, 0], best[at, 1], best[at, 2], best[at, 3] = a, b, c, d
                    found = min(found + 1, len(best))
    return found


@njit(**BORROWING)
def _left_over(gram, chosen, k, factor):
    """Sum of squares that is left of row chosen[k] after the k rows before it, from their normal matrix."""
    for i in range(k + 1):
        for j in range(i + 1):
            high, low = max(chosen[i], chosen[j]), min(chosen[i], chosen[j])
            value = gram[high, low]
            for c in range(j):
                value -= factor[i, c] * factor[j, c]
            if j < i:
                factor[i, j] = value / factor[j, j]
            elif i < k:
                if not value > 1e-11 * gram[high, low]:
                    return -1.0
                factor[i, i] = math.sqrt(value)
            else:
                return value
    return -1.0
