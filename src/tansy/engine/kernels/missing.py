"""The Kalman filter of an ARIMA process whose levels are missing here and there.

The state is that of the ARMA process, a [r] (see `arma`), and those levels among the last `lost` that are missing, each
in a place of its own; levels that were observed are known and need no place. With delta the difference polynomial,

    y_t = a_t[0] + sum of delta_k y_{t-k},

a level that is missing takes its mean and its covariances from the state, is seen better as later values come, and goes
when no difference reaches it any more (Harvey 1989, section 3.4; Ansley, Kohn 1985). Given the first `lost` levels the
likelihood is that of the values observed, exactly. Where nothing is missing in reach and the covariance has settled,
a step costs no more than the recursion without gaps.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.arma import add_scaled
from tansy.engine.kernels.least_squares import copy_into
from tansy.engine.kernels.options import BORROWING, PART


@njit(**BORROWING)
def most_missing(seen, lost):
    """Most values missing among `lost` in a row, those before the first difference left out."""
    most = 0
    inside = 0
    for t in range(lost, len(seen)):
        inside += 1 if seen[t] == 0.0 else 0
        if t >= 2 * lost:
            inside -= 1 if seen[t - lost] == 0.0 else 0
        most = max(most, inside)
    return most if lost > 0 else 0


@njit(**BORROWING)
def stationary_covariance(room, covariance):
    """State covariance [r, r] before the first value, from its first column, which `set_process` left in `room`.

    P = T P T' + R R' gives each element from the one after it on its diagonal.
    """
    r, phi, theta, column = room.r, room.phi, room.theta, room.column
    for j in range(r):
        covariance[0, j] = column[j]
        covariance[j, 0] = column[j]
    for i in range(r - 1, 0, -1):
        for j in range(r - 1, 0, -1):
            value = phi[i] * phi[j] * column[0] + theta[i - 1] * theta[j - 1]
            if j + 1 < r:
                value += phi[i] * covariance[0, j + 1] + (phi[j] * covariance[i + 1, 0] if i + 1 < r else 0.0)
                value += covariance[i + 1, j + 1] if i + 1 < r else 0.0
            elif i + 1 < r:
                value += phi[j] * covariance[i + 1, 0]
            covariance[i, j] = value


@njit(**BORROWING)
def _noise_alone(room, covariance):
    """The covariance once all of the past is known: that of the next innovation."""
    r, theta = room.r, room.theta
    for i in range(r):
        of_i = 1.0 if i == 0 else theta[i - 1]
        for j in range(r):
            covariance[i, j] = of_i * (1.0 if j == 0 else theta[j - 1])


@njit(**BORROWING)
def _apart_from_noise(room, covariance, enough):
    """Whether anything but the next innovation is left in doubt."""
    r, theta = room.r, room.theta
    if not covariance[0, 0] - 1.0 < enough:
        return True
    for i in range(r):
        of_i = 1.0 if i == 0 else theta[i - 1]
        if not covariance[i, i] - of_i * of_i < enough:
            return True
    return False


@njit(**BORROWING)
def _less_shifted(target, source, share, gain):
    """target = source - share gain, both read from their second element on; the last element is 0."""
    last = np.uint64(len(target) - 1)
    one = np.uint64(1)
    for j in range(last):
        target[j] = source[j + one] - share * gain[j + one]
    target[last] = 0.0


@njit(**BORROWING)
def _less(target, source, share, gain):
    for j in range(np.uint64(len(target))):
        target[j] = source[j] - share * gain[j]


@njit(**BORROWING)
def _moved_on(covariance, following, gain, f, room, observed):
    """Covariance of the next state from that of this one, into `following`; gain: covariances of y_t with the state."""
    r, phi, theta, phi_lags, theta_lags = room.r, room.phi, room.theta, room.phi_lags, room.theta_lags
    size = len(gain)
    share = 1.0 / f if observed else 0.0
    own, others = gain[:r], gain[r:]
    for i in range(size):
        source = i + 1 if i < r else i
        if source == r and i < r:
            following[i] = 0.0
            continue
        _less_shifted(following[i, :r], covariance[source, :r], gain[source] * share, own)
        _less(following[i, r:], covariance[source, r:], gain[source] * share, others)
    following[0, 0] += 1.0
    for lag in theta_lags:
        if lag < r:
            following[lag, 0] += theta[lag - 1]
            following[0, lag] += theta[lag - 1]
            for other in theta_lags:
                if other < r:
                    following[lag, other] += theta[lag - 1] * theta[other - 1]
    first = gain[0] * share
    for lag in phi_lags:
        i, weight = lag - 1, phi[lag - 1]
        for j in range(size):
            k = j if j >= r else j + 1
            if k == r and j < r:
                continue
            both = weight * (covariance[0, k] - first * gain[k])
            following[i, j] += both
            following[j, i] += both
        for other in phi_lags:
            following[i, other - 1] += weight * phi[other - 1] * (covariance[0, 0] - first * gain[0])


@njit(**BORROWING)
def missing_innovations(levels, seen, polynomial, lags, room, settled, ahead, errors, spread, filtering):
    """What `arma.innovations` does, from the levels [rows, length] of which those with `seen` 0 are missing after the
    first `lost`: errors [rows, n] of theirs 0, and no part in the sum of log F. Their levels are overwritten by what
    the values up to the last within reach say of them.

    filtering: (covariances [2, s, s], of which the first is left at the state after the last value, gain [s], place ->
    period of the missing level in it, -1 for none).
    """
    r, phi, theta, phi_lags, theta_lags = room.r, room.phi, room.theta, room.phi_lags, room.theta_lags
    covariances, gain, place = filtering
    rows, length = levels.shape
    lost = len(polynomial)
    size = len(gain)
    now = 0
    ahead[:] = 0.0
    covariances[:] = 0.0
    place[:] = -1
    stationary_covariance(room, covariances[0])
    n_open = 0
    steady = False
    log_f = 0.0
    product = 1.0
    for t in range(lost, length):
        u = t - lost
        observed = seen[t] > 0.0
        if steady and observed:
            spread[u] = 1.0
            for c in range(rows):
                expected = ahead[c, u]
                for k in lags:
                    expected += polynomial[k - 1] * levels[c, t - k]
                v = levels[c, t] - expected
                errors[c, u] = v
                here = ahead[c, u] + v
                for j in theta_lags:
                    ahead[c, u + j] += theta[j - 1] * v
                for j in phi_lags:
                    ahead[c, u + j] += phi[j - 1] * here
            continue
        covariance = covariances[now]
        if steady:
            _noise_alone(room, covariance)
            steady = False
        for i in range(size):
            gain[i] = covariance[0, i]
        for g in range(len(place)):
            weight = polynomial[t - 1 - place[g]] if place[g] >= 0 else 0.0
            if weight != 0.0:
                for i in range(size):
                    gain[i] += weight * covariance[r + g, i]
        f = gain[0]
        for g in range(len(place)):
            weight = polynomial[t - 1 - place[g]] if place[g] >= 0 else 0.0
            f += weight * gain[r + g]
        spread[u] = math.sqrt(f)
        for g in range(len(place)):  # no later difference reaches this one
            if place[g] >= 0 and place[g] == t - lost:
                place[g] = -1
                n_open -= 1
                gain[r + g] = 0.0
                for i in range(size):
                    covariance[r + g, i] = 0.0
                    covariance[i, r + g] = 0.0
        if observed:
            product *= f
            if product > 1e100:
                log_f += math.log(product)
                product = 1.0
        new = -1
        if not observed and lost > 0:
            new = 0
            while place[new] >= 0:
                new += 1
        for c in range(rows):
            expected = ahead[c, u]
            for k in lags:
                expected += polynomial[k - 1] * levels[c, t - k]
            v = 0.0
            if observed:
                v = (levels[c, t] - expected) / f
                add_scaled(ahead, c, u, v, gain[:r])
                for g in range(len(place)):
                    if place[g] >= 0:
                        levels[c, place[g]] += v * gain[r + g]
            else:
                levels[c, t] = expected
            errors[c, u] = v * spread[u]
            for j in phi_lags:
                ahead[c, u + j] += phi[j - 1] * ahead[c, u]
        if new >= 0:
            place[new] = t
            n_open += 1
            for i in range(size):
                covariance[r + new, i] = gain[i]
                covariance[i, r + new] = gain[i]
            covariance[r + new, r + new] = f
        _moved_on(covariance, covariances[1 - now], gain, f, room, observed)
        now = 1 - now
        steady = n_open == 0 and not _apart_from_noise(room, covariances[now], settled)
    if steady:
        _noise_alone(room, covariances[0])
    elif now == 1:
        for i in range(size):
            copy_into(covariances[0, i], covariances[1, i])
    return log_f + math.log(product)


@njit(**BORROWING)
def run_on(state, path, lost, phi, polynomial):
    """Levels after the last without further errors: path [lost + ...], its first `lost` the last levels, is filled from
    there on. state [r + 1], its last element 0, is used up."""
    r = len(state) - 1
    for t in range(lost, len(path)):
        value = state[0]
        first = value
        for i in range(r):
            state[i] = phi[i] * first + state[i + 1]
        for k in range(lost):
            if polynomial[k] != 0.0:
                value += polynomial[k] * path[t - 1 - k]
        path[t] = value


@njit(**PART)
def doubt_ahead(length, polynomial, room, filtering, skipped, of_leads, of_sums):
    """Add to the variances of lead h and of the sum of leads 1..h, [H], in units of sigma squared, what the state
    after the last value leaves in doubt beside the next innovation."""
    r, phi, theta = room.r, room.phi, room.theta
    covariances, gain, place = filtering
    covariance = covariances[0]
    size, lost, horizon = len(gain), len(polynomial), len(of_leads)
    response = np.zeros((horizon, size))
    path = np.empty(lost + skipped + horizon)
    state = np.empty(r + 1)
    for c in range(size):
        state[:] = 0.0
        path[:] = 0.0
        if c < r:
            state[c] = 1.0
        elif place[c - r] >= 0:
            path[place[c - r] - length + lost] = 1.0
        else:
            continue
        run_on(state, path, lost, phi, polynomial)
        response[:, c] = path[lost + skipped :]
    summed = np.zeros(size)
    for h in range(horizon):
        summed += response[h]
        for which in range(2):
            x = response[h] if which == 0 else summed
            known = x[0]
            for i in range(1, r):
                known += theta[i - 1] * x[i]
            total = -known * known
            for i in range(size):
                for j in range(size):
                    total += x[i] * covariance[i, j] * x[j]
            if which == 0:
                of_leads[h] += max(total, 0.0)
            else:
                of_sums[h] += max(total, 0.0)
