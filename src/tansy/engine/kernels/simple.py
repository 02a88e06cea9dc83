"""Seasonal naive, naive, drift, mean and moving averages for a batch of series, with the variances of `methods.md`."""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, KERNEL, PART

SEASONAL_NAIVE = 0
NAIVE = 1
DRIFT = 2
MEAN = 3
MOVING_AVERAGE = 4


@njit(**PART)
def _window_errors(y, start, weights, window, residuals):
    """Errors of the (weighted) mean of the last `window` observed values; returns their squares' sum and number.

    The window counts observed values: a missing one is passed over, and the mean reaches further back.
    """
    recent = np.zeros(window)
    held = 0
    squares = 0.0
    n_errors = 0
    for t in range(start, len(y)):
        if math.isnan(y[t]):
            continue
        if held >= window:
            mean = 0.0
            for i in range(window):
                mean += weights[i] * recent[(held - 1 - i) % window]
            residuals[t] = y[t] - mean
            squares += residuals[t] * residuals[t]
            n_errors += 1
        recent[held % window] = y[t]
        held += 1
    mean = math.nan
    if held >= window:
        mean = 0.0
        for i in range(window):
            mean += weights[i] * recent[(held - 1 - i) % window]
    return squares, n_errors, mean


@njit(**BORROWING)
def _total_variance(kind, m, slope_terms, h):
    """Variance of the sum of leads 1..h in units of sigma squared, for errors that build up as the method says."""
    n = float(h)
    if kind in (NAIVE, DRIFT):  # sum over leads i, j of min(i, j) is h(h+1)(2h+1)/6
        return n * (n + 1.0) * (2.0 * n + 1.0) / 6.0 + slope_terms * (n * (n + 1.0) / 2.0) ** 2
    if kind == SEASONAL_NAIVE:  # each season of the year is a naive forecast of its own
        total = 0.0
        for j in range(min(m, h)):
            k = float((h - 1 - j) // m + 1)
            total += k * (k + 1.0) * (2.0 * k + 1.0) / 6.0
        return total
    return n + slope_terms * n * n  # independent errors about a level that is the same at every lead


@njit(**KERNEL)
def fit_simple_batch(
    values, kind, m, weights, windows, forecast, variance, total_variance, residuals, parameters, statistics
):
    """Fit one simple method to each row of `values` [series, T] and forecast it.

    A value that is missing where a forecast needs it is replaced by the last one before it that the same method would
    use: the season before for the seasonal naive, the period before for the others.
    weights: [window], newest first, summing to one. windows: of a moving average, the one with the least squared error
    on the periods that all of them can forecast is taken, equally weighted where there are several.
    Written, NaN where a series has too few values: forecast, variance, total_variance (of the sum of leads 1..h)
    [series, H]; residuals [series, T]; parameters [series, 1] (mean, slope of the drift, or window); statistics
    [series, 4]: log-likelihood, sigma2, n used, Q.
    """
    n_series, length = values.shape
    horizon = forecast.shape[1]
    forecast[:] = math.nan
    variance[:] = math.nan
    total_variance[:] = math.nan
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
        if kind == MOVING_AVERAGE:
            _fit_window(
                y, start, weights, windows, forecast[s], variance[s], total_variance[s], residuals[s], parameters[s],
                statistics[s],
            )  # fmt: skip
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
            extra = 0.0
            if kind == MEAN:
                extra = 1.0 / n_seen
            elif kind == DRIFT:
                extra = 1.0 / (last_at - first_at)
            total_variance[s, h] = sigma2 * _total_variance(kind, m, extra, h + 1)
        if not complete:  # a whole season of one week of the year is missing: the method has nothing to repeat
            forecast[s] = math.nan
            variance[s] = math.nan
            total_variance[s] = math.nan
            residuals[s] = math.nan
            continue
        statistics[s, 1] = sigma2
        statistics[s, 2] = n_errors
        statistics[s, 3] = squares
        if n_errors > 0 and squares > 0.0:
            statistics[s, 0] = -0.5 * n_errors * (math.log(2.0 * math.pi * squares / n_errors) + 1.0)


@njit(**PART)
def _fit_window(y, start, weights, windows, forecast, variance, total_variance, residuals, parameters, statistics):
    """One moving average, or the best of several windows. Its error at every lead has the one-step error's variance;
    those of several leads share the doubt about the level, sum of squared weights over one plus it."""
    longest = windows[-1]
    length = len(y)
    n_seen = 0
    for t in range(start, length):
        if not math.isnan(y[t]):
            n_seen += 1
    while longest > windows[0] and n_seen <= longest + 1:
        longest -= 1
    if n_seen < longest:
        return
    best = -1
    least = math.inf
    trial = np.empty(length)
    for k in range(len(windows)):
        window = windows[k]
        if window > longest:
            break
        own = weights if len(windows) == 1 else np.full(window, 1.0 / window)
        trial[:] = math.nan
        _window_errors(y, start, own, window, trial)
        squares = 0.0
        passed = 0
        for t in range(start, length):
            if math.isnan(y[t]):
                continue
            passed += 1
            if passed > longest:
                squares += trial[t] * trial[t]
        if best < 0 or squares < least * (1.0 - 1e-12):
            least = squares
            best = window
    own = weights if len(windows) == 1 else np.full(best, 1.0 / best)
    squares, n_errors, mean = _window_errors(y, start, own, best, residuals)
    sigma2 = squares / n_errors if n_errors > 0 else math.nan
    doubt = 0.0
    for i in range(best):
        doubt += own[i] * own[i]
    for h in range(len(forecast)):
        n = h + 1.0
        forecast[h] = mean
        variance[h] = sigma2
        total_variance[h] = sigma2 * (n + doubt * n * n) / (1.0 + doubt)
    parameters[0] = best
    statistics[1] = sigma2
    statistics[2] = n_errors
    statistics[3] = squares
    if n_errors > 0 and squares > 0.0:
        statistics[0] = -0.5 * n_errors * (math.log(2.0 * math.pi * squares / n_errors) + 1.0)


@njit(**KERNEL)
def fit_seasonal_median_batch(values, m, seasons, doubt, forecast, variance, total_variance, residuals, statistics):
    """Forecast each row of `values` [series, T] by the median of the same period of the last `seasons` seasons.

    A missing value is passed over, so that fewer may speak; one at least must. doubt: variance of the median of so many
    normal values. Errors about the median are independent from period to period, and leads of the same period of the
    season share its doubt. Written, NaN where a period of the season has no value: as by `fit_simple_batch`.
    """
    n_series, length = values.shape
    horizon = forecast.shape[1]
    for one in (forecast, variance, total_variance):
        one[:] = math.nan
    residuals[:] = math.nan
    statistics[:] = math.nan
    held = np.empty(seasons)
    for s in range(n_series):
        y = values[s]
        squares, n_errors = 0.0, 0
        for t in range(m, length):
            usual = _median_before(y, t, m, seasons, held)
            e = y[t] - usual
            if math.isnan(e):
                continue
            residuals[s, t] = e
            squares += e * e
            n_errors += 1
        complete = True
        for h in range(horizon):
            forecast[s, h] = _median_before(y, length + h % m, m, seasons, held)
            complete = complete and not math.isnan(forecast[s, h])
        if not complete:
            forecast[s] = math.nan
            residuals[s] = math.nan
            continue
        sigma2 = squares / n_errors if n_errors > 0 else math.nan
        total = 0.0
        for h in range(horizon):
            before = float(h // m)  # leads of this period of the season that the sum holds already
            total += (1.0 + doubt * (2.0 * before + 1.0)) / (1.0 + doubt)
            variance[s, h] = sigma2
            total_variance[s, h] = sigma2 * total
        statistics[s, 1] = sigma2
        statistics[s, 2] = n_errors
        statistics[s, 3] = squares
        if n_errors > 0 and squares > 0.0:
            statistics[s, 0] = -0.5 * n_errors * (math.log(2.0 * math.pi * squares / n_errors) + 1.0)


@njit(**BORROWING)
def _median_before(y, t, m, seasons, held):
    """Median of the values at t - m, t - 2m ... of so many seasons, NaN of none. held: [seasons], scratch."""
    count = 0
    for k in range(1, seasons + 1):
        at = t - k * m
        if at < 0:
            break
        if at >= len(y) or math.isnan(y[at]):
            continue
        i = count
        while i > 0 and held[i - 1] > y[at]:
            held[i] = held[i - 1]
            i -= 1
        held[i] = y[at]
        count += 1
    if count == 0:
        return math.nan
    return 0.5 * (held[(count - 1) // 2] + held[count // 2])
