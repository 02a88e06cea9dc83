"""Reconciliation by the name of its method."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.graph.constraints import Summation
from tansy.engine.reconcile.covariance import CORRELATED, DIAGONAL, Covariance, sample, shrinkage, weights
from tansy.engine.reconcile.nonnegative import nothing_fixed, without_negatives
from tansy.engine.reconcile.projection import projection

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

METHODS = (
    "none",
    "bottom-up",
    "top-down",
    "middle-out",
    "ols",
    "structural",
    "variance",
    "shrinkage",
    "sample",
    "combined",
)
"""`middle-out` names its level: middle-out(region). `combined` is the mean of bottom-up and variance: half the trust in
what is known of the errors of totals."""
_MIDDLE = re.compile(r"middle-out\((.+)\)")


@dataclass(frozen=True, eq=False)
class Evidence:
    """What reconciliations go by.

    error_variance: [nodes], mean squared one-step errors, NaN unknown. errors: [nodes, T], for those that go by
    correlations. volume: [finest], sold over the last season, for those that go by shares. middle: nodes to start from
    for `middle-out`; without any, `top-down` starts from those that hold most. alike: [nodes], of how many nodes that
    hold just the same series each is one; they count as one, each with that many times its variance.
    """

    error_variance: Floats
    errors: Floats | None = None
    volume: Floats | None = None
    middle: Integers | None = None
    alike: Integers | None = None


def check(name: str, where: str = "method", *beside: str) -> None:
    """Raises RecipeError where there is no such method. where: it was named. beside: what else may stand there."""
    if (name in METHODS and name != "middle-out") or _MIDDLE.fullmatch(name):
        return
    if name == "middle-out":
        raise RecipeError(f"{where}: middle-out names the level it starts from, such as middle-out(region).")
    raise RecipeError(f"{where} {name!r} is unknown; choose one of {', '.join((*METHODS[1:], *beside))}.")


def middle_of(name: str) -> str:
    """The level that a method names, empty where it names none."""
    found = _MIDDLE.fullmatch(name)
    return found[1].strip() if found else ""


def covariance(name: str, summation: Summation, given: Evidence) -> Covariance:
    """W of a method. Raises RecipeError where it lacks what it goes by."""
    alike = np.ones(len(given.error_variance)) if given.alike is None else given.alike
    if name in DIAGONAL:
        return Covariance(alike * weights(name, summation, given.error_variance))
    if name not in CORRELATED:
        raise RecipeError(f"The reconciliation {name!r} has no error covariance.")
    if given.errors is None or given.errors.shape[1] < 2:
        raise RecipeError(f"The reconciliation {name!r} needs errors of the past, at least two of each node.")
    errors = given.errors * np.sqrt(alike)[:, None]
    return shrinkage(summation, errors, alike * given.error_variance) if name == "shrinkage" else sample(errors)


def combined(summation: Summation, one: Floats, other: Floats) -> Floats:
    """The mean of two forecasts that add up, [nodes, leads], summed from the finest so that it does to the last bit."""
    n = summation.n_aggregates
    return summation.sum_up(0.5 * (one[n:] + other[n:]))


def reconcile(
    summation: Summation,
    base: Floats,
    name: str,
    given: Evidence,
    nonnegative: bool = False,
    zero: Booleans | None = None,
) -> Floats:
    """Coherent forecasts [nodes, leads] by the named method.

    Parameters
    ----------
    base : [nodes, leads].
    nonnegative : no finest node below zero; the result is then the closest such point in the W metric (for bottom-up,
        the finest nodes cut at zero). `none` only applies this and `zero`.
    zero : [finest], nodes that are zero by decision.

    Raises
    ------
    RecipeError for an unknown method, and where it lacks what it goes by.
    """
    check(name)
    if name == "combined":
        both = [reconcile(summation, base, one, given, nonnegative, zero) for one in ("bottom-up", "variance")]
        return combined(summation, *both)
    n = summation.n_aggregates
    cut = np.maximum(base, 0.0) if nonnegative else base.copy()
    if zero is not None:
        cut[n:][zero] = 0.0
    if name == "none":
        return cut
    if name == "bottom-up" or n == 0:
        return summation.sum_up(cut[n:])
    if name == "top-down" or middle_of(name):
        return summation.sum_up(_shared_out(summation, cut, name, given, zero))
    w = covariance(name, summation, given)
    decided = np.zeros(summation.n_finest, dtype=bool) if zero is None else zero
    finest = projection(summation, w, zero).finest(base)
    if nonnegative:
        finest = without_negatives(summation, base, w, finest, decided, nothing_fixed(summation, base.shape[1]))
    return summation.sum_up(finest)


def _shared_out(summation: Summation, base: Floats, name: str, given: Evidence, zero: Booleans | None) -> Floats:
    """Finest nodes, each with its share in the volume of the one node above it that the method starts from."""
    s = summation.matrix
    starts = given.middle if middle_of(name) else _tops(summation)
    if starts is None:
        raise RecipeError(f"There is no level {middle_of(name)!r} to start from.")
    above = np.full(summation.n_finest, -1, dtype=np.int64)
    for k, node in enumerate(starts.tolist()):
        below = s.indices[s.indptr[node] : s.indptr[node + 1]] if node < s.shape[0] else np.array([node - s.shape[0]])
        if (above[below] >= 0).any():
            raise RecipeError(f"{name} needs nodes that each series lies below once; some lie below several.")
        above[below] = k
    if (above < 0).any():
        raise RecipeError(f"{name} needs nodes that hold every series; {int((above < 0).sum()):,} lie below none.")
    if given.volume is None:
        raise RecipeError(f"{name} needs what was sold, to share forecasts out.")
    volume = np.maximum(np.nan_to_num(given.volume), 0.0)
    if zero is not None:
        volume[zero] = 0.0
    even = np.ones_like(volume) if zero is None else (~zero).astype(np.float64)
    nothing = np.bincount(above, weights=volume, minlength=len(starts)) <= 0.0
    volume = np.where(nothing[above], even, volume)
    total = np.bincount(above, weights=volume, minlength=len(starts))
    share = np.divide(volume, total[above], out=np.zeros_like(volume), where=total[above] > 0.0)
    return np.asarray(share[:, None] * base[starts][above])


def _tops(summation: Summation) -> Integers:
    """Nodes that no other holds: of those that share a series, the one that holds most; series in no total stand for
    themselves."""
    s = summation.matrix
    size = np.diff(s.indptr)
    largest = np.full(summation.n_finest, -1, dtype=np.int64)
    for node in np.argsort(size, kind="stable").tolist():
        largest[s.indices[s.indptr[node] : s.indptr[node + 1]]] = node
    alone = np.nonzero(largest < 0)[0] + s.shape[0]
    return np.concatenate([np.unique(largest[largest >= 0]), alone])
