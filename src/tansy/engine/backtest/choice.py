"""Which method each series gets.

Each method's squared scaled errors are summed over the origins where it could be fitted and held against what one
reference method, which can be fitted to nearly anything, did on those same origins: a method that needs a long history
is not favoured or punished for the origins it missed, and no method's standing depends on which others are tried. With
every method defined everywhere this is the order of RMSSE. A method that was tested at less than a third of the origins
of the best-tested one has too little to show for itself, and is not chosen.

A method that was chosen on the very origins it is then judged on looks better than it is. Therefore every origin is
judged with the method that the *other* origins would have chosen; only the published forecast uses them all.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.measures import nan_mean

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_LEAST_TESTED = 3  # a method with fewer than a third of the origins of the best-tested one is not chosen


@dataclass(frozen=True)
class Choice:
    """final: [series], position of the chosen method, -1 where none is defined. at_origin: [series, origins], the
    choice that the other origins make. was_tested: [series], False where no origin could test the choice."""

    final: Integers
    at_origin: Integers
    was_tested: NDArray[np.bool_]


def scaled_squares(errors: Floats, scale: Floats) -> Floats:
    """Mean over leads of e^2 / scale, [series, methods, origins].

    errors: [series, methods, origins, H]. scale: [series, origins], the in-sample mean squared step; an origin where it
    is zero or unknown is left out (NaN): unscaled it would outvote all others.
    """
    usable = np.where(scale > 0.0, scale, np.nan)
    return nan_mean(errors * errors, axis=3) / usable[:, None, :]


def choose(squares: Floats, defined_at: NDArray[np.bool_], defined_now: NDArray[np.bool_], reference: int) -> Choice:
    """Choose by least RMSSE; methods are given from simple to rich, and a tie goes to the simpler.

    squares: [series, methods, origins] from `scaled_squares`. defined_at: [series, methods, origins] and defined_now:
    [series, methods], where a forecast exists. reference: position of the method that all are held against.
    """
    n, _n_methods, n_origins = squares.shape
    beside = np.broadcast_to(squares[:, reference, None, :], squares.shape)
    known = ~np.isnan(squares) & ~np.isnan(beside)
    own, beside = np.where(known, squares, 0.0), np.where(known, beside, 0.0)
    own_sum, beside_sum, tests = own.sum(axis=2), beside.sum(axis=2), known.sum(axis=2)
    final, was_tested = _best(own_sum, beside_sum, tests, defined_now)
    at_origin = np.empty((n, n_origins), dtype=np.int64)
    for o in range(n_origins):
        at_origin[:, o], _ = _best(
            own_sum - own[:, :, o], beside_sum - beside[:, :, o], tests - known[:, :, o], defined_at[:, :, o]
        )
    return Choice(final, at_origin, was_tested)


def _best(
    own: Floats, beside: Floats, tests: NDArray[np.int_], defined: NDArray[np.bool_]
) -> tuple[Integers, NDArray[np.bool_]]:
    enough = (tests > 0) & (_LEAST_TESTED * tests >= tests.max(axis=1, keepdims=True))
    usable = defined & enough
    tiny = np.maximum(1e-12 * beside.max(axis=1, keepdims=True), 1e-200)
    ratio = np.where(usable, (own + tiny) / (beside + tiny), np.inf)
    was_tested: NDArray[np.bool_] = np.asarray(usable.any(axis=1))
    # Without a test, the simplest method that can be fitted.
    best = np.where(was_tested, np.argmin(ratio, axis=1), np.argmax(defined, axis=1))
    return np.where(defined.any(axis=1), best, -1), was_tested
