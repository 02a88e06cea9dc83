"""ARMA processes: coefficients, autocovariances, and the innovations of several series by the exact recursion.

phi(B) = (1 - ar_1 B - ...)(1 - sar_1 B^m - ...), theta(B) = (1 + ma_1 B + ...)(1 + sma_1 B^m + ...). In the companion
form (Harvey 1989, section 3.4) the state a has r = max(degree of phi, degree of theta + 1) numbers,

    y_t = a_t[0],    a_{t+1}[i] = phi_{i+1} a_t[0] + a_t[i+1] + theta_i e_{t+1},    theta_0 = 1.

The covariance of the state changes by a matrix of rank one from step to step if it starts from the stationary one and
no value is missing (Morf, Sidhu, Kailath 1974; Pearlman 1980), so that a step of the filter costs r operations and not
r^2. Where values are missing, `missing.missing_innovations` does the full filter.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.least_squares import back_substitute, cholesky, copy_into, dots, less, normal_matrix
from tansy.engine.kernels.options import BORROWING, PART


@njit(**BORROWING)
def coefficients_from_partials(raw, coefficients):
    """Unbounded numbers -> partial autocorrelations (tanh) -> AR coefficients of a stationary process (Levinson)."""
    n = len(raw)
    for k in range(n):
        partial = math.tanh(raw[k])
        for i in range((k + 1) // 2):  # both ends at once, in place
            j = k - 1 - i
            first, last = coefficients[i], coefficients[j]
            coefficients[i] = first - partial * last
            if j != i:
                coefficients[j] = last - partial * first
        coefficients[k] = partial


@njit(**BORROWING)
def partials_from_coefficients(coefficients, partials):
    """The inverse, before atanh: partial autocorrelations [n]; False where the process is not stationary."""
    n = len(coefficients)
    for i in range(n):
        partials[i] = coefficients[i]
    for k in range(n - 1, -1, -1):
        partial = partials[k]
        left = 1.0 - partial * partial
        if not left > 0.0:
            return False
        for i in range((k + 1) // 2):
            j = k - 1 - i
            first, last = partials[i], partials[j]
            partials[i] = (first + partial * last) / left
            if j != i:
                partials[j] = (last + partial * first) / left
    return True


@njit(**BORROWING)
def multiplied(own, seasonal, m, sign, polynomial):
    """Coefficients at lags 1, 2, ... of the product of two factors, into `polynomial`; sign: of the cross terms, -1 for
    phi and +1 for theta."""
    polynomial[:] = 0.0
    for i in range(len(own)):
        polynomial[i] += own[i]
    for j in range(len(seasonal)):
        polynomial[(j + 1) * m - 1] += seasonal[j]
        for i in range(len(own)):
            polynomial[(j + 1) * m + i] += sign * own[i] * seasonal[j]


@njit(**PART)
def lags_of(n_own, n_seasonal, m):
    """Lags at which the product of two factors may differ from zero, ascending."""
    found = np.empty((n_own + 1) * (n_seasonal + 1) - 1, dtype=np.int64)
    c = 0
    for j in range(n_seasonal + 1):
        for i in range(n_own + 1):
            if i + j > 0:
                found[c] = j * m + i
                c += 1
    found.sort()
    return found


@njit(**BORROWING)
def autocovariances(phi, degree, phi_lags, predictors, gamma):
    """Autocovariances of an autoregression with innovations of variance 1, lags 0, 1, ... into `gamma`; False where it
    is not stationary.

    predictors: [degree, degree], scratch. Its best predictors of every order follow from the highest by Levinson's
    recursion backwards, and the autocovariances from those.
    """
    variance = 1.0
    for i in range(degree):
        predictors[degree - 1, i] = phi[i]
    for k in range(degree - 1, -1, -1):
        partial = predictors[k, k]
        left = 1.0 - partial * partial
        if not left > 1e-12:
            return False
        variance /= left
        inverse = 1.0 / left
        if k > 0:
            for i in range(k):
                predictors[k - 1, i] = (predictors[k, i] + partial * predictors[k, k - 1 - i]) * inverse
    gamma[0] = variance
    for k in range(1, len(gamma)):
        total = 0.0
        if k <= degree:
            for i in range(k):
                total += predictors[k - 1, i] * gamma[k - 1 - i]
        else:
            for j in phi_lags:
                total += phi[j - 1] * gamma[k - j]
        gamma[k] = total
    return True


class Room(NamedTuple):
    """A process, and room for its innovations over n periods.

    r: numbers of its state. phi, theta: [r], multiplied out, phi_lags, theta_lags: where they are not zero. first_gain,
    gain: [r]; steps: [n + r + 1]. variance: [1], of the first innovation; column: [r + 1], first one of the covariance.
    """

    r: int
    phi: Any
    theta: Any
    phi_lags: Any
    theta_lags: Any
    first_gain: Any
    gain: Any
    steps: Any
    variance: Any
    column: Any
    predictors: Any
    gamma: Any
    psi: Any


@njit(**PART)
def process(orders, n):
    """Room for a process of orders (p, q, P, Q, m) over n periods."""
    p, q, sp, sq, m = orders
    degree, ma_degree = p + sp * m, q + sq * m
    r = max(degree, ma_degree + 1)
    return Room(
        r, np.zeros(r), np.zeros(r), lags_of(p, sp, m), lags_of(q, sq, m), np.zeros(r), np.zeros(r),
        np.zeros(n + r + 1), np.zeros(1), np.zeros(r + 1), np.zeros((degree, degree)),
        np.zeros(degree + ma_degree + 1), np.zeros(ma_degree + 1),
    )  # fmt: skip


@njit(**BORROWING)
def set_process(orders, coefficients, room):
    """Fill `room` from coefficients (ar, ma, sar, sma); False where the process is not stationary."""
    p, q, sp, _, m = orders
    r, phi, theta, phi_lags, theta_lags = room.r, room.phi, room.theta, room.phi_lags, room.theta_lags
    gain, variance, column, psi = room.first_gain, room.variance, room.column, room.psi
    predictors, gamma = room.predictors, room.gamma
    multiplied(coefficients[:p], coefficients[p + q : p + q + sp], m, -1.0, phi)
    multiplied(coefficients[p : p + q], coefficients[p + q + sp :], m, 1.0, theta)
    degree = p + sp * m
    if not autocovariances(phi, degree, phi_lags, predictors, gamma):
        return False
    psi[0] = 1.0
    for k in range(1, len(psi)):
        value = theta[k - 1]
        for j in phi_lags:
            if j > k:
                break
            value += phi[j - 1] * psi[k - j]
        psi[k] = value
    # covariances of y_t with the state at t: sums of phi_j gamma_y(j - i) and of theta_j psi(j - i)
    for i in range(r + 1):
        column[i] = 0.0
    for j in theta_lags:
        for i in range(j + 1):
            column[i] += theta[j - 1] * psi[j - i]
    column[0] += 1.0
    if degree > 0:
        # gamma_y(k) = sum over i, j of theta_i theta_j gamma_x(k + i - j), x the autoregression alone
        for k in range(1, degree + 1):
            own = _moved(theta, theta_lags, gamma, k)
            for j in phi_lags:
                if j >= k:
                    column[j - k] += phi[j - 1] * own
    variance[0] = column[0]
    for i in range(r):
        gain[i] = phi[i] * column[0] + column[i + 1]
    return True


@njit(**BORROWING)
def _moved(theta, theta_lags, gamma, k):
    """Autocovariance at lag k after a moving average over a process with autocovariances `gamma`."""
    total = gamma[k]
    for i in theta_lags:
        total += theta[i - 1] * (gamma[k + i] + gamma[abs(k - i)])
        for j in theta_lags:
            total += theta[i - 1] * theta[j - 1] * gamma[abs(k + i - j)]
    return total


# Windows are addressed by unsigned numbers: a view of one costs as much as a short loop over it, and a number that may
# be negative keeps the compiler from working on several elements per instruction.


@njit(**BORROWING)
def _update_gain(steps, begin, gain, share, ratio):
    """One step of the covariance's change of rank one, phi's part being in `steps` already."""
    at = np.uint64(begin)
    for i in range(np.uint64(len(gain))):
        gain[i] += steps[at + i] * share
        steps[at + i] -= gain[i] * ratio


@njit(**BORROWING)
def add_scaled(target, row, begin, factor, source):
    at = np.uint64(begin)
    for i in range(np.uint64(len(source))):
        target[row, at + i] += factor * source[i]


@njit(**BORROWING)
def innovations(inputs, room, settled, ahead, errors, spread):
    """Innovations of every row of `inputs` [rows, n], complete; returns the sum of log F.

    errors: [rows, n], written: innovations divided by sqrt(F), F their variance in units of sigma squared. ahead:
    [rows, n + r + 1], written: what the past says about each period, so that from place n on it is the state after the
    last: the shift of the companion form is a window that moves along. spread: [n], written: sqrt(F). settled: gains
    are held once F and all that could move it are nearer to their limits than this.
    """
    r, phi, theta, phi_lags, theta_lags = room.r, room.phi, room.theta, room.phi_lags, room.theta_lags
    first_gain, gain, steps, variance = room.first_gain, room.gain, room.steps, room.variance
    rows, n = inputs.shape
    f = variance[0]
    inverse = 1.0 / f
    m = -inverse
    ahead[:] = 0.0
    steps[:] = 0.0
    copy_into(gain, first_gain)
    copy_into(steps, first_gain)
    log_f = 0.0
    product = 1.0
    t = 0
    while t < n:
        product *= f
        if product > 1e100:
            log_f += math.log(product)
            product = 1.0
        spread[t] = f
        for c in range(rows):
            expected = ahead[c, t]
            v = inputs[c, t] - expected
            errors[c, t] = v
            add_scaled(ahead, c, t + 1, v * inverse, gain)
            for j in phi_lags:
                ahead[c, t + j] += phi[j - 1] * expected
        first = steps[t]
        for j in phi_lags:
            steps[t + j] += phi[j - 1] * first
        following = f + first * first * m
        share = m * first
        m *= following * inverse
        inverse = 1.0 / following
        _update_gain(steps, t + 1, gain, share, first * inverse)
        f = following
        t += 1
        if f - 1.0 < settled:
            largest = 0.0
            for i in range(r):
                largest = max(largest, abs(steps[t + i]))
            if largest * largest * abs(m) < settled:
                break
    log_f += math.log(product)
    for i in range(t):
        spread[i] = math.sqrt(spread[i])
    for c in range(rows):
        for i in range(t):
            errors[c, i] /= spread[i]
    if t < n:
        spread[t:] = 1.0
        for c in range(rows):
            _without_phi(inputs[c], t, phi, phi_lags, ahead[c], errors[c])
        # A row waits for its own last value alone: four side by side take as long as one.
        c = 0
        if len(theta_lags) == 1 and theta_lags[0] == 1:
            while c + 3 < rows:
                _four_without_theta(theta[0], errors[c, t:], errors[c + 1, t:], errors[c + 2, t:], errors[c + 3, t:])
                c += 4
        while c < rows:
            _without_theta(theta, theta_lags, errors[c, t:])
            c += 1
        for c in range(rows):
            _look_ahead(inputs[c], t, phi, theta, phi_lags, theta_lags, ahead[c], errors[c])
    return log_f


@njit(**BORROWING)
def _without_phi(y, begin, phi, phi_lags, ahead, errors):
    """With gains at their limit: y_t less phi's part, which is there at once. `ahead` has what came before `begin`."""
    n = len(y)
    e, before, own = errors[begin:], ahead[begin:n], y[begin:]  # loops from zero on, which the compiler vectorises
    for t in range(len(e)):
        e[t] = own[t] - before[t]
    for j in phi_lags:
        less(e[j:], phi[j - 1], own[: max(len(own) - j, 0)])


