"""Seasonal naive, naive, drift and mean for a batch of series, with the variances of `methods.md`."""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import KERNEL

SEASONAL_NAIVE = 0
NAIVE = 1
DRIFT = 2
MEAN = 3


@njit(**KERNEL)
def fit_simple_batch(values, kind, m, forecast, variance, residuals, parameters, statistics):
    """Fit one simple method to each row of `values` [series, T] and forecast it.

    A value that is missing where a forecast needs it is replaced by the last one before it that the same method would
    use: the season before for the seasonal naive, the period before for the others.
    Written, NaN where a series has too few values: forecast, variance [series, H]; residuals [series, T];
    parameters [series, 1] (mean, or slope of the drift); statistics [series, 4]: log-likelihood, sigma2, n used, Q.
    """
    n_series, length = values.shape
    horizon = forecast.shape[1]
    forecast[:] = math.nan
    variance[:] = math.nan
    residuals[:] = math.nan
    parameters[:] = math.nan
    statistics[:] = math.nan
    lag = m if kind == SEASONAL_NAIVE else 1
    held = np.empty(length)
    for s in range(n_series):
        y = values[s]
        start = 0
        while start < length and math.isnan(y[start]):
            start += 1
        n_seen = 0
        total = 0.0
        first_at = start
        last_at = start
        for t in range(start, length):
            held[t] = y[t]
            if math.isnan(y[t]):
                if t - start >= lag:
                    held[t] = held[t - lag]
            else:
                n_seen += 1
                total += y[t]
                last_at = t
        if n_seen == 0 or (kind == SEASONAL_NAIVE and length - start < m) or (kind == DRIFT and n_seen < 3):
            continue
        squares = 0.0
        n_errors = 0
        slope = 0.0
        mean = total / n_seen
        if kind == DRIFT:
            slope = (y[last_at] - y[first_at]) / (last_at - first_at)
            parameters[s, 0] = slope
        if kind == MEAN:
            parameters[s, 0] = mean
        for t in range(start, length):
            if math.isnan(y[t]):
                continue
            if kind == MEAN:
                e = y[t] - mean
            elif t - start >= lag:
                e = y[t] - held[t - lag] - slope
            else:
                continue
            if math.isnan(e):
                continue
            residuals[s, t] = e
            squares += e * e
            n_errors += 1
        freedom = n_errors
        if kind in (DRIFT, MEAN):
            freedom = n_errors - 1  # T - 2 for the drift, which has T - 1 errors; T - 1 for the mean
        sigma2 = squares / freedom if freedom > 0 else math.nan
        complete = True
        for h in range(horizon):
            if kind == SEASONAL_NAIVE:
                value = held[length - m + h % m]
                v = sigma2 * (h // m + 1)
            elif kind == NAIVE:
                value = held[length - 1]
                v = sigma2 * (h + 1)
            elif kind == DRIFT:
                ahead = length - 1 - last_at + h + 1
                value = y[last_at] + slope * ahead
                v = sigma2 * ahead * (1.0 + ahead / (last_at - first_at))
            else:
                value = mean
                v = sigma2 * (1.0 + 1.0 / n_seen)
            if math.isnan(value):
                complete = False
            forecast[s, h] = value
            variance[s, h] = v
        if not complete:  # a whole season of one week of the year is missing: the method has nothing to repeat
            forecast[s] = math.nan
            variance[s] = math.nan
            residuals[s] = math.nan
            continue
        statistics[s, 1] = sigma2
        statistics[s, 2] = n_errors
        statistics[s, 3] = squares
        if n_errors > 0 and squares > 0.0:
            statistics[s, 0] = -0.5 * n_errors * (math.log(2.0 * math.pi * squares / n_errors) + 1.0)
