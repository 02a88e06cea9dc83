"""The recursions of exponential smoothing, all 18 forms, and their derivatives.

With e = y - mu, additive and multiplicative errors have the same recursion; they differ in their likelihood alone
(write mu eps for e in Hyndman, Koehler, Ord, Snyder 2008, table 2.3). So there are nine recursions:

    q = l + phi b         without trend b = 0, without damping phi = 1
    S = N, A:  mu = q + s    l' = q + alpha e      b' = phi b + beta e      s' = s + gamma e
    S = M:     mu = q s      l' = q + alpha e/s    b' = phi b + beta e/s    s' = s + gamma e/q

A missing y counts e = 0. `season` says S: 0 none, 1 additive, 2 multiplicative; m its length, 0 without one. Weights
are (alpha, beta, gamma, phi); states (level, trend, season1..m) before the first period, season1 belonging to it.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import AS_WRITTEN, BORROWING, PART

ADDITIVE, MULTIPLICATIVE = 1, 2

LEAST_SHARE = 1e-6


_BEND = 0.1


@njit(**(BORROWING | AS_WRITTEN))
def _bent(share):
    """[0, 1] to itself, steep where it leaves zero like a root's inverse: the information on a weight grows like one
    over it (Harvey 1989, section 4.5), so that steps of one size suit small weights and large ones."""
    return (share * share + 2.0 * _BEND * share) / (1.0 + 2.0 * _BEND)


@njit(**(BORROWING | AS_WRITTEN))
def _bent_slope(share):
    return 2.0 * (share + _BEND) / (1.0 + 2.0 * _BEND)


@njit(**(BORROWING | AS_WRITTEN))
def weights_from_shares(shares, fixed, has_trend, damped, season, weights):
    """Numbers between 0 and 1 -> weights, in the region of `methods.md`.

    shares: one for each weight that the form has and that is NaN in `fixed` [4], in the order of the weights. Where
    both are free, alpha takes its share of what lies above beta, not beta of alpha: the likelihood often hardly
    changes with alpha while beta stays, and a search follows a straight valley faster than a bent one.
    """
    free_alpha = math.isnan(fixed[0])
    i = 1 if free_alpha else 0
    weights[1] = 0.0
    if has_trend:
        weights[1] = fixed[1]
        if math.isnan(fixed[1]):
            weights[1] = _bent(shares[i]) * (1.0 if free_alpha else fixed[0])
            i += 1
    weights[0] = fixed[0]
    if free_alpha:
        weights[0] = weights[1] + (1.0 - weights[1]) * _bent(shares[0])
    weights[2] = 0.0
    if season > 0:
        weights[2] = fixed[2]
        if math.isnan(fixed[2]):
            weights[2] = (1.0 - weights[0]) * _bent(shares[i])
            i += 1
    weights[3] = 1.0 if has_trend else 0.0
    if damped:
        weights[3] = fixed[3]
        if math.isnan(fixed[3]):
            weights[3] = 0.8 + 0.18 * shares[i]


@njit(**(BORROWING | AS_WRITTEN))
def share_directions(shares, fixed, weights, has_trend, damped, season, directions):
    """Derivatives of the weights by the shares, [shares, 4]; see `weights_from_shares`."""
    directions[:] = 0.0
    free_alpha = math.isnan(fixed[0])
    i = 1 if free_alpha else 0
    if free_alpha:
        directions[0, 0] = (1.0 - weights[1]) * _bent_slope(shares[0])
    if has_trend and math.isnan(fixed[1]):
        directions[i, 1] = _bent_slope(shares[i]) * (1.0 if free_alpha else fixed[0])
        if free_alpha:
            directions[i, 0] = directions[i, 1] * (1.0 - _bent(shares[0]))
        i += 1
    if season > 0 and math.isnan(fixed[2]):
        share = _bent(shares[i])
        directions[i, 2] = (1.0 - weights[0]) * _bent_slope(shares[i])
        for k in range(i):
            directions[k, 2] = -share * directions[k, 0]
        i += 1
    if damped and math.isnan(fixed[3]):
        directions[i, 3] = 0.18


@njit(**(BORROWING | AS_WRITTEN))
def log_prior(shares, fixed, weights, has_trend, season):
    """Log density over the shares of weights that are uniform in the ranges open to them: alpha below 1, beta below
    alpha, gamma below 1 - alpha, phi between its bounds; but for a constant."""
    free_alpha = math.isnan(fixed[0])
    total = 0.0
    i = 0
    if free_alpha:
        total += math.log(_bent_slope(shares[0]))
        i = 1
    if has_trend and math.isnan(fixed[1]):
        total += math.log(_bent_slope(shares[i]))
        if free_alpha:
            total += math.log((1.0 - weights[1]) / weights[0])
        i += 1
    if season > 0 and math.isnan(fixed[2]):
        total += math.log(_bent_slope(shares[i]))
    return total


@njit(**(BORROWING | AS_WRITTEN))
def follow(y, season, m, weights, level, trend, seasonal, path):
    """Run the recursion over y [n], NaN missing. Returns the states after the last period (level, trend).

    seasonal: [m], changed in place; slot t mod m belongs to period t. path: [4, n], written: q, s, b before the
    period, and e (0 where missing). Where a multiplicative form would meet a level or season that is not positive, the
    level returned is NaN.
    """
    alpha, beta, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    # With r = y - s, or y / s, all forms move alike: q' = l' + phi b' = (1 - alpha - phi beta) q + (phi d +
    # (alpha + phi beta) r), where d = phi b. Written so, a period waits for one operation on q and two on d; level and
    # trend themselves, and what the season takes, are off that path.
    of_q, of_rest, damped_beta = 1.0 - alpha - phi * beta, alpha + phi * beta, phi * beta
    d = phi * trend
    q = level + d
    j = 0
    for t in range(len(y)):
        s = seasonal[j] if m > 0 else 0.0
        path[0, t] = q
        path[1, t] = s
        path[2, t] = trend
        if season == MULTIPLICATIVE and not (q > 0.0 and s > 0.0):
            return math.nan, math.nan
        if math.isnan(y[t]):
            path[3, t] = 0.0
            level = q
            trend = d
            d *= phi
            q += d
        else:
            if season == MULTIPLICATIVE:
                rest = y[t] / s
                e = y[t] - q * s
                seasonal[j] = s + gamma * e / q
            else:
                rest = y[t] - s
                e = rest - q
                if m > 0:
                    seasonal[j] = s + gamma * e
            path[3, t] = e
            level = (1.0 - alpha) * q + alpha * rest
            trend = d + beta * (rest - q)
            d *= phi
            after = of_q * q + (d + of_rest * rest)
            d -= damped_beta * (q - rest)
            q = after
        j += 1
        if j >= m:
            j = 0
    return level, trend


@njit(**(BORROWING | AS_WRITTEN))
def follow_back(y, season, m, weights, path, pull, by_weight, by_state):
    """Gradient of an objective by weights [4] and first states [2 + m], from its derivatives `pull` [n] by mu.

    The adjoint of `follow`: one pass from the last period to the first. path: as `follow` left it. by_state holds the
    sensitivities to the states after the last period on entry (zero where the objective knows them not).
    """
    alpha, beta, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    n = len(y)
    to_level = by_state[0]
    to_trend = by_state[1]
    of_alpha = 0.0
    of_beta = 0.0
    of_gamma = 0.0
    of_phi = 0.0
    j = (n - 1) % m if m > 0 else 0
    for t in range(n - 1, -1, -1):
        if math.isnan(y[t]):
            to_q = to_level
            to_d = to_trend + to_q
        else:
            # as in `follow`, what waits for the period after is one operation on to_level and two on to_trend
            shock = path[3, t]
            at_mu = pull[t]
            if m > 0:
                to_season = by_state[2 + j]
                both = alpha * to_level + beta * to_trend
                if season == MULTIPLICATIVE:
                    by_q = 1.0 / path[0, t]
                    by_s = 1.0 / path[1, t]
                    of_gamma += to_season * shock * by_q
                    by_state[2 + j] = (1.0 - gamma) * to_season + at_mu * path[0, t] - both * y[t] * by_s * by_s
                    shock *= by_s
                    at_mu = at_mu * path[1, t] - gamma * to_season * y[t] * by_q * by_q
                else:
                    of_gamma += to_season * shock
                    by_state[2 + j] = (1.0 - gamma) * to_season + at_mu - both
                    at_mu -= gamma * to_season
            of_alpha += to_level * shock
            of_beta += to_trend * shock
            to_q = (1.0 - alpha) * to_level + (at_mu - beta * to_trend)
            to_d = (1.0 - alpha) * to_level + (at_mu + (1.0 - beta) * to_trend)
        of_phi += path[2, t] * to_d
        to_trend = phi * to_d
        to_level = to_q
        j -= 1
        if j < 0:
            j = m - 1
    by_state[0] = to_level
    by_state[1] = to_trend
    by_weight[0] = of_alpha
    by_weight[1] = of_beta
    by_weight[2] = of_gamma
    by_weight[3] = of_phi


@njit(**(BORROWING | AS_WRITTEN))
def follow_columns(inputs, seen, m, weights, level, trend, season, errors):
    """Additive forms over many input columns at once; states are changed in place to those after the last period.

    inputs: [n, columns]. seen: [n], 1 where observed, 0 where missing. level, trend: [columns]. season: [m, columns].
    errors: [n, columns], written. The recursion is linear in what it is fed, so that a unit of each unknown state and
    each regressor, fed beside the series, gives errors from which the unknowns follow by least squares. The columns
    advance in lockstep: the processor works on several of them per instruction.
    """
    alpha, beta, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    n, columns = inputs.shape
    j = 0
    for t in range(n):
        weight = seen[t]
        for k in range(columns):
            damped = phi * trend[k]
            base = level[k] + damped
            s = season[j, k] if m > 0 else 0.0
            e = weight * (inputs[t, k] - base - s)
            errors[t, k] = e
            level[k] = base + alpha * e
            trend[k] = damped + beta * e
            if m > 0:
                season[j, k] = s + gamma * e
        j += 1
        if j >= m:
            j = 0


@njit(**(PART | AS_WRITTEN))
def sensitivities(y, season, m, weights, path, of_weights, of_states, slopes):
    """Derivatives of mu by each of K directions in weights and first states, slopes [K, n].

    of_weights: [K, 4], of_states: [2 + m, K]; both say where a unit of each direction leads. path: from `follow`.
    """
    alpha, beta, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    n = len(y)
    columns = of_weights.shape[0]
    level = of_states[0].copy()
    trend = of_states[1].copy()
    seasonal = of_states[2:].copy()
    j = 0
    for t in range(n):
        e = path[3, t]
        b = path[2, t]
        seen = 0.0 if math.isnan(y[t]) else 1.0
        if season == MULTIPLICATIVE:
            q = path[0, t]
            s = path[1, t]
            by_s = 1.0 / s
            by_q = 1.0 / q
            for k in range(columns):
                damped = phi * trend[k] + of_weights[k, 3] * b
                dq = level[k] + damped
                ds = seasonal[j, k]
                dmu = dq * s + q * ds
                slopes[k, t] = dmu
                de = -seen * dmu
                shock = (de - e * ds * by_s) * by_s
                level[k] = dq + of_weights[k, 0] * e * by_s + alpha * shock
                trend[k] = damped + of_weights[k, 1] * e * by_s + beta * shock
                seasonal[j, k] = ds + of_weights[k, 2] * e * by_q + gamma * (de - e * dq * by_q) * by_q
        else:
            for k in range(columns):
                damped = phi * trend[k] + of_weights[k, 3] * b
                dq = level[k] + damped
                ds = seasonal[j, k] if m > 0 else 0.0
                dmu = dq + ds
                slopes[k, t] = dmu
                de = -seen * dmu
                level[k] = dq + of_weights[k, 0] * e + alpha * de
                trend[k] = damped + of_weights[k, 1] * e + beta * de
                if m > 0:
                    seasonal[j, k] = ds + of_weights[k, 2] * e + gamma * de
        j += 1
        if j >= m:
            j = 0


@njit(**(BORROWING | AS_WRITTEN))
def ahead(season, m, weights, level, trend, seasonal, n, value):
    """Forecast means of the recursion run on without errors; n: periods passed, so that leads find their season."""
    damping = 0.0
    power = 1.0
    for h in range(len(value)):
        power *= weights[3]
        damping += power
        q = level + damping * trend
        s = seasonal[(n + h) % m] if m > 0 else 0.0
        value[h] = q * s if season == MULTIPLICATIVE else q + s


@njit(**(BORROWING | AS_WRITTEN))
def psi_weights(m, weights, psi):
    """psi [H]: what an error adds to the period h after it, in the forms that are linear; psi[0] = 1."""
    damping = 0.0
    power = 1.0
    psi[0] = 1.0
    for h in range(1, len(psi)):
        power *= weights[3]
        damping += power
        psi[h] = weights[0] + weights[1] * damping
        if m > 0 and h % m == 0:
            psi[h] += weights[2]


@njit(**(PART | AS_WRITTEN))
def psi_sums(psi, skipped, of_leads, of_sums):
    """Variances in units of sigma squared of lead h and of the sum of leads 1..h, [H], the parameters known.

    psi: [skipped + H]; `skipped` periods without a value lie between the last one and the first lead.
    """
    horizon = len(of_leads)
    each = 0.0
    together = 0.0
    so_far = np.zeros(len(psi) + 1)
    for j in range(len(psi)):
        so_far[j + 1] = so_far[j] + psi[j]
        each += psi[j] * psi[j]
        if j >= skipped:
            of_leads[j - skipped] = each
    for h in range(horizon):
        if skipped == 0:  # an error j periods before the last lead adds psi[0] + ... + psi[j] to the sum
            together += so_far[h + 1] * so_far[h + 1]
        else:
            together = 0.0
            for j in range(skipped + h + 1):
                added = so_far[j + 1] - so_far[max(0, j - h)]
                together += added * added
        of_sums[h] = together


@njit(**(BORROWING | AS_WRITTEN))
def count_shares(fixed, has_trend, damped, season):
    """How many weights of the form are not fixed."""
    n = 0
    if math.isnan(fixed[0]):
        n += 1
    if has_trend and math.isnan(fixed[1]):
        n += 1
    if season > 0 and math.isnan(fixed[2]):
        n += 1
    if damped and math.isnan(fixed[3]):
        n += 1
    return n


@njit(**(PART | AS_WRITTEN))
def add_missing(y, m, weights, skipped, of_leads, of_sums):
    """Add to the variances of `psi_sums` what the errors of periods that are missing in y [n] leave in doubt, in the
    forms that are linear; the last of y is not missing.

    An error that was not seen moves the true states away from those of the recursion, which takes it for zero; every
    value seen afterwards draws these after them.
    """
    n = len(y)
    seasonal = np.zeros(m)
    moved = np.empty(skipped + len(of_leads))
    for missing in range(n):
        if not math.isnan(y[missing]):
            continue
        level, trend = weights[0], weights[1]
        seasonal[:] = 0.0
        if m > 0:
            seasonal[missing % m] = weights[2]
        for t in range(missing + 1, n):
            trend *= weights[3]
            level += trend
            if not math.isnan(y[t]):
                e = -(level + (seasonal[t % m] if m > 0 else 0.0))
                level += weights[0] * e
                trend += weights[1] * e
                if m > 0:
                    seasonal[t % m] += weights[2] * e
        ahead(0, m, weights, level, trend, seasonal, n, moved)
        together = 0.0
        for h in range(len(of_leads)):
            together += moved[skipped + h]
            of_leads[h] += moved[skipped + h] * moved[skipped + h]
            of_sums[h] += together * together


@njit(**(BORROWING | AS_WRITTEN))
def extent(y):
    """First and last observed position (half open) and the number of observed values."""
    start = 0
    n = len(y)
    while start < n and math.isnan(y[start]):
        start += 1
    seen = 0
    end = start
    for t in range(start, n):
        if not math.isnan(y[t]):
            seen += 1
            end = t + 1
    return start, end, seen


@njit(**(BORROWING | AS_WRITTEN))
def states_from(point, first, fixed_states, has_trend, season, m, states):
    """Free numbers from `first` on -> (level, trend, season1..m); an additive season sums to 0, the other to m. Returns
    how many were read."""
    c = first
    states[0] = fixed_states[0]
    if math.isnan(fixed_states[0]):
        states[0] = point[c]
        c += 1
    states[1] = 0.0
    if has_trend:
        states[1] = fixed_states[1]
        if math.isnan(fixed_states[1]):
            states[1] = point[c]
            c += 1
    if m == 0:
        return c - first
    if not math.isnan(fixed_states[2]):
        for j in range(m):
            states[2 + j] = fixed_states[2 + j]
        return c - first
    last = float(m) if season == MULTIPLICATIVE else 0.0
    for j in range(m - 1):
        states[2 + j] = point[c + j]
        last -= point[c + j]
    states[1 + m] = last
    return c + m - 1 - first


@njit(**(BORROWING | AS_WRITTEN))
def observed_mean(y):
    """Mean of what is not NaN; zero of nothing."""
    total = 0.0
    seen = 0
    for value in y:
        if not math.isnan(value):
            total += value
            seen += 1
    return total / max(seen, 1)