@njit(**BORROWING)
def _four_without_theta(theta, a, b, c, d):
    """theta's part of four rows at lag 1, one period after the other."""
    e = f = g = h = 0.0
    for t in range(len(a)):
        e = a[t] - theta * e
        f = b[t] - theta * f
        g = c[t] - theta * g
        h = d[t] - theta * h
        a[t], b[t], c[t], d[t] = e, f, g, h


@njit(**BORROWING)
def _without_theta(theta, theta_lags, e):
    """theta's part, one period after the other."""
    if len(theta_lags) == 1 and theta_lags[0] == 1:
        last = 0.0
        for t in range(len(e)):
            last = e[t] - theta[0] * last
            e[t] = last
    elif len(theta_lags) == 2 and theta_lags[1] == 2:
        last = last_but_one = 0.0
        for t in range(len(e)):
            v = e[t] - theta[1] * last_but_one - theta[0] * last
            last_but_one = last
            last = v
            e[t] = v
    elif len(theta_lags) > 0:
        for t in range(len(e)):
            v = e[t]
            for j in theta_lags:
                if j > t:
                    break
                v -= theta[j - 1] * e[t - j]
            e[t] = v


@njit(**BORROWING)
def _look_ahead(y, begin, phi, theta, phi_lags, theta_lags, ahead, errors):
    """What the periods from `begin` on say about those after the last."""
    n = len(y)
    for j in phi_lags:
        for i in range(j):
            if n + i - j >= begin:
                ahead[n + i] += phi[j - 1] * y[n + i - j]
    for j in theta_lags:
        for i in range(j):
            if n + i - j >= begin:
                ahead[n + i] += theta[j - 1] * errors[n + i - j]


