"""The Kalman filter of an ARMA process over many input columns at once, and its parametrisation.

The recursion is linear in what it is fed. Feeding it the series, each unknown and each regressor as columns side by
side gives errors from which the unknowns follow by least squares. The columns advance in lockstep, so that the
processor works on several of them per instruction.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import KERNEL


@njit(**KERNEL)
def stationary_covariance(ar, ma, covariance):
    """State covariance of an ARMA process before the first observation, innovations of variance 1, by doubling.

    The sum over k of A^k R R' A'^k with A the companion matrix; each pass doubles the number of terms.
    """
    r = covariance.shape[0]
    a = np.zeros((r, r))
    for i in range(r):
        a[i, 0] = ar[i] if i < len(ar) else 0.0
        if i + 1 < r:
            a[i, i + 1] = 1.0
    for i in range(r):
        ri = 1.0 if i == 0 else (ma[i - 1] if i - 1 < len(ma) else 0.0)
        for j in range(r):
            rj = 1.0 if j == 0 else (ma[j - 1] if j - 1 < len(ma) else 0.0)
            covariance[i, j] = ri * rj
    for _ in range(40):
        added = a @ covariance @ a.T
        largest = 0.0
        for i in range(r):
            for j in range(r):
                covariance[i, j] += added[i, j]
                largest = max(largest, abs(added[i, j]))
        if largest <= 1e-15 * covariance[0, 0]:
            break
        a = a @ a


@njit(**KERNEL)
def arma_errors(inputs, seen, ar, ma, state, errors, spread):
    """Innovations of a stationary ARMA process by the Kalman filter, over all columns; returns sum of log F.

    inputs: [n, columns]. seen: [n], 0 where missing (integrated out exactly).
    state: [r, columns] with r = max(p, q + 1), zero on entry, on exit the state predicted for the period after the
    last. errors: [n, columns], written: innovations divided by sqrt(F), 0 where missing.
    spread: [n], written: sqrt(F), the standard deviation of each innovation in units of sigma.
    Harvey (1989), section 3.4, in the companion form. Once F has settled at 1 the gains are held.
    """
    n, columns = inputs.shape
    r = state.shape[0]
    p = len(ar)
    q = len(ma)
    phi = np.zeros(r)
    impulse = np.zeros(r)
    impulse[0] = 1.0
    for i in range(p):
        phi[i] = ar[i]
    for i in range(q):
        impulse[i + 1] = ma[i]
    covariance = np.empty((r, r))
    stationary_covariance(ar, ma, covariance)
    following = np.empty((r, r))
    gain = np.zeros(r)
    settled = False
    log_f = 0.0
    f = 1.0
    root = 1.0
    for t in range(n):
        observed = seen[t] > 0.0
        if observed and not settled:
            f = covariance[0, 0]
            root = math.sqrt(f)
            for i in range(r):
                shifted = covariance[i + 1, 0] if i + 1 < r else 0.0
                gain[i] = (phi[i] * f + shifted) / f
        if observed:
            log_f += math.log(f) if not settled else 0.0
            spread[t] = root
            inverse = 1.0 / root
            for k in range(columns):
                v = inputs[t, k] - state[0, k]
                errors[t, k] = v * inverse
                first = state[0, k]
                for i in range(r - 1):
                    state[i, k] = phi[i] * first + state[i + 1, k] + gain[i] * v
                state[r - 1, k] = phi[r - 1] * first + gain[r - 1] * v
        else:
            spread[t] = math.nan
            settled = False
            for k in range(columns):
                errors[t, k] = 0.0
                first = state[0, k]
                for i in range(r - 1):
                    state[i, k] = phi[i] * first + state[i + 1, k]
                state[r - 1, k] = phi[r - 1] * first
        if settled:
            continue
        if observed and abs(f - 1.0) < 1e-12 and t >= r:
            settled = True
            f = 1.0
            root = 1.0
            continue
        for i in range(r):
            for j in range(r):
                value = phi[i] * phi[j] * covariance[0, 0] + impulse[i] * impulse[j]
                if j + 1 < r:
                    value += phi[i] * covariance[0, j + 1]
                if i + 1 < r:
                    value += phi[j] * covariance[i + 1, 0]
                    if j + 1 < r:
                        value += covariance[i + 1, j + 1]
                if observed:
                    value -= gain[i] * gain[j] * f
                following[i, j] = value
        for i in range(r):
            for j in range(r):
                covariance[i, j] = following[i, j]
    return log_f


@njit(**KERNEL)
def coefficients_from_partials(raw, coefficients):
    """Unbounded numbers -> partial autocorrelations (tanh) -> AR coefficients of a stationary process (Levinson)."""
    n = len(raw)
    previous = np.empty(n)
    for k in range(n):
        partial = math.tanh(raw[k])
        for i in range(k):
            previous[i] = coefficients[i]
        for i in range(k):
            coefficients[i] = previous[i] - partial * previous[k - 1 - i]
        coefficients[k] = partial
