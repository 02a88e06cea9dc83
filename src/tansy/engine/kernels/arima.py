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

from tansy.engine.kernels.arma import (
    coefficients_from_partials,
    first_guess,
    innovations,
    long_residuals,
    partials_from_coefficients,
    process,
    set_process,
)
from tansy.engine.kernels.least_squares import (
    back_substitute,
    cholesky,
    copy_into,
    dots,
    inverse_of_normal,
    less,
    normal_matrix,
    quadratic_form,
)
from tansy.engine.kernels.missing import doubt_ahead, missing_innovations, most_missing, run_on
from tansy.engine.kernels.options import BORROWING, INLINED, KERNEL, PART
from tansy.engine.kernels.quasi_newton import advance, begin, least_value, new_search
from tansy.engine.kernels.smoothing import extent, observed_mean, psi_sums

NO_MEAN, CONSTANT, DRIFT = 0, 1, 2
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
# missing values that cost a column each rather than the full filter, which costs more the more numbers its state has
_MOST_FILLED, _MORE_FILLED = 24, 2
EXACT, LOOSE = 1e-14, 1e-8  # when gains count as settled


@njit(**PART)
def difference_polynomial(d, seasonal_d, m):
    """dl of y_t = w_t + sum of dl_k y_{t-k}, k = 1, 2, ...; w is y differenced d times and D times at lag m."""
    polynomial = np.zeros(d + seasonal_d * m + 1)
    polynomial[0] = 1.0
    for i in range(d + seasonal_d):
        lag = 1 if i < d else m
        for k in range(len(polynomial) - 1, lag - 1, -1):
            polynomial[k] -= polynomial[k - lag]
    return -polynomial[1:]


@njit(**BORROWING)
def set_coefficients(raw, orders, fixed, coefficients, partials):
    """Coefficients (ar, ma, sar, sma) at the numbers searched; False outside what is stationary and invertible."""
    p, q, sp, sq, _ = orders
    at = 0
    free = 0
    for factor in range(4):
        size = (p, q, sp, sq)[factor]
        sign = -1.0 if factor % 2 else 1.0
        own = coefficients[at : at + size]
        any_fixed = False
        for i in range(size):
            any_fixed = any_fixed or not math.isnan(fixed[at + i])
        if any_fixed:
            for i in range(size):
                own[i] = fixed[at + i]
                if math.isnan(own[i]):
                    own[i] = raw[free]
                    free += 1
                own[i] *= sign
            if not partials_from_coefficients(own, partials):
                return False
        else:
            coefficients_from_partials(raw[free : free + size], own)
            free += size
        for i in range(size):
            own[i] *= sign
        at += size
    return True


@njit(**BORROWING)
def count_free(fixed):
    free = 0
    for value in fixed:
        if math.isnan(value):
            free += 1
    return free


@njit(**BORROWING)
def _power(t, order):
    """What differenced `order` times is 1."""
    return t if order == 1 else 0.5 * t * t if order == 2 else t * t * t / 6.0 if order == 3 else 1.0