@njit(**PART)
def long_residuals(w, order):
    """Residuals of a long autoregression of w [n], by Yule and Walker: a first guess of the innovations."""
    n = len(w)
    order = max(0, min(order, n // 3))
    covariance = np.empty(order + 1)
    for k in range(order + 1):
        covariance[k] = dots(w[k:], w, n - k)
    a = np.zeros(order)
    residuals = w.copy()
    left = covariance[0]
    for k in range(order):
        if not left > 1e-12 * covariance[0]:
            break
        partial = covariance[k + 1]
        for i in range(k):
            partial -= a[i] * covariance[k - i]
        partial /= left
        for i in range((k + 1) // 2):
            j = k - 1 - i
            first, last = a[i], a[j]
            a[i] = first - partial * last
            if j != i:
                a[j] = last - partial * first
        a[k] = partial
        left *= 1.0 - partial * partial
    for j in range(order):
        less(residuals[j + 1 :], a[j], w[: n - j - 1])
    return residuals


@njit(**PART)
def first_guess(w, residuals, orders, raw):
    """Where a search may begin: regress w on its own past and on that of the residuals (Hannan, Rissanen 1982), both at
    the lags of the factors alone; what is not stationary or invertible is drawn towards zero until it is."""
    p, q, sp, sq, m = orders
    free = p + q + sp + sq
    first = max(max(p, q), m * max(sp, sq))
    n = len(w) - first
    if n < 2 * free + 5:
        raw[:] = 0.1
        return
    rows = np.empty((free + 1, n))
    for i in range(free + 1):
        of_past = i < p or p + q <= i < p + q + sp
        lag = i + 1 if i < p else i - p + 1 if i < p + q else (i - p - q + 1) * m
        lag = lag if i < p + q + sp else (i - p - q - sp + 1) * m
        source = w if of_past or i == free else residuals
        at = first if i == free else first - lag
        for t in range(n):
            rows[i, t] = source[at + t]
    gram = np.zeros((free + 1, free + 1))
    dropped = np.zeros(free, dtype=np.bool_)
    found = np.zeros(free)
    normal_matrix(rows, n, gram)
    cholesky(gram, free, dropped)
    back_substitute(gram, free, free, dropped, found)
    partials = np.empty(free)
    at = 0
    for factor in range(4):
        size = orders[factor]
        own = found[at : at + size]
        if factor % 2 == 1:
            own *= -1.0
        for _ in range(20):
            if partials_from_coefficients(own, partials):
                break
            for i in range(size):
                own[i] *= 0.9 ** (i + 1)
        for i in range(size):
            raw[at + i] = math.atanh(min(0.95, max(-0.95, partials[i])))
        at += size
