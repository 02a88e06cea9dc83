"""The closest coherent point without a negative finest node, in the W metric, by block pivoting.

Nodes are held at zero or free. With the free ones projected, those that come out negative are held, held ones that are
pulled up are freed, until there are none of either: a point that meets the conditions of Karush, Kuhn and Tucker. Where
W is diagonal, a held node is one whose variance is nothing, so that the system is factored anew, on the structure that
is there, once for each set of held nodes. Where errors go together a held node moves others through what it shares with
them: the system of the held nodes alone, a part of P (see `projection`), is solved by conjugate gradients (Hestenes,
Stiefel 1952) for all leads at once.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from tansy.engine.compute.threads import run_chunks
from tansy.engine.graph.constraints import Summation
from tansy.engine.reconcile.covariance import Covariance
from tansy.engine.reconcile.pivots import MOST_ROUNDS, Pivots
from tansy.engine.reconcile.projection import DenseProjection, Projection, projection
from tansy.engine.reconcile.system import System

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

_MET = 1e-9  # of the largest number
_FEW_TURN = 20  # nodes: from then on closely
_MOST_STEPS = 1_000  # of conjugate gradients
_ROUGHLY, _CLOSELY = 1e-4, 1e-11  # of what was to be solved: while nodes change sides, and then


@dataclass(frozen=True, eq=False)
class Fixed:
    """What some nodes must be. rows: [k, finest] of zeros and ones, what each is the sum of. values: [k, columns]."""

    rows: Floats
    values: Floats

    def lead(self, lead: int) -> Fixed:
        return Fixed(self.rows, self.values[:, lead : lead + 1])


def nothing_fixed(summation: Summation, columns: int) -> Fixed:
    return Fixed(np.empty((0, summation.n_finest)), np.empty((0, columns)))


def met(finest: Floats, spread: Callable[[Floats], Floats], fixed: Fixed) -> tuple[Floats, Floats, Floats]:
    """Coherent finest nodes [finest, columns] moved, as `spread` moves them, to where fixed values hold; how the finest
    nodes move with each of these, [finest, k], and how hard each pulls, [k, columns]."""
    if not len(fixed.rows):
        return finest, fixed.rows.T, fixed.values
    towards = spread(np.ascontiguousarray(fixed.rows.T))
    pull = np.linalg.lstsq(fixed.rows @ towards, fixed.values - fixed.rows @ finest, rcond=1e-12)[0]
    return finest + towards @ pull, towards, np.asarray(pull)


def without_negatives(
    summation: Summation, base: Floats, w: Covariance, start: Floats, decided: Booleans, fixed: Fixed
) -> Floats:
    """Finest nodes [finest, columns], none below zero.

    Parameters
    ----------
    base : [nodes, columns], what the point is to be close to.
    start : [finest, columns], the closest point that may be negative.
    decided : [finest], nodes that are zero whatever pulls them.
    fixed : values that hold, as far as they can without a negative node.
    """
    found = start.copy()
    open_columns = np.nonzero((start < 0.0).any(axis=0))[0]
    if not len(open_columns):
        return found
    if w.factor is None:
        work = partial(_factored, summation, base, w, start, decided, fixed)
        for column, finest in run_chunks(work, open_columns.tolist()):
            found[:, column] = finest
    else:
        own = projection(summation, w, decided)
        some = Fixed(fixed.rows, fixed.values[:, open_columns])
        found[:, open_columns] = _by_gradients(own, start[:, open_columns], decided, some)
    return np.maximum(found, 0.0)


def _factored(
    summation: Summation, base: Floats, w: Covariance, start: Floats, decided: Booleans, fixed: Fixed, column: int
) -> tuple[int, Floats]:
    """One column, and which."""
    n, system = summation.n_aggregates, System.of(summation)
    own_base, own_fixed = base[:, column : column + 1], fixed.lead(column)
    scale = max(1.0, float(np.abs(own_base).max()), float(np.abs(own_fixed.values).max(initial=0.0)))
    held = decided | (start[:, column] < 0.0)
    pivots = Pivots(summation.n_finest)
    finest = start[:, column]
    for _ in range(MOST_ROUNDS):
        own = Projection(summation, w, held)
        moved, _, pull = met(own.finest(own_base), own.spread, own_fixed)
        finest = moved[:, 0]
        misfit = (system.sum_up(moved)[:, 0] - own_base[:, 0]) / w.diagonal
        slope = summation.matrix.T @ misfit[:n] + misfit[n:] - (own_fixed.rows.T @ pull)[:, 0]
        negative = ~held & (finest < -_MET * scale)
        pulled_up = held & ~decided & (slope < -_MET * scale / w.diagonal[n:])
        offenders = np.nonzero(negative | pulled_up)[0]
        if not len(offenders):
            break
        turned = pivots.of(offenders)
        held[turned] = ~held[turned]
    return column, finest


def _by_gradients(own: Projection | DenseProjection, start: Floats, decided: Booleans, fixed: Fixed) -> Floats:
    """All columns at once. A held node is pulled to zero by a multiplier of its own, above zero if it would fall below.

    With values fixed, what moves is P less what they take of it."""
    towards = own.spread(np.ascontiguousarray(fixed.rows.T))
    inner = fixed.rows @ towards

    def spread(pulls: Floats) -> Floats:
        moved = own.spread(pulls)
        if len(fixed.rows):
            moved -= towards @ np.linalg.lstsq(inner, fixed.rows @ moved, rcond=1e-12)[0]
        return moved

    variances = own.variances()[-len(start) :]
    scale = np.maximum(1.0, np.abs(start).max(axis=0))
    held = (start < 0.0) & ~decided[:, None]
    pulls = np.zeros_like(start)
    found = start.copy()
    pivots = [Pivots(len(start)) for _ in range(start.shape[1])]
    todo = np.arange(start.shape[1])
    pulled_by = scale / max(float(np.median(variances[variances > 0.0])), np.finfo(np.float64).tiny)
    rough = np.full(start.shape[1], True)
    for _ in range(MOST_ROUNDS):
        own_held = held[:, todo]
        close = np.where(rough[todo], _ROUGHLY, _CLOSELY)
        before = np.where(own_held, pulls[:, todo], 0.0)
        pulls[:, todo] = _solved(spread, variances, own_held, -start[:, todo], before, close)
        found[:, todo] = start[:, todo] + spread(np.ascontiguousarray(pulls[:, todo]))
        still = []
        for column in todo.tolist():
            negative = ~held[:, column] & ~decided & (found[:, column] < -_MET * scale[column])
            pulled_up = held[:, column] & (pulls[:, column] < -_MET * pulled_by[column])
            offenders = np.nonzero(negative | pulled_up)[0]
            if len(offenders):
                turned = pivots[column].of(offenders)
                held[turned, column] = ~held[turned, column]
            if len(offenders) or rough[column]:
                still.append(column)
            rough[column] = rough[column] and len(offenders) > _FEW_TURN
            found[held[:, column], column] = 0.0
        todo = np.array(still, dtype=np.int64)
        if not len(todo):
            break
    return found


def _solved(
    spread: Callable[[Floats], Floats], variances: Floats, held: Booleans, wanted: Floats, start: Floats, close: Floats
) -> Floats:
    """Multipliers [finest, columns], nothing where not `held`, whose spread is what is wanted there, as closely as
    each column [columns] asks."""
    mild = np.divide(1.0, variances, out=np.zeros_like(variances), where=variances > 0.0)[:, None]
    x = start
    left = np.where(held, wanted - spread(x), 0.0)
    enough = close * np.sqrt((np.where(held, wanted, 0.0) ** 2 * mild).sum(axis=0))
    direction = mild * left
    size = (left * direction).sum(axis=0)
    for _ in range(_MOST_STEPS):
        if (np.sqrt(size) <= enough).all():
            break
        moved = np.where(held, spread(np.ascontiguousarray(direction)), 0.0)
        along = (direction * moved).sum(axis=0)
        step = np.divide(size, along, out=np.zeros_like(size), where=(along > 0.0) & (np.sqrt(size) > enough))
        x = x + step * direction
        left = left - step * moved
        mild_left = mild * left
        before, size = size, (left * mild_left).sum(axis=0)
        direction = mild_left + np.divide(size, before, out=np.zeros_like(size), where=before > 0.0) * direction
    return x
