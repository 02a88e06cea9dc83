"""One seasonal ARIMA form fitted to a batch: forecasts, their variances, and how far what was estimated is known."""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.arima_model import DRIFT, count_free, data_of, power, problem_of
from tansy.engine.kernels.arima_search import EXACT, evaluate, fit_one
from tansy.engine.kernels.least_squares import quadratic_form
from tansy.engine.kernels.missing import doubt_ahead, run_on
from tansy.engine.kernels.options import KERNEL, PART
from tansy.engine.kernels.smoothing import extent, psi_sums


class Outputs(NamedTuple):
    """What `fit_batch` and `search_batch` write of each series; see there."""

    forecast: Any
    psi_squared: Any
    psi_total: Any
    residuals: Any
    parameters: Any
    raw_found: Any
    statistics: Any
    evaluations: Any


class Uncertain(NamedTuple):
    """What they write of how far a fit is known."""

    curvature: Any
    forecast_slopes: Any
    parameter_slopes: Any
    linear_variance: Any
    linear_total: Any
    linear_covariance: Any


@njit(**PART)
def forecast_columns(problem, regressors, total_length, response, forecast):
    """Forecast every row on its own and put them together, differences undone.

    total_length: T, from which leads count; where the last values are missing, the periods up to there are passed over.
    Written: response [H, k], what one more unit of each coefficient adds to the forecast; forecast [H].
    """
    data, room = problem.data, problem.room
    n_gaps, n_linear, _, start, end = data.counts
    ahead, solution = problem.work.ahead, problem.work.solution
    polynomial, r = data.polynomial, room.r
    rows, length = data.levels.shape
    n = data.inputs.shape[1]
    k = rows - 1
    lost = len(polynomial)
    horizon = len(forecast)
    skipped = total_length - end
    path = np.empty(lost + skipped + horizon)
    state = np.empty(r + 1)
    for c in range(rows):
        for i in range(r + 1):
            state[i] = ahead[c, n + i]
        for i in range(lost):
            path[i] = data.levels[c, length - lost + i]
        run_on(state, path, lost, room.phi, polynomial)
        for h in range(horizon):
            value = path[lost + skipped + h]
            if c == k:
                forecast[h] = data.reference + value
            elif c < n_gaps:
                response[h, c] = -value
            elif c < n_gaps + n_linear:
                response[h, c] = data.scale * power(float(total_length + h - start), data.order) - value
            else:
                response[h, c] = regressors[total_length + h, c - n_gaps - n_linear] - value
    for h in range(horizon):
        for c in range(k):
            forecast[h] += solution[c] * response[h, c]


@njit(**PART)
def columns_of(orders, most, n_linear, mean, k_x):
    """Where coefficients (ar, ma, sar, sma), mean or drift and regressors stand among parameters laid out for orders up
    to `most`: ar, ma, sar, sma, mean or constant, drift, regressors."""
    count = orders.p + orders.q + orders.sp + orders.sq
    columns = np.empty(count + n_linear + k_x, dtype=np.int64)
    base = 0
    at = 0
    for factor in range(4):
        for i in range(orders[factor]):
            columns[at] = base + i
            at += 1
        base += most[factor]
    if n_linear > 0:
        columns[at] = base + (1 if mean == DRIFT else 0)
        at += 1
    for i in range(k_x):
        columns[at + i] = base + 2 + i
    return columns


@njit(**PART)
def clear(outputs):
    """NaN in everything that `report` writes."""
    outputs.forecast[:] = math.nan
    outputs.psi_squared[:] = math.nan
    outputs.psi_total[:] = math.nan
    outputs.residuals[:] = math.nan
    outputs.parameters[:] = math.nan
    outputs.raw_found[:] = math.nan
    outputs.statistics[:] = math.nan
    outputs.evaluations[:] = 0


