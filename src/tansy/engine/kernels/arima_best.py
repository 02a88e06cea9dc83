"""The orders of ARIMA with the least AICc, for a batch of series: a walk from model to neighbouring model.

From a few simple models on, what differs from the best so far by one in an order (or by one in two of them, or by the
mean) is tried, until nothing is better (Hyndman, Khandakar 2008). A neighbour's search starts where the best one's
ended: with one more partial autocorrelation of zero a model is the same as before. Searches are loose; those near the
best in the end are polished. A model that is nearly the same as a simpler one is refused: with a root of phi near the
unit circle, where one more difference says it better, or with a root of phi next to one of theta, which cancel. A root
of theta near the circle stays: it says that what was differenced hardly moves, and the forecast is right with it.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import njit

from tansy.engine.kernels.arima import clear, columns_of, report
from tansy.engine.kernels.arima_model import (
    CONSTANT,
    DRIFT,
    NO_MEAN,
    Orders,
    data_of,
    problem_of,
    set_coefficients,
)
from tansy.engine.kernels.arima_screening import refusal, screened, without
from tansy.engine.kernels.arima_search import EXACT, LOOSE, descend, evaluate, guesses_of
from tansy.engine.kernels.arma import first_guess
from tansy.engine.kernels.differencing import choose_differences
from tansy.engine.kernels.least_squares import less
from tansy.engine.kernels.options import BORROWING, KERNEL, PART
from tansy.engine.kernels.smoothing import extent

MOST_TRIED = 200
_NEIGHBOURS, _FAR_NEIGHBOURS = 17, 24  # steps of `_neighbour` up to these
_ENOUGH_TRIED = 60  # a walk ends then, a search of all models at the number above
_LOOSE_ENOUGH, _CLOSER_ENOUGH, _POLISHED_ENOUGH = 0.3, 0.03, 1e-6  # of -2 log L
_POLISHED_WITHIN, _POLISHED_WITHIN_SHORT = 1.0, 1.5  # of AICc; the second with a short season
_SHORT_SEASON = 24
_FIRST = ((0, 0, 0, 0), (1, 0, 1, 0), (0, 1, 0, 1), (1, 1, 0, 1))  # p, q, P, Q to begin with
_PROMISING, _PROMISING_AGAIN = (
    3,
    5,
)  # models that screenings add, before and after the walk; twice where seasons are short
_RESTLESS = ((4, 1), (2, 2), (3, 1), (0, 4))
"""p, q of models that a walk seldom comes to, because the ones on the way there are worse: slow cycles, long echoes.
Without a season the first alone."""
TRIED = 8
"""Numbers kept of each model tried: p, q, P, Q, mean, AICc, why it was refused (0 not, 1 a root of phi near the circle,
2 roots that cancel), whether all its neighbours were tried."""


class Most(NamedTuple):
    """Orders at most: each, the first four together, and differences."""

    p: int
    q: int
    sp: int
    sq: int
    together: int
    d: int
    seasonal_d: int


@njit(**BORROWING)
def _orders_of(model, m):
    return Orders(int(model[0]), int(model[1]), int(model[2]), int(model[3]), m)


@njit(**BORROWING)
def aicc_of(value, n, k):
    """From n log(Q / n) + ..., with k parameters, the variance counted."""
    room = n - k - 1.0
    if room <= 0.0:
        return math.inf
    return value + n * (math.log(2.0 * math.pi) + 1.0) + 2.0 * k + 2.0 * k * (k + 1.0) / room


@njit(**BORROWING)
def _carry(raw, before, orders, start):
    """Where the search of `orders` begins: the numbers of the model before, more of them zero, those it lacks cut."""
    at = 0
    to = 0
    for factor in range(4):
        had, has = int(before[factor]), orders[factor]
        for i in range(has):
            start[to + i] = min(3.0, max(-3.0, raw[at + i])) if i < had else 0.02
        at += had
        to += has


@njit(**BORROWING)
def _row_of(model, tried, n_tried):
    """Where a model (p, q, P, Q, mean) stands among those tried, n_tried if it does not."""
    for i in range(n_tried):
        same = True
        for j in range(5):
            same = same and tried[i, j] == model[j]
        if same:
            return i
    return n_tried


@njit(**KERNEL)
def search_batch(
    values, regressors, which, m, most, differences, exhaustive, least_used, orders_found, tested, tried_all,
    n_tried_all, outputs, with_uncertainty, uncertain,
):  # fmt: skip
    """Find the orders for each row of `values` [series, T], NaN missing, and fit them.

    regressors: [groups, T + H, k], which: [series]. m: season length, 1 without a season. most: `Most`. differences:
    (d, D) where they are given, -1 where tests choose. exhaustive: try all models in bounds. least_used: fewest
    observed values.
    Written: orders_found [series, 7] (p, d, q, P, D, Q, mean), -1 in a row that is not fitted; tested [series, 5], see
    `differencing.choose_differences`; tried_all [series, MOST_TRIED, TRIED] with n_tried_all [series]; outputs and
    uncertain as of `arima.fit_batch`, parameters laid out for the most orders.
    """
    n_series = len(values)
    together = most.together
    queue = np.zeros((MOST_TRIED + len(_FIRST) + 2 * (_PROMISING_AGAIN + len(_RESTLESS)), 5))
    raws = np.zeros((MOST_TRIED, together))
    reach = m * min(1, most.sp + most.sq) + 2  # of most models that are tried
    short = 1 < m <= _SHORT_SEASON  # several seasonal orders to choose from
    promising = np.zeros((2 * _PROMISING if short else _PROMISING, 4))
    again = np.zeros((2 * _PROMISING_AGAIN if short else _PROMISING_AGAIN, 4))
    polished = np.zeros(MOST_TRIED, dtype=np.bool_)
    clear(outputs)
    for s in range(n_series):
        orders_found[s] = -1
        n_tried_all[s] = 0
        start, end, n_seen = extent(values[s])
        if n_seen < least_used:
            continue
        x, y = regressors[which[s]], values[s]
        plain = without(y[start:end], x[start:end])
        d, seasonal_d = choose_differences(plain, m, most.d, most.seasonal_d, tested[s])
        d = differences[0] if differences[0] >= 0 else d
        seasonal_d = differences[1] if differences[1] >= 0 else seasonal_d
        if n_seen - d - m * seasonal_d < 5:
            continue
        with_mean = CONSTANT if d + seasonal_d == 0 else DRIFT
        may_drift = d + seasonal_d <= 1
        bare = data_of(y, x, (d, seasonal_d), m, NO_MEAN, reach)
        full = data_of(y, x, (d, seasonal_d), m, with_mean, reach) if may_drift else bare
        of_bare = guesses_of(bare.inputs, m)
        of_full = guesses_of(full.inputs, m) if may_drift else of_bare
        tried = tried_all[s]
        n_tried, best, base, head, tail = 0, -1, -1, 0, 0
        seasonal = 1 if m > 1 else 0
        for i in range(len(_FIRST)):  # simple models to begin with
            for j in range(4):
                queue[tail, j] = min(most[j], _FIRST[i][j] * (seasonal if j > 1 else 1))
            queue[tail, 4] = with_mean if may_drift else NO_MEAN
            if queue[tail, :4].sum() <= together:
                tail += 1
        for i in range(screened(of_full[0], of_full[1], most, m, promising)):
            queue[tail, :4] = promising[i]
            queue[tail, 4] = with_mean if may_drift else NO_MEAN
            tail += 1
        if exhaustive:
            tail = _all(most, with_mean, may_drift, queue, tail)
        polishing = False
        screened_again = False
        within = _POLISHED_WITHIN_SHORT if short else _POLISHED_WITHIN
        polished[:] = False
        while True:
            if head == tail:  # what follows from what was found: neighbours of the best, its polishing, and again
                head, tail = 0, 0
                base = -1
                if not exhaustive and n_tried < _ENOUGH_TRIED:
                    base = _next_base(tried, n_tried, best)
                polishing = base < 0
                if base >= 0:
                    tried[base, 7] = 1.0
                    for step in range(_NEIGHBOURS):
                        if _neighbour(tried[base], step, most, with_mean, may_drift, queue[tail]):
                            tail += 1
                    continue
                if best >= 0 and not screened_again and not exhaustive:
                    # the innovations of a good model show what the guess of a long autoregression did not; and two
                    # steps at once cross a valley that stops one
                    screened_again = True
                    polishing = False
                    # with the seasonal part of the best model and, where the season is not differenced, without one
                    for bare_of_season in range(2):
                        for i in range(len(_RESTLESS) if m > 1 else 1):
                            queue[tail] = tried[best, :5]
                            queue[tail, 0] = min(most.p, _RESTLESS[i][0])
                            queue[tail, 1] = min(most.q, _RESTLESS[i][1])
                            if bare_of_season == 1:
                                queue[tail, 2:4] = 0.0
                            if queue[tail, :4].sum() <= together:
                                tail += 1
                        if m == 1 or seasonal_d > 0 or tried[best, 2] + tried[best, 3] == 0.0:
                            break
                    if m == 1:
                        continue
                    no_mean = tried[best, 4] == NO_MEAN
                    orders = _orders_of(tried[best], m)
                    free = orders.p + orders.q + orders.sp + orders.sq
                    problem = problem_of(bare if no_mean else full, orders, np.full(free, math.nan))
                    evaluate(raws[best, :free], problem, LOOSE)
                    inputs = problem.data.inputs
                    w = inputs[-1].copy()
                    for c in range(len(inputs) - 1):
                        less(w, problem.work.solution[c], inputs[c])
                    for i in range(screened(w, problem.work.rest, most, m, again)):
                        queue[tail, :4] = again[i]
                        queue[tail, 4] = tried[best, 4]
                        tail += 1
                    for step in range(_NEIGHBOURS, _FAR_NEIGHBOURS):
                        if _neighbour(tried[best], step, most, with_mean, may_drift, queue[tail]):
                            tail += 1
                    continue
                for i in range(n_tried):
                    near = best >= 0 and tried[i, 5] <= tried[best, 5] + within
                    if near and tried[i, 6] == 0.0 and not polished[i] and tail < len(queue):
                        polished[i] = True
                        for j in range(5):
                            queue[tail, j] = tried[i, j]
                        tail += 1
                if tail == 0:
                    break
                continue
            model = queue[head]
            head += 1
            row = _row_of(model, tried, n_tried)
            if (row < n_tried and not polishing) or row == MOST_TRIED:
                continue
            orders = _orders_of(model, m)
            free = orders.p + orders.q + orders.sp + orders.sq
            no_mean = model[4] == NO_MEAN
            problem = problem_of(bare if no_mean else full, orders, np.full(free, math.nan))
            starts = np.zeros((2, free))
            n_starts = 1
            if polishing:
                starts[0] = raws[row, :free]
            else:
                guesses = of_bare if no_mean else of_full
                first_guess(guesses[0], guesses[1], orders, starts[0])
                if base >= 0:
                    n_starts = 2
                    _carry(raws[base], tried[base], orders, starts[1])
                    if evaluate(starts[1], problem, LOOSE) < evaluate(starts[0], problem, LOOSE):
                        starts = starts[::-1].copy()
                for j in range(5):
                    tried[row, j] = model[j]
                tried[row, 7] = 0.0
                n_tried += 1
            for i in range(n_starts):
                value, _ = descend(starts[i], problem, LOOSE, _CLOSER_ENOUGH if polishing else _LOOSE_ENOUGH)
                aicc = aicc_of(value, problem.data.counts.n_used, free + _effects(problem) + 1.0)
                refused = 0
                if math.isfinite(value):
                    coefficients, partials = problem.work.coefficients, problem.work.partials
                    set_coefficients(starts[i], orders, problem.fixed, coefficients, partials)
                    refused = refusal(coefficients, orders, partials)
                if i == 0 or refused == 0:
                    tried[row, 5], tried[row, 6] = aicc, refused
                    raws[row, :free] = starts[i]
                # refused for a root near the circle, though better than all that may stand: is there a top elsewhere?
                if refused != 1 or (best >= 0 and aicc > tried[best, 5]):
                    break
            best = _best_of(tried, n_tried) if polishing else _better(tried, row, best)
            if not polishing and base >= 0 and tried[row, 5] < tried[base, 5] - 1e-6:
                tried[base, 7] = 0.0  # go on from there at once, and come back if that was not worth it
                head = tail
        n_tried_all[s] = n_tried
        if best < 0:
            continue
        orders = _orders_of(tried[best], m)
        p, q, sp, sq, _ = orders
        mean = int(tried[best, 4])
        found = orders_found[s]
        found[0], found[1], found[2], found[3], found[4], found[5], found[6] = p, d, q, sp, seasonal_d, sq, mean
        free = p + q + sp + sq
        raw = raws[best, :free].copy()
        problem = problem_of(bare if mean == NO_MEAN else full, orders, np.full(free, math.nan))
        descend(raw, problem, LOOSE, _POLISHED_ENOUGH)
        value = evaluate(raw, problem, EXACT)
        tried[best, 5] = aicc_of(value, problem.data.counts.n_used, free + _effects(problem) + 1.0)
        columns = columns_of(orders, most, problem.data.counts.n_linear, mean, x.shape[1])
        report(s, value, raw, problem, columns, x, values.shape[1], outputs, with_uncertainty, uncertain)


@njit(**BORROWING)
def _effects(problem):
    """Linear coefficients that were estimated: mean or drift, and the regressors that vary on their own."""
    count = 0
    for i in range(problem.data.counts.n_gaps, problem.data.inputs.shape[0] - 1):
        count += 0 if problem.work.dropped[i] else 1
    return count


@njit(**BORROWING)
def _better(tried, row, best):
    """The row with the least AICc of those that may stand, after a look at one more; -1 for none."""
    if not math.isfinite(tried[row, 5]) or tried[row, 6] != 0.0:
        return best
    return row if best < 0 or tried[row, 5] < tried[best, 5] - 1e-6 else best


@njit(**BORROWING)
def _best_of(tried, n_tried):
    best = -1
    for i in range(n_tried):
        best = _better(tried, i, best)
    return best


@njit(**BORROWING)
def _next_base(tried, n_tried, best):
    """The row with the least AICc whose neighbours were not all tried, unless one that may stand is better; models that
    may not stand are gone through, because better ones can lie behind them."""
    base = -1
    for i in range(n_tried):
        if tried[i, 7] == 0.0 and math.isfinite(tried[i, 5]) and (base < 0 or tried[i, 5] < tried[base, 5]):
            base = i
    return base if base >= 0 and (best < 0 or base == best or tried[base, 5] < tried[best, 5]) else -1


@njit(**BORROWING)
def _neighbour(base, step, most, with_mean, may_drift, model):
    """Write the step-th neighbour of `base` to model; False where it lies outside the bounds."""
    for j in range(5):
        model[j] = base[j]
    if step == 0:
        if not may_drift:
            return False
        model[4] = NO_MEAN if base[4] != NO_MEAN else with_mean
        return True
    # seasonal orders first: they change most
    moves = (
        (0, 0, -1, 0), (0, 0, 0, -1), (0, 0, 1, 0), (0, 0, 0, 1), (0, 0, -1, -1), (0, 0, -1, 1), (0, 0, 1, -1),
        (0, 0, 1, 1), (-1, 0, 0, 0), (0, -1, 0, 0), (1, 0, 0, 0), (0, 1, 0, 0), (-1, -1, 0, 0), (-1, 1, 0, 0),
        (1, -1, 0, 0), (1, 1, 0, 0),
        (2, 0, 0, 0), (0, 2, 0, 0), (2, 2, 0, 0), (0, 0, 2, 0), (1, 0, 1, 0), (0, 1, 1, 0), (0, 1, 0, 1),
    )  # fmt: skip
    total = 0.0
    for j in range(4):
        model[j] += moves[step - 1][j]
        if model[j] < 0 or model[j] > most[j]:
            return False
        total += model[j]
    return total <= most.together


@njit(**PART)
def _all(most, with_mean, may_drift, queue, tail):
    """Queue every model in bounds, of which there are at most MOST_TRIED; returns the new end of the queue."""
    for p in range(most.p + 1):
        for q in range(most.q + 1):
            for sp in range(most.sp + 1):
                for sq in range(most.sq + 1):
                    for with_it in range(2 if may_drift else 1):
                        if p + q + sp + sq > most.together:
                            continue
                        row = queue[tail]
                        row[0], row[1], row[2], row[3] = p, q, sp, sq
                        row[4] = with_mean if with_it == 1 else NO_MEAN
                        tail += 1
    return tail
