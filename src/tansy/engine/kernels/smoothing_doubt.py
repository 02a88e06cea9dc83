"""What not knowing weights, first states and coefficients adds to the variance of a forecast, for the linear forms.

With flat priors on first states b, coefficients and log sigma, and a uniform one on the weights u in the region that
they are searched in, b and sigma integrate out (Harrison, West 1997, chapter 4, for fixed u):

    p(u | y)  ~  Q(u)^(-(n - K)/2)  det(X'X)^(-1/2)

K unknowns b with columns X, Q the least sum of squares given u. The predictive distribution is the mixture over u of
forecasts with variance sigma2 (psi weights + x'(X'X)^-1 x). Unlike the curvature at the optimum, this holds where a
weight lies at its bound and where the likelihood is skew. The mixture is taken over the points of a lattice (Roberts'
generalised golden ratio) in a box that is fitted to the posterior in a first pass.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.least_squares import quadratic_form
from tansy.engine.kernels.options import BORROWING, KERNEL, PART
from tansy.engine.kernels.smoothing import (
    LEAST_SHARE,
    add_missing,
    ahead,
    extent,
    log_prior,
    observed_mean,
    psi_sums,
    psi_weights,
)
from tansy.engine.kernels.smoothing_columns import room_of, set_up, solve_general
from tansy.engine.kernels.smoothing_linear import evaluate, linear_problem

_POINTS = (17, 48, 96, 128)  # by number of weights
_LEAST_WEIGHT = 2e-3  # of the greatest: what weighs less is left out
_HALF_BOX = 3.3  # standard deviations


@njit(**BORROWING)
def _lattice(n, low, high, points):
    d = points.shape[1]
    g = 2.0
    for _ in range(40):  # the positive root of g^(d+1) = g + 1
        g = (1.0 + g) ** (1.0 / (d + 1.0))
    for i in range(n):
        for k in range(d):
            share = (0.5 + (i + 1) * g ** -(k + 1.0)) % 1.0
            points[i, k] = low[k] + (high[k] - low[k]) * share


@njit(**PART)
def _log_posterior(points, problem, n_seen, unknowns, weight):
    """Log posterior at each point, less the greatest; infinite values of Q count as impossible."""
    none = np.zeros(points.shape[1])
    greatest = -math.inf
    given = problem.given
    for i in range(len(points)):
        value = evaluate(points[i], problem, False, none)
        weight[i] = -math.inf
        if math.isfinite(value):
            weight[i] = -0.5 * ((n_seen - unknowns) * value / n_seen + problem.found.log_det[0])
            weight[i] += log_prior(points[i], given.fixed, problem.found.weights, given.has_trend, given.season)
        greatest = max(greatest, weight[i])
    for i in range(len(points)):
        weight[i] -= greatest


@njit(**BORROWING)
def _fit_box(points, weight, low, high):
    """The box that holds the posterior seen so far: mean and standard deviations."""
    total = 0.0
    for i in range(len(points)):
        total += math.exp(weight[i])
    for k in range(points.shape[1]):
        mean = 0.0
        square = 0.0
        for i in range(len(points)):
            mean += math.exp(weight[i]) / total * points[i, k]
        for i in range(len(points)):
            square += math.exp(weight[i]) / total * (points[i, k] - mean) ** 2
        half = _HALF_BOX * max(math.sqrt(square), 0.02 * (high[k] - low[k]))
        low[k] = max(low[k], mean - half)
        high[k] = min(high[k], mean + half)


@njit(**KERNEL)
def doubt_batch(
    values, regressors, harmonic, which, has_trend, damped, m, fixed, fixed_states, shares, forecast,
    variance, total_variance, excess, total_excess, weight_errors, state_errors, coefficient_errors,
):  # fmt: skip
    """Variances of forecasts with everything estimated, about the forecasts of the likeliest parameters.

    values, regressors [groups, T + H, k], harmonic, which, fixed, fixed_states: as in `smoothing_linear.search_batch`.
    shares [series, free]: the optimum. forecast [series, H]: its forecasts; NaN rows are passed over.
    Written: variance and total_variance [series, H], of lead h and of the sum of leads 1..h, and the excess kurtosis
    that the mixture gives them; standard errors of weights [series, 4], first states [series, 2 + m] and coefficients
    [series, k]; NaN where given or not in the form. sigma2 is Q(u)/(n - K), on average over the posterior about Q/(n
    - k + 1) at the optimum, k counting weights, states and the variance.
    """
    n_series = values.shape[0]
    horizon = forecast.shape[1]
    free = shares.shape[1]
    k_x = regressors.shape[2]
    season = 1 if m > 0 else 0
    variance[:] = math.nan
    total_variance[:] = math.nan
    excess[:] = math.nan
    total_excess[:] = math.nan
    weight_errors[:] = math.nan
    state_errors[:] = math.nan
    coefficient_errors[:] = math.nan
    n_points = 1 if free == 0 else _POINTS[free - 1]
    points = np.zeros((n_points, free))
    weight = np.zeros(n_points)
    for s in range(n_series):
        if math.isnan(forecast[s, 0]):
            continue
        start, end, n_seen = extent(values[s])
        reference = observed_mean(values[s]) if math.isnan(fixed_states[s, 0]) else 0.0
        y = values[s, start:end] - reference
        x = regressors[which[s], start:]
        problem = linear_problem(y, x[: len(y)], harmonic, m, has_trend, damped, fixed, fixed_states[s])
        inputs, seen, starts = set_up(y, x[: len(y)], m, has_trend, fixed_states[s])
        n, columns = inputs.shape
        unknowns = columns - 1
        low = np.full(free, LEAST_SHARE)
        high = np.full(free, 1.0 - LEAST_SHARE)
        if free > 0:
            # a first look over the whole box near the optimum and far from it, then the lattice where the mass lies
            for _ in range(3):
                _lattice(n_points, low, high, points)
                points[0] = shares[s]
                _log_posterior(points, problem, n_seen, unknowns, weight)
                _fit_box(points, weight, low, high)
            _lattice(n_points, low, high, points)
            points[0] = shares[s]
            _log_posterior(points, problem, n_seen, unknowns, weight)
        total = 0.0
        for i in range(n_points):
            weight[i] = math.exp(weight[i]) if weight[i] > math.log(_LEAST_WEIGHT) else 0.0
            total += weight[i]
        states = np.zeros(2 + m)
        coefficients = np.zeros(k_x)
        work = room_of(n, unknowns, m)
        response = np.zeros((horizon, columns))
        value = np.zeros(horizon)
        of_leads, of_sums = np.zeros(horizon), np.zeros(horizon)
        own = np.zeros(columns)
        summed = np.zeros(columns)
        z = np.zeros(columns)
        seasonal = np.zeros(m)
        moments = np.zeros((2, 4))
        b_moments = np.zeros((3, unknowns))
        variance[s] = 0.0
        total_variance[s] = 0.0
        excess[s] = 0.0
        total_excess[s] = 0.0
        skipped = len(values[s]) - end
        for i in range(n_points):
            if weight[i] == 0.0:
                continue
            share = weight[i] / total
            least = n_seen * math.exp(evaluate(points[i], problem, False, own) / n_seen)
            sigma2 = least / max(n_seen - unknowns, 1.0)
            weights = problem.found.weights
            solve_general(inputs, seen, starts, m, weights, work, states, coefficients, fixed_states[s], has_trend)
            level, trend, season_at = work.level, work.trend, work.season
            gram, dropped, solution = work.gram, work.dropped, work.solution
            for c in range(columns):
                for j in range(m):
                    seasonal[j] = season_at[j, c]
                long = np.empty(skipped + horizon)
                ahead(season, m, weights, level[c], trend[c], seasonal, n, long)
                for h in range(horizon):
                    response[h, c] = -long[skipped + h]
                    if c < unknowns and c >= unknowns - k_x:
                        response[h, c] += x[n + skipped + h, c - (unknowns - k_x)]
            psi_all = np.empty(skipped + horizon)
            psi_weights(m, weights, psi_all)
            psi_sums(psi_all, skipped, of_leads, of_sums)
            add_missing(values[s, start:end], m, weights, skipped, of_leads, of_sums)
            summed[:] = 0.0
            moved = 0.0
            for h in range(horizon):
                value[h] = reference - response[h, unknowns]
                for c in range(unknowns):
                    value[h] += solution[c] * response[h, c]
                    own[c] = response[h, c]
                    summed[c] += response[h, c]
                off = value[h] - forecast[s, h]
                moved += off
                alone = sigma2 * (of_leads[h] + quadratic_form(gram, unknowns, dropped, own, z))
                summed_up = sigma2 * (of_sums[h] + quadratic_form(gram, unknowns, dropped, summed, z))
                variance[s, h] += share * (alone + off * off)
                total_variance[s, h] += share * (summed_up + moved * moved)
                # fourth moments of a normal with this variance, this far off
                excess[s, h] += share * (3.0 * alone * alone + 6.0 * alone * off * off + off**4)
                total_excess[s, h] += share * (3.0 * summed_up**2 + 6.0 * summed_up * moved * moved + moved**4)
            for w in range(4):
                moments[0, w] += share * weights[w]
                moments[1, w] += share * weights[w] * weights[w]
            for c in range(unknowns):
                own[:] = 0.0
                own[c] = 1.0
                b_moments[0, c] += share * solution[c]
                b_moments[1, c] += share * solution[c] * solution[c]
                b_moments[2, c] += share * sigma2 * quadratic_form(gram, unknowns, dropped, own, z)
        for h in range(horizon):
            excess[s, h] = excess[s, h] / max(variance[s, h] ** 2, 1e-300) - 3.0
            total_excess[s, h] = total_excess[s, h] / max(total_variance[s, h] ** 2, 1e-300) - 3.0
        has = (True, has_trend, m > 0, damped)
        for w in range(4):
            if has[w] and math.isnan(fixed[w]):
                weight_errors[s, w] = math.sqrt(max(moments[1, w] - moments[0, w] ** 2, 0.0))
        c = 0
        for j in range(2 + m):
            if (j == 1 and not has_trend) or not math.isnan(fixed_states[s, j]) or (j == 1 + m and m > 0):
                continue
            spread = b_moments[1, c] - b_moments[0, c] ** 2 + b_moments[2, c]
            state_errors[s, j] = math.sqrt(max(spread, 0.0))
            c += 1
        for j in range(k_x):
            spread = b_moments[1, c + j] - b_moments[0, c + j] ** 2 + b_moments[2, c + j]
            coefficient_errors[s, j] = math.sqrt(max(spread, 0.0))
