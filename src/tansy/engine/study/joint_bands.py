"""Bands that are coherent by the way they are made: read off joint paths, or of normal errors in closed form.

Calibrated bands, the usual ones, are right node by node. These come from one distribution of all nodes: paths take the
errors of one past period and lead of the backtest for all nodes, in units of the spread that fits had there, and are
reconciled one by one; the normal ones are what reconciled forecasts err by if errors are normal and have the covariance
of those that have come. Neither is calibrated: what they hold is told level by level beside
what is published, and a recipe may publish them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri

from tansy.engine.graph.constraints import Summation
from tansy.engine.graph.graph import Graph
from tansy.engine.reconcile.covariance import CORRELATED, DIAGONAL
from tansy.engine.reconcile.joint import JointPaths, Linear
from tansy.engine.reconcile.methods import covariance
from tansy.engine.reconcile.projection import projection
from tansy.engine.reconcile.system import Real
from tansy.engine.study.coherent import as_it_can, nothing_below
from tansy.engine.study.weighing import Weighing

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

FEWEST_ERRORS = 8
"""Periods and leads of the backtest that paths need: of fewer, quantiles are the errors themselves."""


def paths_quantiles(
    graph: Graph, by: str, weighed: Weighing, base: Floats, published: Floats, closed: Booleans, p: Floats,
    nonnegative: bool,
) -> Floats | None:  # fmt: skip
    """[nodes, Q, H] of joint paths about what is published, [nodes, H]; None where too few errors have come. base:
    [nodes, H], what was reconciled; closed: [finest, H], zero by decision; by: the reconciliation."""
    if weighed.units.shape[1] < FEWEST_ERRORS:
        return None
    shut = nothing_below(graph, closed)
    spread = np.where(shut, 0.0, np.nan_to_num(weighed.spread))
    start = np.where(shut, 0.0, np.nan_to_num(base))
    finest = published[graph.n_aggregates :] if nonnegative else None
    paths = JointPaths(_linear(graph.summation, by, weighed), start, spread, weighed.units, finest)
    return paths.quantiles(p).astype(np.float64)


def normal_quantiles(
    graph: Graph, by: str, weighed: Weighing, published: Floats, closed: Booleans, p: Floats, nonnegative: bool
) -> Floats | None:
    """[nodes, Q, H] of normal errors about what is published, with the covariance of the errors that have come; None
    where these are too few."""
    if weighed.units.shape[1] < FEWEST_ERRORS:
        return None
    spread = np.where(nothing_below(graph, closed), 0.0, np.nan_to_num(weighed.spread))
    paths = JointPaths(_linear(graph.summation, by, weighed), np.zeros_like(spread), spread, weighed.units)
    found = published[:, None] + ndtri(p)[None, :, None] * paths.spreads()[:, None]
    return np.maximum(found, 0.0) if nonnegative else found


class _BottomUp:
    """The finest base forecasts as they are, and in part those of another: what `combined` is the mean of."""

    def __init__(self, summation: Summation, other: Linear | None = None) -> None:
        self.summation, self._other = summation, other

    def finest(self, base: NDArray[Real]) -> NDArray[Real]:
        own = base[self.summation.n_aggregates :]
        if self._other is None:
            return own.copy()
        half = base.dtype.type(0.5)
        return np.asarray(half * (own + self._other.finest(base)))


def _linear(summation: Summation, by: str, weighed: Weighing) -> Linear:
    name = as_it_can(by, weighed.one_step)
    if name in (*DIAGONAL, *CORRELATED):
        return projection(summation, covariance(name, summation, weighed.one_step))
    if name == "combined":
        return _BottomUp(summation, projection(summation, covariance("variance", summation, weighed.one_step)))
    return _BottomUp(summation)
