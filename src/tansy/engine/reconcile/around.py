"""Coherent forecasts around nodes whose values are fixed: the closest point in the W metric that has them.

The closest point without fixed nodes is moved along P G', where G sums the finest nodes to the fixed ones and P, what
coherent forecasts err by, is the inverse of the curvature of the distance: the step of a constrained least squares
problem (Boyd, Vandenberghe 2004, 10.1.1).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.constraints import Summation
from tansy.engine.reconcile.covariance import Covariance
from tansy.engine.reconcile.nonnegative import Fixed, met, without_negatives
from tansy.engine.reconcile.projection import projection

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

_MET = 1e-9  # of the largest number


class Clash(Exception):
    """Values that no coherent forecast has together.

    nodes: the fixed nodes that take part, [c]. change: the least changes of their values that resolve it, [c]; without
    any, they are met only by a finest node below zero.
    """

    def __init__(self, nodes: Integers, change: Floats) -> None:
        super().__init__(f"{len(nodes)} fixed nodes clash")
        self.nodes, self.change = nodes, change

    def sentence(self, names: list[str]) -> str:
        """In words, from what the nodes are called."""
        if not len(self.change):
            return f"{', '.join(names)} can only be met together with a series below zero."
        changes = ", ".join(
            f"{name} by {change:+,.6g}" for name, change in zip(names, self.change.tolist(), strict=True)
        ).replace("-", "−")
        return (
            f"No forecast has all of these as they are set: {', '.join(names)}. The least that resolves it: {changes}."
        )


def rows_of(summation: Summation, nodes: Integers) -> Floats:
    """Which finest nodes each of some nodes [k] holds, [k, finest] of zeros and ones."""
    n = summation.n_aggregates
    rows = np.zeros((len(nodes), summation.n_finest))
    total = nodes < n
    rows[total] = summation.matrix[nodes[total]].toarray()
    rows[np.nonzero(~total)[0], nodes[~total] - n] = 1.0
    return rows


def alike(rows: Floats) -> tuple[Floats, Integers]:
    """Finest nodes that lie below the same of some nodes, from rows [k, finest]: what each sort lies below [sorts, k],
    and the sort of each, [finest]."""
    number = np.zeros(rows.shape[1], dtype=np.int64)
    for row in rows:
        _, number = np.unique(2 * number + (row > 0.0), return_inverse=True)
    _, first = np.unique(number, return_index=True)
    return rows.T[first], number


def around_fixed(
    summation: Summation, base: Floats, w: Covariance, fixed: Integers, values: Floats, still: Booleans,
    nonnegative: bool, negligible: float = 1e-3,
) -> Floats:  # fmt: skip
    """Finest nodes of the closest coherent point to the base forecasts that has some values fixed.

    Parameters
    ----------
    base : [nodes, leads].
    fixed, values : [k] nodes and their values, [k, leads].
    still : [finest], which stay at zero.
    nonnegative : no finest node below zero.
    negligible : where no more than this share of what the fixed nodes change lies below zero at a lead, it is cut off
        and taken from the others in proportion, instead of looking for the very closest point.

    Returns
    -------
    [finest, leads].

    Raises
    ------
    Clash where the values cannot be had together.
    """
    asked = Fixed(rows_of(summation, fixed), values)
    _check(asked.rows, base, values, fixed, still)
    own = projection(summation, w, still)
    found, _, _ = met(own.finest(base), own.spread, asked)
    if not nonnegative:
        return found
    scale = max(1.0, float(np.abs(base).max()), float(np.abs(values).max()))
    cut = np.maximum(-found, 0.0).sum(axis=0)
    small = (cut > 0.0) & (cut <= negligible * np.abs(values - base[fixed]).max(axis=0))
    if small.any():
        found[:, small] = _cut_off(found[:, small], asked.rows)
    below = np.nonzero((found < -_MET * scale).any(axis=0))[0]
    if len(below):
        some = Fixed(asked.rows, values[:, below])
        found[:, below] = without_negatives(summation, base[:, below], w, found[:, below], still, some)
        if (np.abs(asked.rows @ found[:, below] - values[:, below]) > 1e-6 * scale).any():
            raise Clash(fixed, np.empty(0))
    return np.maximum(found, 0.0)


def _cut_off(finest: Floats, rows: Floats) -> Floats:
    """What is below zero [finest, leads] at zero, and taken from the others below the same fixed nodes in proportion;
    as it was where they have too little."""
    _, sort = alike(rows)
    kept = np.maximum(finest, 0.0)
    totals, positive = (np.zeros((sort.max() + 1, finest.shape[1])) for _ in range(2))
    np.add.at(totals, sort, finest)
    np.add.at(positive, sort, kept)
    factor = np.divide(totals, positive, out=np.ones_like(totals), where=positive > 0.0)
    enough = (totals >= 0.0).all(axis=0)
    return np.where(enough, kept * factor[sort], finest)


def _check(rows: Floats, base: Floats, values: Floats, fixed: Integers, still: Booleans) -> None:
    """Overlaps are whole numbers, so that their rank is beyond doubt whatever W is."""
    free = np.where(still, 0.0, rows)
    overlap = free @ free.T
    wanted = values - free @ base[len(base) - rows.shape[1] :]
    left = wanted - overlap @ np.linalg.lstsq(overlap, wanted, rcond=1e-10)[0]
    scale = max(1.0, float(np.abs(values).max(initial=0.0)))
    off = np.abs(left) > 1e-7 * scale
    if off.any():
        lead = int(np.argmax(np.abs(left).max(axis=0)))
        at = np.nonzero(off[:, lead])[0]
        raise Clash(fixed[at], -left[at, lead])
