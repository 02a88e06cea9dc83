"""Maximum likelihood of additive-error smoothing and of ARIMA with regressors, for a batch of series.

Given the nonlinear parameters (smoothing weights and damping; AR and MA coefficients), the one-step errors are
linear in everything else: starting states, regression coefficients, missing values of a differenced series. So each
evaluation solves those by least squares and the search is over one to four numbers. With Q the least sum of squares,
the search minimises -2 log L up to a constant:

    n log(Q / n)  +  sum of log F  +  log det of the missing values' information

(the last two for ARIMA only; F is the variance of an innovation relative to sigma squared).
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import KERNEL
from tansy.engine.kernels.quasi_newton import descend, learn_curvature
from tansy.engine.kernels.recursions import arma_errors, coefficients_from_partials, smoothing_errors

SMOOTHING = 0
ARIMA = 1

# The box that each family is searched in, and the longest step. Smoothing: every weight as a share of the range that
# the weights before it leave open. ARIMA: partial autocorrelations before tanh, tanh(5) = 0.9999.
_BOXES = ((1e-6, 1.0 - 1e-6, 0.3), (-5.0, 5.0, 2.0))


@njit(**KERNEL)
def _between(share, low, high):
    return low + (high - low) * share


@njit(**KERNEL)
def smoothing_weights(raw, has_trend, damped, m, fixed, weights):
    """Shares of their ranges -> (alpha, beta, gamma, phi) in the region of `methods.md`; a number in `fixed` stays."""
    i = 0
    if math.isnan(fixed[0]):
        weights[0] = _between(raw[i], 0.0, 1.0)
        i += 1
    else:
        weights[0] = fixed[0]
    weights[1] = 0.0
    if has_trend:
        if math.isnan(fixed[1]):
            weights[1] = weights[0] * _between(raw[i], 0.0, 1.0)
            i += 1
        else:
            weights[1] = fixed[1]
    weights[2] = 0.0
    if m > 0:
        if math.isnan(fixed[2]):
            weights[2] = (1.0 - weights[0]) * _between(raw[i], 0.0, 1.0)
            i += 1
        else:
            weights[2] = fixed[2]
    weights[3] = 1.0 if has_trend else 0.0
    if damped:
        if math.isnan(fixed[3]):
            weights[3] = _between(raw[i], 0.8, 0.98)
            i += 1
        else:
            weights[3] = fixed[3]


@njit(**KERNEL)
def _factor(gram, k, n_gaps, dropped):
    """Cholesky factor of the normal matrix in place (lower), the series in row k. Returns (Q, log det of the gap
    block).

    A column that the ones before it explain to 1e-11 of its size is dropped (its coefficient is zero).
    """
    log_det = 0.0
    for j in range(k + 1):
        own = gram[j, j]
        pivot = own
        for i in range(j):
            pivot -= gram[j, i] * gram[j, i]
        if j == k:
            return max(pivot, 1e-15 * own + 1e-200), log_det
        if pivot <= 1e-11 * own or own <= 0.0:
            dropped[j] = True
            for i in range(j, k + 1):
                gram[i, j] = 0.0
            continue
        dropped[j] = False
        root = math.sqrt(pivot)
        if j < n_gaps:
            log_det += math.log(pivot)
        gram[j, j] = root
        for i in range(j + 1, k + 1):
            value = gram[i, j]
            for c in range(j):
                value -= gram[i, c] * gram[j, c]
            gram[i, j] = value / root
    return 0.0, log_det


@njit(**KERNEL)
def _normal_matrix(errors, gram):
    n, columns = errors.shape
    for i in range(columns):
        for j in range(i + 1):
            gram[i, j] = 0.0
    for t in range(n):
        for i in range(columns):
            e = errors[t, i]
            for j in range(i + 1):
                gram[i, j] += e * errors[t, j]


@njit(**KERNEL)
def _errors(raw, problem, work):
    """Errors of all columns at the parameters `raw`; returns sum of log F.

    problem, work: see `fit_batch`, where they are put together.
    """
    family, shape, fixed, inputs, seen, starts, _, _ = problem
    states, errors, spread, weights, ar, ma, _, _ = work
    has_trend, damped, m, p, q = shape
    if family == SMOOTHING:
        smoothing_weights(raw, has_trend > 0, damped > 0, m, fixed, weights)
        for i in range(states.shape[0]):
            for k in range(states.shape[1]):
                states[i, k] = starts[i, k]
        smoothing_errors(
            inputs, seen, m, weights[0], weights[1], weights[2], weights[3],
            states[0], states[1], states[2:], errors,
        )  # fmt: skip
        return 0.0
    coefficients_from_partials(raw[:p], ar)
    coefficients_from_partials(raw[p:], ma)
    for i in range(q):
        ma[i] = -ma[i]
    states[:] = 0.0
    return arma_errors(inputs, seen, ar, ma, states, errors, spread)


@njit(**KERNEL)
def _value(raw, problem, work):
    """What is minimised; leaves the errors of all columns and the factor of their normal matrix in `work`."""
    n_gaps, n_used = problem[6], problem[7]
    errors, gram, dropped = work[1], work[6], work[7]
    log_f = _errors(raw, problem, work)
    _normal_matrix(errors, gram)
    least, log_det = _factor(gram, errors.shape[1] - 1, n_gaps, dropped)
    return n_used * math.log(least / n_used) + log_f + log_det


@njit(**KERNEL)
def _minimise(raw, box, problem, work):
    """Search from `raw`, which is changed in place to the optimum; returns the least value."""
    low, high, longest = box
    n = len(raw)
    best = _value(raw, problem, work)
    if n == 0:
        return best
    inverse_hessian = np.eye(n)
    gradient = np.zeros(n)
    before = np.zeros(n)
    direction = np.zeros(n)
    step = np.zeros(n)
    trial = np.zeros(n)
    held = np.zeros(n, dtype=np.bool_)
    h = 1e-5
    for iteration in range(60):
        for i in range(n):
            before[i] = gradient[i]
        for i in range(n):
            kept = raw[i]
            raw[i] = kept + h
            up = _value(raw, problem, work)
            raw[i] = kept
            gradient[i] = (up - best) / h
        largest = 0.0
        for i in range(n):
            held[i] = (raw[i] <= low and gradient[i] > 0.0) or (raw[i] >= high and gradient[i] < 0.0)
            if not held[i]:
                largest = max(largest, abs(gradient[i]))
        if largest < 2e-3:
            break
        if iteration > 0:
            learn_curvature(inverse_hessian, step, gradient - before, iteration == 1)
        else:
            for i in range(n):
                inverse_hessian[i, i] = 0.3 * longest / largest
        descend(inverse_hessian, gradient, held, direction, longest)
        length = 1.0
        value = best
        for _ in range(14):
            slope = 0.0  # along the step as the box lets it be
            for i in range(n):
                trial[i] = min(high, max(low, raw[i] + length * direction[i]))
                slope += gradient[i] * (trial[i] - raw[i])
            value = _value(trial, problem, work)
            if value <= best + 1e-4 * slope:
                break
            length *= min(0.5, max(0.1, -0.5 * slope / (value - best - slope)))
        if not value < best:
            break
        gained = best - value
        for i in range(n):
            step[i] = trial[i] - raw[i]
            raw[i] = trial[i]
        best = value
        if gained < 2e-5:
            break
    return best


@njit(**KERNEL)
def _solve(gram, k, dropped, solution):
    """Coefficients from the factor left by `_factor`."""
    for j in range(k - 1, -1, -1):
        if dropped[j]:
            solution[j] = 0.0
            continue
        value = gram[k, j]
        for i in range(j + 1, k):
            if not dropped[i]:
                value -= gram[i, j] * solution[i]
        solution[j] = value / gram[j, j]


@njit(**KERNEL)
def _invert_factor(gram, k, dropped, right, solution):
    """Solve L z = right for the factor left by `_factor`; z' z is then right' (E'E)^-1 right."""
    total = 0.0
    for j in range(k):
        if dropped[j]:
            solution[j] = 0.0
            continue
        value = right[j]
        for i in range(j):
            if not dropped[i]:
                value -= gram[j, i] * solution[i]
        solution[j] = value / gram[j, j]
        total += solution[j] * solution[j]
    return total


@njit(**KERNEL)
def _columns(y, regressors, family, shape, d, has_mean, fixed_states):
    """Set up the linear problem of one series.

    Returns (inputs [rows, k + 1], seen [rows], starts [states, k + 1], plain [end - start, k + 1], start, end, n_gaps,
    n_linear, reference). Columns: the missing values of a differenced series, then starting states or the mean, then
    the regressors, and the series itself, less `reference`, last. A state's column starts at -1, so that every
    coefficient is subtracted, as a regressor's is.
    """
    length = len(y)
    has_trend, _, m, p, q = shape
    k_x = regressors.shape[1]
    n_states = 2 + m if family == SMOOTHING else max(p, q + 1)
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
    n_gaps = 0
    n_linear = 0
    if family == SMOOTHING:
        if math.isnan(fixed_states[0]):
            n_linear += 1
        else:
            reference = 0.0
        if has_trend and math.isnan(fixed_states[1]):
            n_linear += 1
        if m > 0 and math.isnan(fixed_states[2]):
            n_linear += m - 1
    else:
        if d > 0:
            n_gaps = end - start - n_seen
        if has_mean:
            n_linear = 1
        elif d == 0:
            reference = 0.0
    k = n_gaps + n_linear + k_x
    rows = length - start if family == SMOOTHING else end - start - d
    plain = np.zeros((length - start if family == SMOOTHING else end - start, k + 1))
    seen = np.ones(max(rows, 0))
    starts = np.zeros((n_states, k + 1))
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
    if family == SMOOTHING:
        c = 0
        if math.isnan(fixed_states[0]):
            starts[0, c] = -1.0
            c += 1
        else:
            starts[0, k] = fixed_states[0]
        if has_trend:
            if math.isnan(fixed_states[1]):
                starts[1, c] = -1.0
                c += 1
            else:
                starts[1, k] = fixed_states[1]
        if m > 0:
            if math.isnan(fixed_states[2]):
                for j in range(m - 1):  # seasonal states sum to zero: the last is minus the others
                    starts[2 + j, c] = -1.0
                    starts[1 + m, c] = 1.0
                    c += 1
            else:
                for j in range(m):
                    starts[2 + j, k] = fixed_states[2 + j]
    inputs = plain.copy()
    for _ in range(d):
        for t in range(len(inputs) - 1, 0, -1):
            for i in range(k + 1):
                inputs[t, i] -= inputs[t - 1, i]
    return inputs[d:].copy(), seen, starts, plain, start, end, n_gaps, n_linear, reference


@njit(**KERNEL)
def _time_power(t, d):
    """The mean's column before differencing: a constant, a line, or half a square, each with d-th difference 1."""
    if d == 0:
        return 1.0
    return float(t) if d == 1 else 0.5 * t * (t - 1.0)


@njit(**KERNEL)
def _forecast(
    family, shape, d, has_mean, weights, ar, states, plain, regressors, start, end, length, n_gaps, n_linear, reference,
    solution, response, forecast,
):  # fmt: skip
    """Forecast every column on its own and put them together.

    Written: response [H, k], what one more unit of each coefficient adds to the forecast; forecast [H].
    Leads count from `length`; where the last values are missing, ARIMA passes over the periods from `end` to there.
    """
    _, _, m, p, _ = shape
    horizon = len(forecast)
    k = response.shape[1]
    regressors.shape[1]
    r = states.shape[0]
    skipped = 0 if family == SMOOTHING else length - end
    rows = len(plain)
    state = np.empty(r)
    last = np.zeros(2)
    for c in range(k + 1):
        for i in range(r):
            state[i] = states[i, c]
        for i in range(d):
            last[i] = plain[rows - d + i, c]
        damping = 0.0
        power = 1.0
        for step in range(skipped + horizon):
            h = step - skipped
            if family == SMOOTHING:
                power *= weights[3]
                damping += power
                value = state[0] + damping * state[1]
                if m > 0:
                    value += state[2 + (rows + step) % m]
            else:
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
def _parameters(
    family, shape, has_mean, d, weights, ar, ma, fixed_states, solution, n_gaps, n_linear, k_x, reference, out
):
    """Parameters in the order that `fit_batch` names."""
    has_trend, damped, m, p, q = shape
    out[:] = math.nan
    offset = n_gaps + n_linear
    if family == SMOOTHING:
        out[0] = weights[0]
        if has_trend:
            out[1] = weights[1]
        if m > 0:
            out[2] = weights[2]
        if damped:
            out[3] = weights[3]
        c = 0
        out[4] = fixed_states[0]
        if math.isnan(fixed_states[0]):
            out[4] = solution[c] + reference
            c += 1
        if has_trend:
            out[5] = fixed_states[1]
            if math.isnan(fixed_states[1]):
                out[5] = solution[c]
                c += 1
        if m > 0:
            last = 0.0
            for j in range(m - 1):
                value = solution[c + j] if math.isnan(fixed_states[2]) else fixed_states[2 + j]
                out[6 + j] = value
                last -= value
            out[5 + m] = last if math.isnan(fixed_states[2]) else fixed_states[1 + m]
        for i in range(k_x):
            out[6 + m + i] = solution[offset + i]
        return
    for i in range(p):
        out[i] = ar[i]
    for i in range(q):
        out[p + i] = ma[i]
    if has_mean:
        out[p + q] = solution[n_gaps] + (reference if d == 0 else 0.0)
    for i in range(k_x):
        out[p + q + 1 + i] = solution[offset + i]


@njit(**KERNEL)
def _psi_squared(family, shape, d, weights, ar, ma, skipped, psi_squared):
    """Variance of each lead's error in units of sigma squared, the parameters taken as known."""
    _, _, m, p, q = shape
    horizon = len(psi_squared)
    psi = np.zeros(skipped + horizon)
    psi[0] = 1.0
    if family == SMOOTHING:
        damping = 0.0
        power = 1.0
        for j in range(1, len(psi)):
            power *= weights[3]
            damping += power
            psi[j] = weights[0] + weights[1] * damping
            if m > 0 and j % m == 0:
                psi[j] += weights[2]
    else:
        for j in range(1, len(psi)):
            value = ma[j - 1] if j - 1 < q else 0.0
            for i in range(min(p, j)):
                value += ar[i] * psi[j - 1 - i]
            psi[j] = value
        for _ in range(d):
            for j in range(1, len(psi)):
                psi[j] += psi[j - 1]
    total = 0.0
    for j in range(len(psi)):
        total += psi[j] * psi[j]
        if j >= skipped:
            psi_squared[j - skipped] = total


@njit(**KERNEL)
def fit_batch(
    values, regressors, family, shape, n_differences, has_mean, fixed, fixed_states, first_raw, warm, least_used,
    forecast, psi_squared, residuals, parameters, raw_found, statistics,
    with_uncertainty, curvature, forecast_slopes, parameter_slopes, linear_variance, linear_parameter_variance,
):  # fmt: skip
    """Fit one form to each row of `values` and forecast it.

    values: [series, T], NaN missing; leading NaN are before the series began.
    regressors: [T + H, k] (k may be 0), shared by the batch.
    shape: (has_trend, damped, m, p, q). n_differences: d of ARIMA.
    has_mean: ARIMA, estimate a mean (d = 0) or a slope per period (d > 0).
    fixed: [4] given alpha, beta, gamma, phi. fixed_states: [2 + m] given level, trend, season1..m. NaN: estimate.
    first_raw: [starts, free parameters], the points that the search starts from.
    warm: [series, free parameters], a better start where it is not NaN (from the origin before).
    least_used: fewest observed values.
    Written, NaN where a series has too few values:
    forecast [series, H]; psi_squared [series, H], the variance of each lead in units of sigma squared;
    residuals [series, T], one-step errors; parameters [series, 4 + 2 + m + k] for smoothing (alpha, beta, gamma,
    phi, level, trend, season1..m, then the regressors) or [series, p + q + 1 + k] for ARIMA (ar, ma, mean or drift,
    then the regressors); raw_found as `warm`; statistics [series, 4]: log-likelihood, sigma2 = Q/n, n used, Q.
    With `with_uncertainty` also, by the profile likelihood over the searched numbers u (see `methods.uncertainty`):
    curvature [series, free, free], second derivatives of -log L in u; forecast_slopes [series, H, free] and
    parameter_slopes [series, P, free], first derivatives in u with everything linear re-estimated; and in units of
    sigma squared, given u: linear_variance [series, H] and linear_parameter_variance [series, P].
    """
    n_series, length = values.shape
    k_x = regressors.shape[1]
    n_free = first_raw.shape[1]
    _, _, _m, p, q = shape
    box = _BOXES[family]
    weights = np.zeros(4)
    ar = np.zeros(p)
    ma = np.zeros(q)
    raw = np.zeros(n_free)
    found = np.zeros(n_free)
    horizon = forecast.shape[1]
    n_parameters = parameters.shape[1]
    forecast[:] = math.nan
    psi_squared[:] = math.nan
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
        inputs, seen, starts, plain, start, end, n_gaps, n_linear, reference = _columns(
            y, regressors, family, shape, n_differences, has_mean, fixed_states
        )
        rows, k = inputs.shape[0], inputs.shape[1] - 1
        n_used = n_seen - n_differences
        errors = np.empty((rows, k + 1))
        spread = np.ones(rows)
        states = np.zeros((starts.shape[0], k + 1))
        gram = np.zeros((k + 1, k + 1))
        dropped = np.zeros(k + 1, dtype=np.bool_)
        problem = (family, shape, fixed, inputs, seen, starts, n_gaps, n_used)
        work = (states, errors, spread, weights, ar, ma, gram, dropped)
        best = math.inf
        is_warm = n_free > 0 and not math.isnan(warm[s, 0])
        for i in range(1 if is_warm else first_raw.shape[0]):
            for j in range(n_free):
                raw[j] = warm[s, j] if is_warm else first_raw[i, j]
            value = _minimise(raw, box, problem, work)
            if value < best or i == 0:
                best = value
                for j in range(n_free):
                    found[j] = raw[j]
        log_f = _errors(found, problem, work)
        _normal_matrix(errors, gram)
        _, log_det = _factor(gram, k, n_gaps, dropped)
        solution = np.zeros(k)
        response = np.zeros((horizon, k))
        _solve(gram, k, dropped, solution)
        _forecast(
            family, shape, n_differences, has_mean, weights, ar, states, plain, regressors, start, end, length, n_gaps,
            n_linear, reference, solution, response, forecast[s],
        )  # fmt: skip
        _psi_squared(
            family,
            shape,
            n_differences,
            weights,
            ar,
            ma,
            0 if family == SMOOTHING else length - end,
            psi_squared[s],
        )
        _parameters(
            family, shape, has_mean, n_differences, weights, ar, ma, fixed_states, solution, n_gaps, n_linear, k_x,
            reference, parameters[s],
        )  # fmt: skip
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
        for h in range(horizon):
            linear_variance[s, h] = _invert_factor(gram, k, dropped, response[h], scratch)
        unit = np.zeros(k)
        for c in range(n_gaps, k):
            unit[:] = 0.0
            unit[c] = 1.0
            variance = _invert_factor(gram, k, dropped, unit, scratch)
            if family == ARIMA:
                at = p + q + (c - n_gaps) + (0 if has_mean else 1)
            elif c >= n_linear:
                at = n_parameters - k_x + c - n_linear
            else:
                at = 4 + c  # level, trend, seasons: the states that are estimated, in order
                if not math.isnan(fixed_states[0]):
                    at += 1
                if at >= 5 and (shape[0] == 0 or not math.isnan(fixed_states[1])):
                    at += 1
            linear_parameter_variance[s, at] = variance
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
                _solve(gram, k, dropped, solution)
                _forecast(
                    family, shape, n_differences, has_mean, weights, ar, states, plain, regressors, start, end, length,
                    n_gaps, n_linear, reference, solution, response, up if side == 0 else down,
                )  # fmt: skip
                _parameters(
                    family, shape, has_mean, n_differences, weights, ar, ma, fixed_states, solution, n_gaps, n_linear,
                    k_x, reference, up_parameters if side == 0 else down_parameters,
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
