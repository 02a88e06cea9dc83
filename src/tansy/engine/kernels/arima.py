"""Maximum likelihood of ARIMA with regressors, for a batch of series.

Given the AR and MA coefficients, the one-step errors are linear in everything else: mean, regression coefficients,
missing values of a differenced series. So each evaluation solves those by least squares and the search is over one to
four numbers. With Q the least sum of squares, it minimises -2 log L up to a constant:

    n log(Q / n)  +  sum of log F  +  log det of the missing values' information

where F is the variance of an innovation relative to sigma squared.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.arma import arma_errors, coefficients_from_partials
from tansy.engine.kernels.least_squares import (
    back_substitute,
    cholesky,
    dots,
    normal_matrix_of_columns,
    quadratic_form,
)
from tansy.engine.kernels.options import KERNEL
from tansy.engine.kernels.quasi_newton import advance, begin, least_value, new_search
from tansy.engine.kernels.smoothing import psi_sums

# Partial autocorrelations before tanh, tanh(5) = 0.9999.
_BOUND = 5.0
_LONGEST = 2.0
_ENOUGH = 1e-5  # of -2 log L


@njit(**KERNEL)
def _least(gram, k, n_gaps, dropped):
    """Factor the normal matrix in place, the series in row k; returns (Q, log det of the gap block)."""
    cholesky(gram, k, dropped)
    own = gram[k, k]
    log_det = 0.0
    for j in range(n_gaps):
        log_det += 2.0 * math.log(gram[j, j])
    return max(own - dots(gram[k], gram[k], k), 1e-15 * own + 1e-200), log_det


@njit(**KERNEL)
def _errors(raw, problem, work):
    """Errors of all columns at the parameters `raw`; returns sum of log F.

    problem, work: see `fit_batch`, where they are put together.
    """
    (p, q), inputs, seen, _, _ = problem
    states, errors, spread, ar, ma, _, _ = work
    coefficients_from_partials(raw[:p], ar)
    coefficients_from_partials(raw[p:], ma)
    for i in range(q):
        ma[i] = -ma[i]
    states[:] = 0.0
    return arma_errors(inputs, seen, ar, ma, states, errors, spread)


@njit(**KERNEL)
def _value(raw, problem, work):
    """What is minimised; leaves the errors of all columns and the factor of their normal matrix in `work`."""
    n_gaps, n_used = problem[3], problem[4]
    errors, gram, dropped = work[1], work[5], work[6]
    log_f = _errors(raw, problem, work)
    normal_matrix_of_columns(errors, gram)
    least, log_det = _least(gram, errors.shape[1] - 1, n_gaps, dropped)
    return n_used * math.log(least / n_used) + log_f + log_det


@njit(**KERNEL)
def _minimise(points, search, low, high, longest, gradient, problem, work):
    """Search from `points` [1, free], which is changed in place to the optimum; returns the least value."""
    h = 1e-5
    raw = points[0]
    begin(search, 0, False)
    while True:
        value = _value(raw, problem, work)
        for i in range(len(raw)):
            kept = raw[i]
            raw[i] = kept + h
            gradient[i] = (_value(raw, problem, work) - value) / h
            raw[i] = kept
        if advance(search, 0, points, value, gradient, low, high, longest, _ENOUGH):
            return least_value(search, 0)


@njit(**KERNEL)
def _columns(y, regressors, d, has_mean):
    """Set up the linear problem of one series.

    Returns (inputs [rows, k + 1], seen [rows], plain [end - start, k + 1], start, end, n_gaps, n_linear, reference).
    Columns: the missing values of a differenced series, then the mean, then the regressors, and the series itself, less
    `reference`, last.
    """
    length = len(y)
    k_x = regressors.shape[1]
    start = 0
    while start < length and math.isnan(y[start]):
        start += 1
    end = length
    while end > start and math.isnan(y[end - 1]):
        end -= 1
    n_seen = 0
    reference = 0.0
    for t in range(start, end):
        if not math.isnan(y[t]):
            n_seen += 1
            reference += y[t]
    reference /= max(n_seen, 1)
    n_gaps = end - start - n_seen if d > 0 else 0
    n_linear = 1 if has_mean else 0
    if not has_mean and d == 0:
        reference = 0.0
    k = n_gaps + n_linear + k_x
    rows = end - start - d
    plain = np.zeros((end - start, k + 1))
    seen = np.ones(max(rows, 0))
    gap = 0
    for t in range(len(plain)):
        if math.isnan(y[start + t]):
            if d > 0:
                plain[t, gap] = 1.0
                gap += 1
            else:
                seen[t] = 0.0
        else:
            plain[t, k] = y[start + t] - reference
        if has_mean:
            plain[t, n_gaps] = _time_power(t, d)
        for i in range(k_x):
            plain[t, n_gaps + n_linear + i] = regressors[start + t, i]
    inputs = plain.copy()
    for _ in range(d):
        for t in range(len(inputs) - 1, 0, -1):
            for i in range(k + 1):
                inputs[t, i] -= inputs[t - 1, i]
    return inputs[d:].copy(), seen, plain, start, end, n_gaps, n_linear, reference


@njit(**KERNEL)
def _time_power(t, d):
    """The mean's column before differencing: a constant, a line, or half a square, each with d-th difference 1."""
    if d == 0:
        return 1.0
    return float(t) if d == 1 else 0.5 * t * (t - 1.0)