@njit(**PART)
def report(s, value, raw, problem, columns, x, length, outputs, with_uncertainty, uncertain):
    """Write what was found for series s, after an exact evaluation at raw; see `fit_batch` for what is what."""
    forecast, parameters, statistics = outputs.forecast, outputs.parameters, outputs.statistics
    curvature, linear_covariance = uncertain.curvature, uncertain.linear_covariance
    data, work = problem.data, problem.work
    n_gaps, n_linear, n_used, start, end = data.counts
    coefficients, errors, solution = work.coefficients, work.errors, work.solution
    lost = len(data.polynomial)
    free = len(raw)
    horizon = forecast.shape[1]
    k = len(errors) - 1
    n_coefficients = len(coefficients)
    outputs.raw_found[s, :free] = raw
    for i in range(n_coefficients):
        parameters[s, columns[i]] = coefficients[i]
    for i in range(k - n_gaps):  # a regressor that does not vary on its own has no coefficient
        alone = i < n_linear or not work.dropped[n_gaps + i]
        parameters[s, columns[n_coefficients + i]] = solution[n_gaps + i] if alone else math.nan
    if n_linear > 0 and lost == 0:
        parameters[s, columns[n_coefficients]] += data.reference
    own = 0.0
    for t in range(len(work.rest)):
        e = errors[k, t]
        for c in range(k):
            e -= solution[c] * errors[c, t]
        own += e * e
        if data.seen[lost + t] > 0.0:
            outputs.residuals[s, start + lost + t] = e * work.spread[t]
    statistics[s, 0] = -0.5 * (value + n_used * (math.log(2.0 * math.pi) + 1.0))
    statistics[s, 1] = own / n_used
    statistics[s, 2] = n_used
    statistics[s, 3] = own
    response = np.zeros((horizon, k))
    forecast_columns(problem, x, length, response, forecast[s])
    _spread_ahead(problem, response, length - end, outputs.psi_squared[s], outputs.psi_total[s])
    if not with_uncertainty:
        return
    covariance = np.zeros((k - n_gaps, k - n_gaps))
    _linear_uncertainty(problem, response, uncertain.linear_variance[s], uncertain.linear_total[s], covariance)
    base = parameters.shape[1] - linear_covariance.shape[1]
    for i in range(k - n_gaps):
        for j in range(k - n_gaps):
            linear_covariance[s, columns[n_coefficients + i] - base, columns[n_coefficients + j] - base] = covariance[
                i, j
            ]
    # central differences by one step serve slopes and curvature both: a slope is off by the square of the step
    h = 2e-3
    moved = np.zeros((2, horizon))
    beside = np.zeros((2, free))
    at = raw.copy()
    for i in range(free):
        for side in range(2):
            sign = 1.0 if side == 0 else -1.0
            at[i] = raw[i] + sign * h
            beside[side, i] = evaluate(at, problem, EXACT)
            forecast_columns(problem, x, length, response, moved[side])
            for j in range(n_coefficients):
                uncertain.parameter_slopes[s, columns[j], i] += sign * 0.5 / h * coefficients[j]
            for j in range(k - n_gaps):
                uncertain.parameter_slopes[s, columns[n_coefficients + j], i] += sign * 0.5 / h * solution[n_gaps + j]
        for lead in range(horizon):
            uncertain.forecast_slopes[s, lead, i] = (moved[0, lead] - moved[1, lead]) * 0.5 / h
        at[i] = raw[i]
    # of -log L, which is half the value; both mixed corners follow from the others
    for i in range(free):
        along_i = beside[0, i] + beside[1, i] - 2.0 * value
        curvature[s, i, i] = 0.5 * along_i / (h * h)
        for j in range(i):
            corners = -2.0 * value
            for side in range(2):
                step = h if side == 0 else -h
                at[i] = raw[i] + step
                at[j] = raw[j] + step
                corners += evaluate(at, problem, EXACT)
            at[i] = raw[i]
            at[j] = raw[j]
            curvature[s, i, j] = 0.25 * (corners - along_i - (beside[0, j] + beside[1, j] - 2.0 * value)) / (h * h)
            curvature[s, j, i] = curvature[s, i, j]


