"""Run smoothing with known weights and first states over a batch: errors, last states, forecasts, variances."""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import KERNEL
from tansy.engine.kernels.smoothing import MULTIPLICATIVE, add_missing, ahead, extent, follow, psi_sums, psi_weights


@njit(**KERNEL)
def apply_batch(
    values, regressors, which, relative, season, m, weights, states, coefficients,
    errors, last_states, forecast, variance, total_variance, statistics,
):  # fmt: skip
    """Run each row of `values` [series, T] through the form it has.

    regressors: [groups, T + H, k] and which: [series]. relative [series]: multiplicative errors. season [series]: 0, 1
    or 2; m its length. weights [series, 4], states [series, 2 + m] (NaN: the series is passed over), coefficients
    [series, k].
    Written, NaN where passed over: errors [series, T], y - mu, NaN where missing; last_states [series, 2 + m], season1
    belonging to the first period ahead; forecast [series, H]; variance and total_variance [series, H]: of the forecast
    error of lead h and of the sum of leads 1..h, for forms that are linear (NaN for others), with sigma2 = Q/n and all
    parameters known; statistics [series, 4]: log-likelihood, sigma2, n used, Q (of the relative errors where they are
    multiplicative).
    """
    n_series, length = values.shape
    horizon = forecast.shape[1]
    errors[:] = math.nan
    last_states[:] = math.nan
    forecast[:] = math.nan
    variance[:] = math.nan
    total_variance[:] = math.nan
    statistics[:] = math.nan
    for s in range(n_series):
        start, end, n_seen = extent(values[s])
        if math.isnan(weights[s, 0]) or n_seen == 0:
            continue
        own_m = m if season[s] > 0 else 0
        y = values[s, start:].copy()
        shift = np.zeros(length - start + horizon)
        for t in range(len(shift)):
            for i in range(coefficients.shape[1]):
                shift[t] += coefficients[s, i] * regressors[which[s], start + t, i]
        for t in range(len(y)):
            y[t] -= shift[t]
        run = np.empty((4, len(y)))
        seasonal = states[s, 2 : 2 + own_m].copy()
        level, trend = follow(y, season[s], own_m, weights[s], states[s, 0], states[s, 1], seasonal, run)
        if math.isnan(level):
            continue
        squares = 0.0
        size = 0.0
        logs = 0.0
        for t in range(len(y)):
            if math.isnan(y[t]):
                continue
            e = run[3, t]
            errors[s, start + t] = e
            size += values[s, start + t] * values[s, start + t]
            if relative[s]:
                mu = run[0, t] * run[1, t] if season[s] == MULTIPLICATIVE else run[0, t] + run[1, t]
                e /= mu
                logs += math.log(abs(mu))
            squares += e * e
        last_states[s, 0] = level
        last_states[s, 1] = trend
        for j in range(own_m):
            last_states[s, 2 + j] = seasonal[(len(y) + j) % own_m]
        ahead(season[s], own_m, weights[s], level, trend, seasonal, len(y), forecast[s])
        for h in range(horizon):
            forecast[s, h] += shift[len(y) + h]
        sigma2 = squares / n_seen
        tiny = 1e-24 if relative[s] else 1e-24 * (size / n_seen) + 1e-200
        statistics[s, 0] = -0.5 * n_seen * (math.log(2.0 * math.pi * max(sigma2, tiny)) + 1.0) - logs
        statistics[s, 1] = sigma2
        statistics[s, 2] = n_seen
        statistics[s, 3] = squares
        if relative[s] or season[s] == MULTIPLICATIVE:
            continue
        psi = np.empty(length - end + horizon)
        psi_weights(own_m, weights[s], psi)
        psi_sums(psi, length - end, variance[s], total_variance[s])
        add_missing(values[s, start:end], own_m, weights[s], length - end, variance[s], total_variance[s])
        variance[s] *= sigma2
        total_variance[s] *= sigma2