@njit(**KERNEL)
def _forecast(
    d, has_mean, ar, states, plain, regressors, start, end, length, n_gaps, n_linear, reference,
    solution, response, forecast,
):  # fmt: skip
    """Forecast every column on its own and put them together.

    Written: response [H, k], what one more unit of each coefficient adds to the forecast; forecast [H].
    Leads count from `length`; where the last values are missing, the periods from `end` to there are passed over.
    """
    p = len(ar)
    horizon = len(forecast)
    k = response.shape[1]
    r = states.shape[0]
    skipped = length - end
    rows = len(plain)
    state = np.empty(r)
    last = np.zeros(2)
    for c in range(k + 1):
        for i in range(r):
            state[i] = states[i, c]
        for i in range(d):
            last[i] = plain[rows - d + i, c]
        for step in range(skipped + horizon):
            h = step - skipped
            value = state[0]
            for i in range(r - 1):
                state[i] = (ar[i] if i < p else 0.0) * value + state[i + 1]
            state[r - 1] = (ar[r - 1] if r - 1 < p else 0.0) * value
            if d == 1:
                value += last[0]
                last[0] = value
            elif d == 2:
                value += 2.0 * last[1] - last[0]
                last[0] = last[1]
                last[1] = value
            if h < 0:
                continue
            if c == k:
                forecast[h] = reference + value
                continue
            known = 0.0
            if has_mean and c == n_gaps:
                known = _time_power(length + h - start, d)
            elif c >= n_gaps + n_linear:
                known = regressors[length + h, c - n_gaps - n_linear]
            response[h, c] = known - value
    for h in range(horizon):
        for c in range(k):
            forecast[h] += solution[c] * response[h, c]


@njit(**KERNEL)
def _parameters(has_mean, d, ar, ma, solution, n_gaps, n_linear, k_x, reference, out):
    """Parameters in the order that `fit_batch` names."""
    p, q = len(ar), len(ma)
    out[:] = math.nan
    for i in range(p):
        out[i] = ar[i]
    for i in range(q):
        out[p + i] = ma[i]
    if has_mean:
        out[p + q] = solution[n_gaps] + (reference if d == 0 else 0.0)
    for i in range(k_x):
        out[p + q + 1 + i] = solution[n_gaps + n_linear + i]


@njit(**KERNEL)
def _psi(d, ar, ma, psi):
    """Weights of the MA expansion of the process itself, differencing undone."""
    p, q = len(ar), len(ma)
    psi[:] = 0.0
    psi[0] = 1.0
    for j in range(1, len(psi)):
        value = ma[j - 1] if j - 1 < q else 0.0
        for i in range(min(p, j)):
            value += ar[i] * psi[j - 1 - i]
        psi[j] = value
    for _ in range(d):
        for j in range(1, len(psi)):
            psi[j] += psi[j - 1]


