"""Croston's method and its relatives for a batch of series."""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, KERNEL

CROSTON, SBA, TSB = 0, 1, 2
_FINEST_STEP = 1e-4


@njit(**BORROWING)
def _run(y, start, kind, alpha, beta, residuals):
    """One pass. Returns (size, interval or probability, forecast, sum of squared errors, number of errors).

    residuals: [T], written from the period after the first demand.
    Croston (1972): sizes and intervals smoothed with alpha and beta at demand periods only, started with the first
    demand and its 1-based period. TSB: started with the first demand and 1/(its period), the probability smoothed with
    beta every period after it, the size with alpha at demands.
    """
    size = 0.0
    other = 0.0
    since = 0
    began = False
    squares = 0.0
    n_errors = 0
    forecast = 0.0
    for t in range(start, len(y)):
        since += 1
        value = y[t]
        if began:
            forecast = size * other if kind == TSB else size / other
            if kind == SBA:
                forecast *= 1.0 - 0.5 * beta
        if math.isnan(value):
            continue
        if began:
            residuals[t] = value - forecast
            squares += residuals[t] * residuals[t]
            n_errors += 1
        demand = value != 0.0
        if not began:
            if demand:
                began = True
                size = value
                other = 1.0 / since if kind == TSB else float(since)
                since = 0
            continue
        if kind == TSB:
            other += beta * ((1.0 if demand else 0.0) - other)
            if demand:
                size += alpha * (value - size)
        elif demand:
            size += alpha * (value - size)
            other += beta * (since - other)
        if demand:
            since = 0
    if began:
        forecast = size * other if kind == TSB else size / other
        if kind == SBA:
            forecast *= 1.0 - 0.5 * beta
    return size, other, forecast, squares, n_errors


@njit(**BORROWING)
def _size_of_counts(y, residuals, start):
    """Size r of a negative binomial with the one-step forecasts as means, by maximum likelihood; inf for Poisson.

    Golden section over log r; a value at the far end means that the counts spread no more than a Poisson does.
    """
    low, high = math.log(0.02), math.log(2000.0)
    ratio = 0.5 * (math.sqrt(5.0) - 1.0)
    a = high - ratio * (high - low)
    b = low + ratio * (high - low)
    at_a = _count_loglik(y, residuals, start, math.exp(a))
    at_b = _count_loglik(y, residuals, start, math.exp(b))
    for _ in range(40):
        if at_a > at_b:
            high, b, at_b = b, a, at_a
            a = high - ratio * (high - low)
            at_a = _count_loglik(y, residuals, start, math.exp(a))
        else:
            low, a, at_a = a, b, at_b
            b = low + ratio * (high - low)
            at_b = _count_loglik(y, residuals, start, math.exp(b))
    r = math.exp(0.5 * (low + high))
    return math.inf if r > 1500.0 else r


@njit(**BORROWING)
def _count_loglik(y, residuals, start, r):
    """But for what does not change with r."""
    total = 0.0
    of_none = math.lgamma(r)
    for t in range(start, len(y)):
        if math.isnan(residuals[t]):
            continue
        mean = max(y[t] - residuals[t], 1e-6)
        total += r * math.log(r / (r + mean))
        if y[t] > 0.0:
            total += math.lgamma(y[t] + r) - of_none + y[t] * math.log(mean / (r + mean))
    return total


@njit(**KERNEL)
def fit_intermittent_batch(
    values, kind, alpha, beta, with_counts, forecast, residuals, parameters, statistics, size_of_counts
):
    """Fit one of the methods to each row of `values` [series, T], NaN missing.

    alpha, beta: weights of sizes and of intervals or probability; NaN: estimated by least squared one-step error
    (pattern search from 0.1; one common weight for croston and sba unless one is given).
    Written, NaN without a demand: forecast [series], the same at every lead; residuals [series, T]; parameters
    [series, 4] (alpha, beta, size, interval or probability); statistics [series, 4] (log-likelihood of normal errors,
    sigma2, n, Q); size_of_counts [series], of the negative binomial, NaN where values are not whole or negative, or
    where not asked for by `with_counts`: it takes far longer than the fit.
    """
    n_series, length = values.shape
    forecast[:] = math.nan
    residuals[:] = math.nan
    parameters[:] = math.nan
    statistics[:] = math.nan
    size_of_counts[:] = math.nan
    trial = np.empty(length)
    for s in range(n_series):
        y = values[s]
        start = 0
        while start < length and math.isnan(y[start]):
            start += 1
        some = False
        whole = True
        for t in range(start, length):
            if math.isnan(y[t]):
                continue
            some = some or y[t] != 0.0
            whole = whole and y[t] >= 0.0 and y[t] == math.floor(y[t])
        if not some:
            continue
        free_alpha, free_beta = math.isnan(alpha), math.isnan(beta)
        tied = free_alpha and free_beta and kind != TSB
        a = 0.1 if free_alpha else alpha
        b = 0.1 if free_beta else beta
        _, _, _, least, n_errors = _run(y, start, kind, a, b, trial)
        step = 0.2
        while (free_alpha or free_beta) and n_errors > 0 and step > _FINEST_STEP:
            gained = False
            for which in range(4):
                moved = step if which % 2 == 0 else -step
                new_a, new_b = a, b
                if which < 2:
                    if not free_alpha:
                        continue
                    new_a = min(1.0, max(0.001, a + moved))
                    if tied:
                        new_b = new_a
                else:
                    if not free_beta or tied:
                        continue
                    new_b = min(1.0, max(0.001, b + moved))
                _, _, _, squares, _ = _run(y, start, kind, new_a, new_b, trial)
                if squares < least * (1.0 - 1e-12):
                    least, a, b = squares, new_a, new_b
                    gained = True
            if not gained:
                step *= 0.5
        size, other, value, squares, n_errors = _run(y, start, kind, a, b, residuals[s])
        forecast[s] = value
        parameters[s, 0] = a
        parameters[s, 1] = b
        parameters[s, 2] = size
        parameters[s, 3] = other
        statistics[s, 2] = n_errors
        statistics[s, 3] = squares
        if n_errors > 0:
            statistics[s, 1] = squares / n_errors
            if squares > 0.0:
                statistics[s, 0] = -0.5 * n_errors * (math.log(2.0 * math.pi * squares / n_errors) + 1.0)
        if whole and with_counts:
            size_of_counts[s] = _size_of_counts(y, residuals[s], start) if n_errors > 1 else math.inf