@njit(**KERNEL)
def fit_batch(
    values, regressors, which, orders, differences, mean, fixed, starts, least_used, enough, outputs,
    with_uncertainty, uncertain,
):  # fmt: skip
    """Fit one form to each row of `values` [series, T], NaN missing.

    regressors: [groups, T + H, k], which: [series], the group of each series. orders: `Orders`, differences:
    (d, D), mean: NO_MEAN, CONSTANT or DRIFT. fixed: [p + q + P + Q] coefficients given (ar, ma, sar, sma), NaN where
    estimated. starts: [starts, free]. least_used: fewest
    observed values. enough: stop where -2 log L is promised to fall by less.
    outputs, written, NaN where a series has fewer: forecast [series, H]; psi_squared and psi_total [series, H],
    variances of lead h and of the sum of leads 1..h over sigma squared; residuals [series, T]; parameters [series, P],
    laid out by `columns_of`; raw_found [series, free]; statistics [series, 4]: log-likelihood, sigma2, n, Q;
    evaluations [series].
    uncertain, written where asked for: curvature [series, free, free] of -log L over what was searched, slopes of
    forecasts [series, H, free] and of parameters [series, P, free] by it; and, in units of sigma squared and given what
    was searched, the variance of forecasts and of their sums [series, H] and the covariance of what is linear [series,
    2 + k, 2 + k].
    """
    n_series, length = values.shape
    free = count_free(fixed)
    lost = differences[0] + differences[1] * orders.m
    raw = np.zeros(free)
    reach = max(orders.p + orders.sp * orders.m, orders.q + orders.sq * orders.m + 1)
    clear(outputs)
    for s in range(n_series):
        start, end, n_seen = extent(values[s])
        if n_seen < least_used or end - start <= lost:
            continue
        x = regressors[which[s]]
        data = data_of(values[s], x, differences, orders.m, mean, reach)
        problem = problem_of(data, orders, fixed)
        value, tried = fit_one(starts, problem, enough, raw)
        if math.isinf(value):
            continue
        outputs.evaluations[s] = tried
        columns = columns_of(orders, orders, data.counts.n_linear, mean, x.shape[1])
        report(s, value, raw, problem, columns, x, length, outputs, with_uncertainty, uncertain)


@njit(**PART)
def _spread_ahead(problem, response, skipped, of_leads, of_sums):
    """Variances of lead h and of the sum of leads 1..h over sigma squared, from the weights psi of past errors and from
    the doubt about values that are missing."""
    data, room = problem.data, problem.room
    polynomial, phi, theta, phi_lags, r = data.polynomial, room.phi, room.theta, room.phi_lags, room.r
    psi = np.zeros(skipped + len(of_leads))
    stationary = np.zeros(len(psi))
    for h in range(len(psi)):
        value = 1.0 if h == 0 else theta[h - 1] if h <= r else 0.0
        for j in phi_lags:
            if j > h:
                break
            value += phi[j - 1] * stationary[h - j]
        stationary[h] = value
        for j in range(min(h, len(polynomial))):
            value += polynomial[j] * psi[h - 1 - j]
        psi[h] = value
    psi_sums(psi, skipped, of_leads, of_sums)
    if data.full:
        doubt_ahead(data.levels.shape[1], polynomial, room, problem.work.filtering, skipped, of_leads, of_sums)
    _add_uncertainty(problem, response, data.counts.n_gaps, 1.0, of_leads, of_sums)


@njit(**PART)
def _add_uncertainty(problem, response, k, sign, of_leads, of_sums):
    """Add to variances of forecasts, in units of sigma squared, what the first k linear coefficients leave in doubt,
    those after them being known."""
    gram, dropped = problem.work.gram, problem.work.dropped
    scratch = np.zeros(k)
    summed = np.zeros(k)
    for h in range(len(response)):
        of_leads[h] += sign * quadratic_form(gram, k, dropped, response[h], scratch)
        for c in range(k):
            summed[c] += response[h, c]
        of_sums[h] += sign * quadratic_form(gram, k, dropped, summed, scratch)


@njit(**PART)
def _linear_uncertainty(problem, response, of_leads, of_sums, covariance):
    """Variance of forecasts, beside that from missing values, and covariance of coefficients, in units of sigma
    squared, the process taken as known."""
    n_gaps = problem.data.counts.n_gaps
    gram, dropped = problem.work.gram, problem.work.dropped
    k = response.shape[1]
    of_leads[:] = 0.0
    of_sums[:] = 0.0
    _add_uncertainty(problem, response, k, 1.0, of_leads, of_sums)
    _add_uncertainty(problem, response, n_gaps, -1.0, of_leads, of_sums)
    scratch = np.zeros(k)
    unit = np.zeros(k)
    own = k - n_gaps
    alone = np.zeros(own)
    for i in range(own):
        unit[n_gaps + i] = 1.0
        alone[i] = quadratic_form(gram, k, dropped, unit, scratch)
        unit[n_gaps + i] = 0.0
    for i in range(own):
        for j in range(own):
            unit[n_gaps + i] += 1.0
            unit[n_gaps + j] += 1.0
            both = quadratic_form(gram, k, dropped, unit, scratch)
            covariance[i, j] = alone[i] if i == j else 0.5 * (both - alone[i] - alone[j])
            unit[n_gaps + i] = 0.0
            unit[n_gaps + j] = 0.0