@njit(**PART)
def data_of(y, regressors, differences, m, mean, reach):
    """What models with the same differences and mean share.

    y: [T], NaN missing. regressors: [T or more, k]. differences: (d, D), of season length m. reach: longest lag of the
    coefficients. The rows of the inputs are one for each missing value, mean or drift, the regressors, and the series
    itself. With many missing values the full filter runs: only those among the first levels, which differences start
    from, have a row then, and the inputs, from which searches begin, bridge the others by straight lines.
    Returns (inputs, levels, seen, full, polynomial of the differences and its lags), (n_gaps, n_linear, n_used, start,
    end), (reference, order and scale of the mean's power of time).
    """
    d, seasonal_d = differences
    lost = d + seasonal_d * m
    start, end, n_seen = extent(y)
    length = end - start
    full = length - n_seen > _MOST_FILLED + _MORE_FILLED * max(lost, reach)
    n_gaps = length - n_seen
    if full:
        n_gaps = 0
        for t in range(min(lost, length)):
            n_gaps += 1 if math.isnan(y[start + t]) else 0
    n_linear = 1 if mean != NO_MEAN else 0
    k_x = regressors.shape[1]
    rows = n_gaps + n_linear + k_x + 1
    order = d + seasonal_d
    scale = float(m) ** -seasonal_d if mean == CONSTANT else 1.0
    reference = observed_mean(y) if n_linear > 0 or lost > 0 else 0.0
    levels = np.zeros((rows, length))
    seen = np.ones(length)
    gap = 0
    for t in range(length):
        if math.isnan(y[start + t]):
            seen[t] = 0.0
            if not full or t < lost:
                levels[gap, t] = -1.0  # so that its coefficient is the value itself, less the reference
                gap += 1
        else:
            levels[rows - 1, t] = y[start + t] - reference
        if n_linear > 0:
            levels[n_gaps, t] = scale * _power(float(t), order)
        for i in range(k_x):
            levels[n_gaps + n_linear + i, t] = regressors[start + t, i]
    if full:
        _bridge(levels[rows - 1], seen, lost)
    inputs = np.empty((rows, max(length - lost, 0)))
    polynomial = difference_polynomial(d, seasonal_d, m)
    for c in range(rows):
        for t in range(lost, length):
            value = levels[c, t]
            for j in range(lost):
                if polynomial[j] != 0.0:
                    value -= polynomial[j] * levels[c, t - 1 - j]
            inputs[c, t - lost] = value
    counts = n_gaps, n_linear, n_seen - lost, start, end
    lags = np.nonzero(polynomial)[0] + 1
    return (inputs, levels, seen, full, polynomial, lags), counts, (reference, order, scale)


@njit(**BORROWING)
def _bridge(y, seen, first):
    """Straight lines over what is missing from `first` on, in place; the first and the last value are seen."""
    before = 0
    for t in range(1, len(y)):
        if seen[t] == 0.0:
            continue
        for i in range(max(before + 1, first), t):
            y[i] = y[before] + (y[t] - y[before]) * (i - before) / (t - before)
        before = t


@njit(**PART)
def problem_of(data, orders, fixed):
    """A model of some data, with room for its evaluations: (orders, fixed, ...data, room, work)."""
    arrays, counts, scales = data
    rows, n = arrays[0].shape
    room = process(orders, n)
    free = count_free(fixed)
    lost = arrays[1].shape[1] - n
    most = most_missing(arrays[2], lost) if arrays[3] else 0
    size = room[0] + most if arrays[3] else 0
    filtering = np.zeros((2, size, size)), np.zeros(size), np.zeros(most, dtype=np.int64)
    work = (
        np.zeros(len(fixed)), np.zeros(len(fixed) + 1), np.zeros((rows, n + room[0] + 1)), np.zeros((rows, n)),
        np.ones(n), np.zeros((rows, rows)), np.zeros(rows, dtype=np.bool_), np.zeros(rows), np.zeros(n),
        np.zeros((free, n)), np.zeros((free + 1, free + 1)), np.zeros(free, dtype=np.bool_), np.zeros((5, free)),
        np.zeros(n), filtering,
    )  # fmt: skip
    return orders, fixed, arrays, counts, scales, room, work


