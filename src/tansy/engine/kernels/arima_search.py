"""Maximum likelihood of seasonal ARIMA with regressors, for a batch of series.

Given the coefficients of phi and theta, the one-step errors are linear in everything else: mean or drift, regression
coefficients, values that are missing before differencing. Those are solved by least squares in every evaluation. With Q
the least sum of squares, F the variances of the innovations and G the normal matrix of the missing values, -2 log L is,
but for a constant,

    n log(Q / n) + sum of log F + log det G  =  n log(sum of r^2 / n),  r = e exp((sum of log F + log det G) / 2n),

so that the search is a problem of least squares, which Levenberg's and Marquardt's method solves in a few steps with
differences for derivatives (Nocedal, Wright 2006, section 10.3). What is searched are partial autocorrelations before
tanh, which keeps every factor stationary and invertible; where a coefficient is given by hand, the others of its factor
are searched as they are.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.arima_model import set_coefficients
from tansy.engine.kernels.arma import first_guess, innovations, long_residuals, set_process
from tansy.engine.kernels.least_squares import (
    back_substitute,
    cholesky,
    copy_into,
    dots,
    inverse_of_normal,
    less,
    normal_matrix,
)
from tansy.engine.kernels.missing import missing_innovations
from tansy.engine.kernels.options import BORROWING, INLINED, PART
from tansy.engine.kernels.quasi_newton import advance, begin, least_value, new_search

BOUND = 5.0  # of partial autocorrelations before tanh, tanh(5) = 0.9999
_LONGEST = 1.5
_STEP = 1e-5
_MOST_STEPS = 40
_FOLLOWED = 8  # searches from the lowest starts, at most
_NEAR = 0.5  # in every direction: then two searches are at the same place
_AGREED = 4  # searches that end where the best one did, beside it
_ATTEMPTS = 1 + _FOLLOWED  # with the one from a regression
_DOUBTFUL = 2.0  # of -2 log L: sketchy searches that ended so near the lowest one may lead below it
_STILL_DOUBTFUL = 0.3  # of -2 log L: closer ones that did
_PROMISING, _CLOSE = 0.1, 1e-3  # of -2 log L: how far searches are followed before the best ones go on to the end
EXACT, LOOSE = 1e-14, 1e-8  # when gains count as settled


@njit(**BORROWING)
def evaluate(raw, problem, settled):
    """n log(sum of r^2 / n), infinite where the process is not stationary.

    Leaves in the work: coefficients, what the past says ahead, errors of all rows, their spread, the factored normal
    matrix, what is linear, and r.
    """
    data, room, work = problem.data, problem.room, problem.work
    n_gaps, n_used = data.counts.n_gaps, data.counts.n_used
    errors, gram, dropped, solution, rest = work.errors, work.gram, work.dropped, work.solution, work.rest
    if not set_coefficients(raw, problem.orders, problem.fixed, work.coefficients, work.partials):
        return math.inf
    if not set_process(problem.orders, work.coefficients, room):
        return math.inf
    if data.full:
        log_f = missing_innovations(
            data.levels, data.seen, data.polynomial, data.lags, room, settled, work.ahead, errors, work.spread,
            work.filtering,
        )  # fmt: skip
    else:
        log_f = innovations(data.inputs, room, settled, work.ahead, errors, work.spread)
    k, n = len(data.inputs) - 1, data.inputs.shape[1]
    own = errors[k]
    if k > 0:
        normal_matrix(errors, n, gram)
        cholesky(gram, k, dropped)
        back_substitute(gram, k, k, dropped, solution)
        for j in range(n_gaps):
            log_f += 2.0 * math.log(gram[j, j])
    scale = math.exp(0.5 * log_f / n_used)
    total = 0.0
    for t in range(n):
        rest[t] = own[t]
    for c in range(k):
        for t in range(n):
            rest[t] -= solution[c] * errors[c, t]
    for t in range(n):
        rest[t] *= scale
        total += rest[t] * rest[t]
    size = dots(own, own, n) * scale * scale
    total = max(total, 1e-15 * size + 1e-200)
    if not math.isfinite(total):
        return math.inf
    return n_used * math.log(total / n_used)


@njit(**PART)
def _filtered_slopes(raw, problem, slopes):
    """Slopes of r by each number searched, but for what the first periods and log F do to them.

    With e = phi(B) Phi(B^m) w / (theta(B) Theta(B^m)), the derivative by an AR coefficient is w filtered by all but its
    own factor, that by an MA coefficient e over its own factor, shifted by its lag: four filters serve all of them.
    What is linear is projected out (Kaufman 1975).
    """
    orders, work, inputs = problem.orders, problem.work, problem.data.inputs
    p, q, sp, _, m = orders
    coefficients, errors, gram, dropped = work.coefficients, work.errors, work.gram, work.dropped
    solution, rest = work.solution, work.rest
    k = len(inputs) - 1
    n = inputs.shape[1]
    free = len(raw)
    count = len(coefficients)
    before = coefficients.copy()
    ar, ma = before[:p], before[p : p + q]
    sar, sma = before[p + q : p + q + sp], before[p + q + sp :]
    w = inputs[k].copy()
    e = errors[k].copy()
    for c in range(k):
        less(w, solution[c], inputs[c])
        less(e, solution[c], errors[c])
    size = dots(e, e, n)
    scale = math.sqrt(dots(rest, rest, n) / size) if size > 0.0 else 1.0
    of_ar, of_ma, of_sar, of_sma = w.copy(), e.copy(), w.copy(), e.copy()
    for j in range(sp):
        lag = min((j + 1) * m, n)
        less(of_ar[lag:], sar[j], w[: n - lag])
    for j in range(p):
        less(of_sar[j + 1 :], ar[j], w[: n - j - 1])
    if p > 0:
        _divide(of_ar, ma, 1)
        _divide(of_ar, sma, m)
    if sp > 0:
        _divide(of_sar, ma, 1)
        _divide(of_sar, sma, m)
    _divide(of_ma, ma, 1)
    _divide(of_sma, sma, m)
    slopes[:] = 0.0
    for i in range(free):
        at = raw[i]
        h = -_STEP if at > 0.0 else _STEP
        raw[i] = at + h
        set_coefficients(raw, orders, problem.fixed, coefficients, work.partials)
        raw[i] = at
        for c in range(count):
            share = -scale * (coefficients[c] - before[c]) / h
            if share == 0.0:
                continue
            if c < p:
                lag, source = c + 1, of_ar
            elif c < p + q:
                lag, source = c - p + 1, of_ma
            elif c < p + q + sp:
                lag, source = (c - p - q + 1) * m, of_sar
            else:
                lag, source = (c - p - q - sp + 1) * m, of_sma
            if lag < n:
                less(slopes[i, lag:], -share, source[: n - lag])
    coefficients[:] = before
    z = np.empty(k)
    for i in range(free):
        for c in range(k):
            value = dots(slopes[i], errors[c], n)
            for j in range(c):
                value -= gram[c, j] * z[j]
            z[c] = 0.0 if dropped[c] else value / gram[c, c]
        for c in range(k - 1, -1, -1):
            for j in range(c + 1, k):
                z[c] -= gram[j, c] * z[j]
            z[c] = 0.0 if dropped[c] else z[c] / gram[c, c]
            less(slopes[i], z[c], errors[c])


@njit(**BORROWING)
def _divide(x, coefficients, m):
    """x over 1 + c_1 B^m + c_2 B^2m + ..., in place."""
    if len(coefficients) == 0:
        return
    if len(coefficients) == 1 and m == 1:
        last = 0.0
        for t in range(len(x)):
            last = x[t] - coefficients[0] * last
            x[t] = last
        return
    for t in range(m, len(x)):
        value = x[t]
        for j in range(len(coefficients)):
            lag = (j + 1) * m
            if lag > t:
                break
            value -= coefficients[j] * x[t - lag]
        x[t] = value


@njit(**BORROWING)
def _learn_slopes(step, slopes, before, after):
    """What a step says about the slopes along it (Broyden 1965): exact where r was evaluated, else unchanged. before is
    overwritten."""
    free = len(step)
    size = dots(step, step, free)
    for t in range(len(before)):
        before[t] = (after[t] - before[t]) / size
    for i in range(free):
        less(before, step[i] / size, slopes[i])
    for i in range(free):
        less(slopes[i], -step[i], before)


@njit(**BORROWING)
def _set_normal(slopes, n, gradient, held, cut, damping, ridge, gram):
    """Damped normal equations of the step; those held take the step `cut`."""
    free = len(gradient)
    for i in range(free):
        gram[free, i] = cut[i] if held[i] > 0.0 else -gradient[i]
    for i in range(free):
        for j in range(i + 1):
            product = dots(slopes[i], slopes[j], n)
            gram[i, j] = product if held[i] == 0.0 and held[j] == 0.0 else 0.0
            if held[i] == 0.0 and held[j] > 0.0:
                gram[free, i] -= product * cut[j]
            elif held[j] == 0.0 and held[i] > 0.0:
                gram[free, j] -= product * cut[i]
        gram[i, i] = 1.0 if held[i] > 0.0 else gram[i, i] * (1.0 + damping) + ridge
    gram[free, free] = 0.0


@njit(**BORROWING)
def _difference(raw, problem, settled):
    """Slopes of r at `raw`, where it was evaluated last, by differences away from the bounds; r is left as it was."""
    rest, slopes, before = problem.work.rest, problem.work.slopes, problem.work.before
    copy_into(before, rest)
    for i in range(len(raw)):
        at = raw[i]
        h = -_STEP if at > 0.0 else _STEP
        raw[i] = at + h
        moved = evaluate(raw, problem, settled)
        raw[i] = at
        for t in range(len(rest)):
            slopes[i, t] = (rest[t] - before[t]) / h if math.isfinite(moved) else 0.0
    copy_into(rest, before)


@njit(**BORROWING)
def descend(raw, problem, settled, enough):
    """Search from `raw`, which is changed in place to the optimum; returns (the least value, evaluations).

    enough: stop where the model of least squares promises less. Slopes are taken by differences at the start and where
    they have led astray, and are learnt from the steps in between.
    """
    work = problem.work
    rest, slopes, gram, dropped, before = work.rest, work.slopes, work.normal, work.held, work.before
    n_used = problem.data.counts.n_used
    free = len(raw)
    n = len(rest)
    gradient, step, trial, held, cut = work.scratch
    value = evaluate(raw, problem, settled)
    tried = 1
    if free == 0 or math.isinf(value):
        return value, tried
    damping = 1e-3
    fresh = False
    failed = 0
    learnt = False
    cheap = enough >= _PROMISING and not problem.data.full
    for _ in range(_MOST_STEPS):
        if not learnt and cheap:
            _filtered_slopes(raw, problem, slopes)
            fresh = True
            learnt = True
        elif not learnt:
            _difference(raw, problem, settled)
            tried += free
            fresh = True
            learnt = True
        total = dots(rest, rest, n)
        for i in range(free):
            gradient[i] = dots(slopes[i], rest, n)
            held[i] = 0.0
        # a step that leads too far is cut off, and the others are solved for beside what is left of it
        for _ in range(free + 1):
            _set_normal(slopes, n, gradient, held, cut, damping, 1e-12 * total, gram)
            cholesky(gram, free, dropped)
            back_substitute(gram, free, free, dropped, step)
            too_far = False
            for i in range(free):
                most = min(_LONGEST, BOUND - raw[i])
                least = max(-_LONGEST, -BOUND - raw[i])
                if held[i] == 0.0 and not least <= step[i] <= most:
                    held[i] = 1.0
                    cut[i] = most if step[i] > most else least
                    too_far = True
            if not too_far:
                break
        promised = 0.0
        for i in range(free):
            trial[i] = min(BOUND, max(-BOUND, raw[i] + step[i]))
            promised -= gradient[i] * step[i]
        promised *= n_used / total
        if promised < enough:
            if fresh or enough >= _PROMISING:
                break
            learnt = False
            continue
        copy_into(before, rest)
        moved = evaluate(trial, problem, settled)
        tried += 1
        if moved < value:
            gained = value - moved
            value = moved
            copy_into(raw, trial)
            failed = 0
            damping *= 0.1 if gained > 0.25 * promised else 2.0
            fresh = False
            learnt = gained >= 0.25 * promised
            if learnt:
                _learn_slopes(step, slopes, before, rest)
            continue
        copy_into(rest, before)
        if fresh:
            damping = max(damping * 10.0, 1e-3)
            failed += 1
            if failed > (3 if cheap else 8):
                break
        else:
            learnt = False
    return value, tried


@njit(**PART)
def settle(raw, problem, enough):
    """Search from `raw`, near an optimum, to the end; as `descend`, but exact, and by BFGS.

    Where what is left of the residuals curves, as on ridges along which factors nearly cancel, steps of least squares
    only creep; their curvature is where the search begins.
    """
    rest, slopes, gram = problem.work.rest, problem.work.slopes, problem.work.normal
    n_used = problem.data.counts.n_used
    free = len(raw)
    n = len(rest)
    tried = 0
    gradient = np.zeros(free)
    inverse = np.zeros((free, free))
    low, high, longest = np.full(free, -BOUND), np.full(free, BOUND), np.full(free, 0.5)
    points = np.zeros((1, free))
    for i in range(free):
        points[0, i] = min(BOUND, max(-BOUND, raw[i]))
    search = new_search(1, free)
    first = True
    while True:
        value = evaluate(points[0], problem, EXACT)
        tried += 1
        if math.isfinite(value):
            _difference(points[0], problem, EXACT)
            tried += free
        weight = 2.0 * n_used / max(dots(rest, rest, n), 1e-200)
        for i in range(free):
            gradient[i] = weight * dots(slopes[i], rest, n)
        if first:
            for i in range(free):
                for j in range(i + 1):
                    gram[i, j] = weight * dots(slopes[i], slopes[j], n)
            trusted = inverse_of_normal(gram[:free, :free], search.free, inverse)
            if trusted:
                search.inverse_hessian[0] = inverse
            begin(search, 0, trusted)
            first = False
        if advance(search, 0, points, value, gradient, low, high, longest, enough):
            break
    raw[:] = points[0]
    return least_value(search, 0), tried


@njit(**PART)
def guesses_of(inputs, m):
    """The series without what is linear, and a guess of its innovations; see `arma.first_guess`."""
    rows, n = inputs.shape
    w = inputs[rows - 1].copy()
    if rows > 1:
        gram = np.zeros((rows, rows))
        dropped = np.zeros(rows, dtype=np.bool_)
        solution = np.zeros(rows)
        normal_matrix(inputs, n, gram)
        cholesky(gram, rows - 1, dropped)
        back_substitute(gram, rows - 1, rows - 1, dropped, solution)
        for c in range(rows - 1):
            less(w, solution[c], inputs[c])
    return w, long_residuals(w, max(10, m + 3))


@njit(**INLINED)
def fit_one(starts, problem, enough, raw):
    """Fit from the regression of Hannan and Rissanen where no coefficient is given, and from the lowest of `starts`.
    The optimum is left in raw and, by an exact evaluation, in the work. Returns (value, evaluations).

    The likelihood of a mixed model has several tops, often one on a ridge where its factors cancel and a higher one
    near the edge. So several searches are followed some way, none from near where another ended, until three end at
    the same place; the best goes on to the end.
    """
    free = len(raw)
    n_starts = len(starts)
    at_start = np.empty(n_starts)
    for i in range(n_starts):
        at_start[i] = evaluate(starts[i], problem, LOOSE)
    tried = n_starts + 1
    orders = problem.orders
    guess = np.full(free, math.nan)
    if free > 0 and free == orders.p + orders.q + orders.sp + orders.sq:
        w, residuals = guesses_of(problem.data.inputs, orders.m)
        first_guess(w, residuals, orders, guess)
    found = np.zeros(free)
    tops = np.zeros((_ATTEMPTS, free))
    values = np.full(_ATTEMPTS, math.inf)
    ends = np.full(_ATTEMPTS, math.inf)
    least = math.inf
    agreed = 0
    for attempt in range(1 + min(_FOLLOWED, n_starts)):
        if attempt == 0:
            found[:] = guess
        else:
            lowest = int(np.argmin(at_start))
            if math.isinf(at_start[lowest]):
                break
            found[:] = starts[lowest]
            at_start[lowest] = math.inf
        if free > 0 and math.isnan(found[0]):
            continue
        value, more = descend(found, problem, LOOSE, _PROMISING)
        tried += more
        tops[attempt] = found
        values[attempt] = value
        if abs(value - least) < 2.0 * _PROMISING and _apart(found, raw) < _NEAR:
            agreed += 1
        elif value < least:
            agreed = 0
        if value < least:
            least = value
            raw[:] = found
        if agreed == _AGREED:
            break
        for i in range(n_starts):
            if _apart(starts[i], found) < _NEAR:
                at_start[i] = math.inf
    # Ends of sketchy searches say little about which top is the highest one: all that may be it are followed further,
    # and those between which that leaves a doubt to the end.
    for closer in (True, False):
        first = least
        least = math.inf
        for attempt in range(_ATTEMPTS):
            best = int(np.argmin(values))
            if attempt > 0 and not values[best] < first + (_DOUBTFUL if closer else _STILL_DOUBTFUL):
                break
            values[best] = math.inf
            if attempt > 0 and _apart(tops[best], raw) < _NEAR:
                continue
            found[:] = tops[best]
            if closer:
                value, more = descend(found, problem, LOOSE, _CLOSE)
                tops[best] = found
                ends[best] = value
            else:
                value, more = settle(found, problem, enough)
            tried += more
            if value < least:
                least = value
                raw[:] = found
        values[:] = ends
    return evaluate(raw, problem, EXACT), tried


@njit(**BORROWING)
def _apart(one, other):
    """The longest way between them in any direction."""
    longest = 0.0
    for j in range(len(one)):
        longest = max(longest, abs(one[j] - other[j]))
    return longest
