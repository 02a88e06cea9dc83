"""Coherent forecasts by projection on the constraints C y = 0.

With a diagonal error covariance W the closest coherent point is f - W C' (C W C')^-1 C f (Wickramasuriya,
Athanasopoulos, Hyndman 2019, in the zero-constraint form of Di Fonzo, Girolimetto 2023). Here C = [I, -S] with S the
summation of the finest nodes, so that C W C' = W_aggregates + S W_finest S', a sparse matrix of the size of the
aggregates alone. It is factored once per W with the smallest aggregates first, which keeps the factor sparse.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse.linalg import splu

from tansy.engine.errors import RecipeError
from tansy.engine.graph.constraints import Summation
from tansy.engine.reconcile.pivots import MOST_ROUNDS, Pivots

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

_LEAST_BESIDE = 1e-12  # least variance of an aggregate as a share of the sum of its series' variances

METHODS = ("none", "bottom-up", "ols", "structural", "variance", "combined")
"""`combined` is the mean of bottom-up and variance: half the trust in what is known of the errors of totals."""


def weights(name: str, summation: Summation, error_variance: Floats) -> Floats:
    """Diagonal of W, [nodes].

    error_variance: mean squared one-step error of each node, floored at 1e-6 of the median of the positive ones. Where
    it is unknown (NaN) it is taken for a typical one: the median of those known of the finest nodes and, for an
    aggregate, the sum of those of its finest nodes, as if these were independent. Raises RecipeError for an unknown
    name.
    """
    n_nodes = summation.n_aggregates + summation.n_finest
    if name == "ols":
        return np.ones(n_nodes)
    if name == "structural":
        return np.concatenate([summation.matrix.sum(axis=1), np.ones(summation.n_finest)])
    if name == "variance":
        n = summation.n_aggregates
        positive = error_variance[np.nan_to_num(error_variance) > 0.0]
        floor = 1e-6 * float(np.median(positive)) if len(positive) else 1.0
        finest = error_variance[n:]
        known = finest[~np.isnan(finest)]
        typical = np.where(np.isnan(finest), np.median(known) if len(known) else floor, finest)
        above = np.where(np.isnan(error_variance[:n]), summation.matrix @ typical, error_variance[:n])
        return np.maximum(np.concatenate([above, typical]), floor)
    raise RecipeError(f"There is no reconciliation {name!r}; choose one of {', '.join(METHODS)}.")


def combined(summation: Summation, one: Floats, other: Floats) -> Floats:
    """The mean of two forecasts that add up, [nodes, leads], summed from the finest so that it does to the last bit."""
    n = summation.n_aggregates
    return summation.sum_up(0.5 * (one[n:] + other[n:]))


class Projection:
    """Projection for one W; factored on creation, then applied to any number of columns.

    zero: finest nodes that are zero by decision and stay so ([finest] of bool).
    """

    def __init__(self, summation: Summation, w: Floats, zero: Booleans | None = None) -> None:
        n = summation.n_aggregates
        self._summation = summation
        self._w_finest = np.where(zero, 0.0, w[n:]) if zero is not None else w[n:]
        self._zero = zero
        s = summation.matrix
        # beside a series that outweighs all others by so much, those that hold it would be the same row to rounding
        w_aggregates = np.maximum(w[:n], _LEAST_BESIDE * (s @ self._w_finest))
        self._order = np.argsort(np.diff(s.indptr), kind="stable")
        ordered = s[self._order]
        system = (ordered * self._w_finest) @ ordered.T + sparse.diags_array(w_aggregates[self._order])
        self._factor = splu(
            sparse.csc_array(system),
            permc_spec="NATURAL",
            diag_pivot_thresh=0.0,
            options={"SymmetricMode": True},
        )

    def apply(self, base: Floats) -> Floats:
        """Coherent forecasts [nodes, columns] from base forecasts of the same shape."""
        n = self._summation.n_aggregates
        finest = base[n:]
        if self._zero is not None:
            finest = np.where(self._zero[:, None], 0.0, finest)
        gap = base[:n] - self._summation.matrix @ finest
        pull = np.empty_like(gap)
        pull[self._order] = self._factor.solve(np.ascontiguousarray(gap[self._order]))
        return self._summation.sum_up(finest + self._w_finest[:, None] * (self._summation.matrix.T @ pull))

    def towards(self, rows: Floats) -> Floats:
        """How the finest nodes move, [finest, k], where what `rows` [k, finest] sum of them is pulled by one each.

        The inverse of W_finest^-1 + S' W_aggregates^-1 S times the rows, by the identity of Woodbury (1950).
        """
        own = self._w_finest[:, None] * rows.T
        gap = self._summation.matrix @ own
        pull = np.empty_like(gap)
        pull[self._order] = self._factor.solve(np.ascontiguousarray(gap[self._order]))
        return np.asarray(own - self._w_finest[:, None] * (self._summation.matrix.T @ pull))


def reconcile(
    summation: Summation,
    base: Floats,
    name: str,
    error_variance: Floats,
    nonnegative: bool = False,
    zero: Booleans | None = None,
) -> Floats:
    """Coherent forecasts [nodes, leads] by the named method.

    zero: finest nodes that are zero by decision. nonnegative: no finest node below zero; the result is then the closest
    such point in the W metric (for bottom-up, the finest nodes cut at zero). `none` only applies these two.
    """
    if name == "combined":
        given = error_variance, nonnegative, zero
        both = [reconcile(summation, base, one, *given) for one in ("bottom-up", "variance")]
        return combined(summation, *both)
    n = summation.n_aggregates
    cut = np.maximum(base, 0.0) if nonnegative else base.copy()
    if zero is not None:
        cut[n:][zero] = 0.0
    if name == "none":
        return cut
    if name == "bottom-up" or n == 0:
        return summation.sum_up(cut[n:])
    w = weights(name, summation, error_variance)
    coherent = Projection(summation, w, zero).apply(base)
    if nonnegative:
        for lead in np.nonzero((coherent[n:] < 0.0).any(axis=0))[0]:
            coherent[:, lead] = _closest_nonnegative(summation, base[:, lead], coherent[:, lead], w, zero)
    return coherent


def _closest_nonnegative(summation: Summation, base: Floats, start: Floats, w: Floats, zero: Booleans | None) -> Floats:
    """Closest coherent point without a negative finest node, for one lead, by block pivoting."""
    n = summation.n_aggregates
    s = summation.matrix
    decided = np.zeros(summation.n_finest, dtype=bool) if zero is None else zero
    held = decided | (start[n:] < 0.0)
    scale = max(1.0, float(np.abs(base).max()))
    pivots = Pivots(summation.n_finest)
    point = start
    for _ in range(MOST_ROUNDS):
        point = Projection(summation, w, held).apply(base[:, None])[:, 0]
        misfit = (point - base) / w
        multiplier = s.T @ misfit[:n] + misfit[n:]
        negative = ~held & (point[n:] < -1e-9 * scale)
        pulled_up = held & ~decided & (multiplier < -1e-9 * scale / w[n:])
        offenders = np.nonzero(negative | pulled_up)[0]
        if not len(offenders):
            break
        turned = pivots.of(offenders)
        held[turned] = ~held[turned]
    return summation.sum_up(np.maximum(point[n:], 0.0))