@njit(**BORROWING)
def evaluate(raw, problem, settled):
    """n log(sum of r^2 / n), infinite where the process is not stationary.

    Leaves in the work: coefficients, what the past says ahead, errors of all rows, their spread, the factored normal
    matrix, what is linear, and r.
    """
    orders, fixed, (inputs, levels, seen, full, polynomial, lags), (n_gaps, _, n_used, _, _), _, room, work = problem
    coefficients, partials, ahead, errors, spread, gram, dropped, solution, rest = work[:9]
    if not set_coefficients(raw, orders, fixed, coefficients, partials):
        return math.inf
    if not set_process(orders, coefficients, room):
        return math.inf
    if full:
        log_f = missing_innovations(levels, seen, polynomial, lags, room, settled, ahead, errors, spread, work[14])
    else:
        log_f = innovations(inputs, room, settled, ahead, errors, spread)
    k = len(inputs) - 1
    n = inputs.shape[1]
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
    orders, fixed, work = problem[0], problem[1], problem[6]
    p, q, sp, _, m = orders
    inputs = problem[2][0]
    coefficients, partials, _, errors, _, gram, dropped, solution, rest = work[:9]
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
        set_coefficients(raw, orders, fixed, coefficients, partials)
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
    rest, slopes, before = problem[6][8], problem[6][9], problem[6][13]
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
    slopes, gram, dropped, scratch, before = problem[6][9:14]
    rest = problem[6][8]
    n_used = problem[3][2]
    free = len(raw)
    n = len(rest)
    gradient, step, trial, held, cut = scratch[0], scratch[1], scratch[2], scratch[3], scratch[4]
    value = evaluate(raw, problem, settled)
    tried = 1
    if free == 0 or math.isinf(value):
        return value, tried
    damping = 1e-3
    fresh = False
    failed = 0
    learnt = False
    cheap = enough >= _PROMISING and not problem[2][3]
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
    rest, slopes, gram = problem[6][8:11]
    n_used = problem[3][2]
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
            trusted = inverse_of_normal(gram[:free, :free], search[6][0], inverse)
            if trusted:
                search[2][0] = inverse
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
    orders = problem[0]
    guess = np.full(free, math.nan)
    if free > 0 and free == orders[0] + orders[1] + orders[2] + orders[3]:
        w, residuals = guesses_of(problem[2][0], orders[4])
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


@njit(**PART)
def forecast_columns(problem, regressors, total_length, response, forecast):
    """Forecast every row on its own and put them together, differences undone.

    total_length: T, from which leads count; where the last values are missing, the periods up to there are passed over.
    Written: response [H, k], what one more unit of each coefficient adds to the forecast; forecast [H].
    """
    _, _, arrays, (n_gaps, n_linear, _, start, end), (reference, order, scale), room, work = problem
    inputs, levels, _, _, polynomial, _ = arrays
    r, phi = room[0], room[1]
    ahead, solution = work[2], work[7]
    rows, length = levels.shape
    n = inputs.shape[1]
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
            path[i] = levels[c, length - lost + i]
        run_on(state, path, lost, phi, polynomial)
        for h in range(horizon):
            value = path[lost + skipped + h]
            if c == k:
                forecast[h] = reference + value
            elif c < n_gaps:
                response[h, c] = -value
            elif c < n_gaps + n_linear:
                response[h, c] = scale * _power(float(total_length + h - start), order) - value
            else:
                response[h, c] = regressors[total_length + h, c - n_gaps - n_linear] - value
    for h in range(horizon):
        for c in range(k):
            forecast[h] += solution[c] * response[h, c]


@njit(**PART)
def columns_of(orders, most, n_linear, mean, k_x):
    """Where coefficients (ar, ma, sar, sma), mean or drift and regressors stand among parameters laid out for orders up
    to `most`: ar, ma, sar, sma, mean or constant, drift, regressors."""
    count = orders[0] + orders[1] + orders[2] + orders[3]
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
    forecast, psi_squared, psi_total, residuals, parameters, raw_found, statistics, evaluations = outputs
    forecast[:] = math.nan
    psi_squared[:] = math.nan
    psi_total[:] = math.nan
    residuals[:] = math.nan
    parameters[:] = math.nan
    raw_found[:] = math.nan
    statistics[:] = math.nan
    evaluations[:] = 0


