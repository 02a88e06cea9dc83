"""Which method each series gets, at every origin and at the end.

The choice is one in time: at an origin it is made on errors that had come by then, of the origins before; a window that
is not complete counts with the leads that have come. So the accuracy of what is published is that of a planner who
chose this way all along. Where no error has come yet, the recipe's fallback stands.

Each method's squared scaled errors are summed over the origins where it could be fitted and held against what one
reference method, which can be fitted to nearly anything, did on those same origins: a method that needs a long history
is not favoured or punished for the origins it missed, and no method's standing depends on which others are tried. With
every method defined everywhere this is the order of RMSSE. A method that was tested at less than a third of the origins
of the best-tested one has too little to show for itself, and is not chosen.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

_LEAST_TESTED = 3  # a method with fewer than a third of the origins of the best-tested one is not chosen


def choose(squares: Floats, defined: Booleans, reference: int, fallback: Integers) -> tuple[Integers, Booleans]:
    """Choose by least RMSSE among the errors that have come.

    Parameters
    ----------
    squares : [series, methods, origins], mean squared scaled errors; NaN where none has come. Methods are given from
        simple to rich, and a tie goes to the simpler.
    defined : [series, methods], where there is a forecast to choose.
    reference : position of the method that all are held against.
    fallback : positions of the methods to take where nothing has been tested, the first that is defined.

    Returns
    -------
    chosen : [series], position of the method, -1 where none is defined.
    was_tested : [series], whether any error spoke for it.
    """
    beside = np.broadcast_to(squares[:, reference, None, :], squares.shape)
    known = ~np.isnan(squares) & ~np.isnan(beside)
    own, other = np.where(known, squares, 0.0).sum(axis=2), np.where(known, beside, 0.0).sum(axis=2)
    tests = known.sum(axis=2)
    enough = (tests > 0) & (_LEAST_TESTED * tests >= tests.max(axis=1, keepdims=True, initial=0))
    usable = defined & enough
    tiny = np.maximum(1e-12 * other.max(axis=1, keepdims=True), 1e-200)
    ratio = np.where(usable, (own + tiny) / (other + tiny), np.inf)
    was_tested: Booleans = np.asarray(usable.any(axis=1))
    chosen = np.where(was_tested, np.argmin(ratio, axis=1), _without_evidence(defined, fallback))
    return np.where(defined.any(axis=1), chosen, -1), was_tested


def _without_evidence(defined: Booleans, fallback: Integers) -> Integers:
    """The first fallback that is defined, else the simplest method that is."""
    order = np.concatenate([fallback, np.arange(defined.shape[1])])
    return np.asarray(order[np.argmax(defined[:, order], axis=1)])