@njit(**KERNEL)
def fit_batch(
    values, regressors, orders, n_differences, has_mean, first_raw, warm, least_used,
    forecast, psi_squared, psi_total, residuals, parameters, raw_found, statistics,
    with_uncertainty, curvature, forecast_slopes, parameter_slopes, linear_variance, linear_total,
    linear_parameter_variance,
):  # fmt: skip
    """Fit one form to each row of `values` and forecast it.

    values: [series, T], NaN missing; leading NaN are before the series began.
    regressors: [T + H, k] (k may be 0), shared by the batch.
    orders: (p, q). n_differences: d. has_mean: estimate a mean (d = 0) or a slope per period (d > 0).
    first_raw: [starts, free parameters], the points that the search starts from.
    warm: [series, free parameters], a better start where it is not NaN (from the origin before).
    least_used: fewest observed values.
    Written, NaN where a series has too few values:
    forecast [series, H]; psi_squared and psi_total [series, H], the variance of each lead and of the sum of leads 1..h
    in units of sigma squared; residuals [series, T], one-step errors; parameters [series, p + q + 1 + k] (ar, ma, mean
    or drift, then the regressors); raw_found as `warm`; statistics [series, 4]: log-likelihood, sigma2 = Q/n, n used,
    Q. With `with_uncertainty` also, by the profile likelihood over the searched numbers u (see `methods.arima`):
    curvature [series, free, free], second derivatives of -log L in u; forecast_slopes [series, H, free] and
    parameter_slopes [series, P, free], first derivatives in u with everything linear re-estimated; and in units of
    sigma squared, given u: linear_variance, linear_total [series, H] and linear_parameter_variance [series, P].
    """
    n_series, length = values.shape
    k_x = regressors.shape[1]
    n_free = first_raw.shape[1]
    p, q = orders
    ar = np.zeros(p)
    ma = np.zeros(q)
    points = np.zeros((1, n_free))
    raw = points[0]
    found = np.zeros(n_free)
    gradient = np.zeros(n_free)
    search = new_search(1, n_free)
    low = np.full(n_free, -_BOUND)
    high = np.full(n_free, _BOUND)
    longest = np.full(n_free, _LONGEST)
    horizon = forecast.shape[1]
    n_parameters = parameters.shape[1]
    forecast[:] = math.nan
    psi_squared[:] = math.nan
    psi_total[:] = math.nan
    residuals[:] = math.nan
    parameters[:] = math.nan
    raw_found[:] = math.nan
    statistics[:] = math.nan
    for s in range(n_series):
        y = values[s]
        n_seen = 0
        for t in range(length):
            if not math.isnan(y[t]):
                n_seen += 1
        if n_seen < least_used or n_seen == 0:
            continue
        inputs, seen, plain, start, end, n_gaps, n_linear, reference = _columns(y, regressors, n_differences, has_mean)
        rows, k = inputs.shape[0], inputs.shape[1] - 1
        n_used = n_seen - n_differences
        errors = np.empty((rows, k + 1))
        spread = np.ones(rows)
        states = np.zeros((max(p, q + 1), k + 1))
        gram = np.zeros((k + 1, k + 1))
        dropped = np.zeros(k + 1, dtype=np.bool_)
        problem = (orders, inputs, seen, n_gaps, n_used)
        work = (states, errors, spread, ar, ma, gram, dropped)
        best = math.inf
        is_warm = n_free > 0 and not math.isnan(warm[s, 0])
        for i in range(1 if is_warm else first_raw.shape[0]):
            for j in range(n_free):
                raw[j] = warm[s, j] if is_warm else first_raw[i, j]
            value = _minimise(points, search, low, high, longest, gradient, problem, work)
            if value < best or i == 0:
                best = value
                for j in range(n_free):
                    found[j] = raw[j]
        log_f = _errors(found, problem, work)
        normal_matrix_of_columns(errors, gram)
        _, log_det = _least(gram, k, n_gaps, dropped)
        solution = np.zeros(k)
        response = np.zeros((horizon, k))
        back_substitute(gram, k, k, dropped, solution)
        _forecast(
            n_differences, has_mean, ar, states, plain, regressors, start, end, length, n_gaps, n_linear, reference,
            solution, response, forecast[s],
        )  # fmt: skip
        psi = np.empty(length - end + horizon)
        _psi(n_differences, ar, ma, psi)
        psi_sums(psi, length - end, psi_squared[s], psi_total[s])
        _parameters(has_mean, n_differences, ar, ma, solution, n_gaps, n_linear, k_x, reference, parameters[s])
        # The least sum of squares from the errors themselves: exact where the normal matrix would have lost digits.
        least = 0.0
        for t in range(rows):
            e = errors[t, k]
            for c in range(k):
                e -= solution[c] * errors[t, c]
            least += e * e
            at = start + n_differences + t
            if seen[t] > 0.0 and not math.isnan(y[at]):
                residuals[s, at] = e * spread[t]
        tiny = 1e-24 * (reference * reference + 1e-200)
        sigma2 = least / n_used
        statistics[s, 0] = -0.5 * (n_used * (math.log(2.0 * math.pi * max(sigma2, tiny)) + 1.0) + log_f + log_det)
        statistics[s, 1] = sigma2
        statistics[s, 2] = n_used
        statistics[s, 3] = least
        for j in range(n_free):
            raw_found[s, j] = found[j]
        if not with_uncertainty:
            continue
        scratch = np.zeros(k)
        summed = np.zeros(k)
        for h in range(horizon):
            linear_variance[s, h] = quadratic_form(gram, k, dropped, response[h], scratch)
            for c in range(k):
                summed[c] += response[h, c]
            linear_total[s, h] = quadratic_form(gram, k, dropped, summed, scratch)
        unit = np.zeros(k)
        for c in range(n_gaps, k):
            unit[:] = 0.0
            unit[c] = 1.0
            at = p + q + (c - n_gaps) + (0 if has_mean else 1)
            linear_parameter_variance[s, at] = quadratic_form(gram, k, dropped, unit, scratch)
        if n_free == 0:
            continue
        step = 1e-3
        up = np.empty(horizon)
        down = np.empty(horizon)
        up_parameters = np.empty(n_parameters)
        down_parameters = np.empty(n_parameters)
        for i in range(n_free):
            rise = 0.0
            for side in range(2):
                for j in range(n_free):
                    raw[j] = found[j]
                raw[i] += step if side == 0 else -step
                rise += (1.0 if side == 0 else -1.0) * _value(raw, problem, work)
                back_substitute(gram, k, k, dropped, solution)
                _forecast(
                    n_differences, has_mean, ar, states, plain, regressors, start, end, length, n_gaps, n_linear,
                    reference, solution, response, up if side == 0 else down,
                )  # fmt: skip
                _parameters(
                    has_mean, n_differences, ar, ma, solution, n_gaps, n_linear, k_x, reference,
                    up_parameters if side == 0 else down_parameters,
                )  # fmt: skip
            for h in range(horizon):
                forecast_slopes[s, h, i] = (up[h] - down[h]) / (2.0 * step)
            for j in range(n_parameters):
                parameter_slopes[s, j, i] = (up_parameters[j] - down_parameters[j]) / (2.0 * step)
            for other in range(i + 1):
                total = 0.0
                for signs in range(4):
                    for j in range(n_free):
                        raw[j] = found[j]
                    first = 1.0 if signs < 2 else -1.0
                    second = 1.0 if signs % 2 == 0 else -1.0
                    raw[i] += first * step
                    raw[other] += second * step
                    total += first * second * _value(raw, problem, work)
                curvature[s, i, other] = total / (8.0 * step * step)
                curvature[s, other, i] = curvature[s, i, other]
            # At a bound the likelihood falls off like exp(-g u), whose second moment is 2 / g^2; inside, g is zero.
            slope = rise / (4.0 * step)
            curvature[s, i, i] += 0.5 * slope * slope