@njit(**PART)
def report(s, value, raw, problem, columns, x, length, outputs, with_uncertainty, uncertain):
    """Write what was found for series s, after an exact evaluation at raw; see `fit_batch` for what is what."""
    forecast, psi_squared, psi_total, residuals, parameters, raw_found, statistics, _ = outputs
    curvature, forecast_slopes, parameter_slopes, linear_variance, linear_total, linear_covariance = uncertain
    n_gaps, n_linear, n_used, start, end = problem[3]
    coefficients, _, _, errors, spread, _, dropped, solution, rest = problem[6][:9]
    lost = len(problem[2][4])
    free = len(raw)
    horizon = forecast.shape[1]
    k = len(errors) - 1
    n_coefficients = len(coefficients)
    raw_found[s, :free] = raw
    for i in range(n_coefficients):
        parameters[s, columns[i]] = coefficients[i]
    for i in range(k - n_gaps):  # a regressor that does not vary on its own has no coefficient
        alone = i < n_linear or not dropped[n_gaps + i]
        parameters[s, columns[n_coefficients + i]] = solution[n_gaps + i] if alone else math.nan
    if n_linear > 0 and lost == 0:
        parameters[s, columns[n_coefficients]] += problem[4][0]
    own = 0.0
    for t in range(len(rest)):
        e = errors[k, t]
        for c in range(k):
            e -= solution[c] * errors[c, t]
        own += e * e
        if problem[2][2][lost + t] > 0.0:
            residuals[s, start + lost + t] = e * spread[t]
    statistics[s, 0] = -0.5 * (value + n_used * (math.log(2.0 * math.pi) + 1.0))
    statistics[s, 1] = own / n_used
    statistics[s, 2] = n_used
    statistics[s, 3] = own
    response = np.zeros((horizon, k))
    forecast_columns(problem, x, length, response, forecast[s])
    _spread_ahead(problem, response, length - end, psi_squared[s], psi_total[s])
    if not with_uncertainty:
        return
    covariance = np.zeros((k - n_gaps, k - n_gaps))
    _linear_uncertainty(problem, response, linear_variance[s], linear_total[s], covariance)
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
                parameter_slopes[s, columns[j], i] += sign * 0.5 / h * coefficients[j]
            for j in range(k - n_gaps):
                parameter_slopes[s, columns[n_coefficients + j], i] += sign * 0.5 / h * solution[n_gaps + j]
        for lead in range(horizon):
            forecast_slopes[s, lead, i] = (moved[0, lead] - moved[1, lead]) * 0.5 / h
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

    regressors: [groups, T + H, k], which: [series], the group of each series. orders: (p, q, P, Q, m), differences:
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
    lost = differences[0] + differences[1] * orders[4]
    raw = np.zeros(free)
    reach = max(orders[0] + orders[2] * orders[4], orders[1] + orders[3] * orders[4] + 1)
    clear(outputs)
    for s in range(n_series):
        start, end, n_seen = extent(values[s])
        if n_seen < least_used or end - start <= lost:
            continue
        x = regressors[which[s]]
        data = data_of(values[s], x, differences, orders[4], mean, reach)
        problem = problem_of(data, orders, fixed)
        value, tried = fit_one(starts, problem, enough, raw)
        if math.isinf(value):
            continue
        outputs[7][s] = tried
        columns = columns_of(orders, orders, problem[3][1], mean, x.shape[1])
        report(s, value, raw, problem, columns, x, length, outputs, with_uncertainty, uncertain)


@njit(**PART)
def _spread_ahead(problem, response, skipped, of_leads, of_sums):
    """Variances of lead h and of the sum of leads 1..h over sigma squared, from the weights psi of past errors and from
    the doubt about values that are missing."""
    (_, levels, _, full, polynomial, _), room, work = problem[2], problem[5], problem[6]
    phi, theta, phi_lags = room[1], room[2], room[3]
    r = room[0]
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
    if full:
        doubt_ahead(levels.shape[1], polynomial, room, work[14], skipped, of_leads, of_sums)
    _add_uncertainty(problem, response, problem[3][0], 1.0, of_leads, of_sums)


@njit(**PART)
def _add_uncertainty(problem, response, k, sign, of_leads, of_sums):
    """Add to variances of forecasts, in units of sigma squared, what the first k linear coefficients leave in doubt,
    those after them being known."""
    gram, dropped = problem[6][5], problem[6][6]
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
    n_gaps = problem[3][0]
    gram, dropped = problem[6][5], problem[6][6]
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
