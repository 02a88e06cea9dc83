"""Joint sample paths of all nodes, reconciled one by one, and how far they spread.

A path takes the errors of one past period for all nodes, so that what moves together stays together (Gamakumara,
Panagiotelis, Athanasopoulos, Hyndman 2023: a sample of the joint distribution, projected, is one of the coherent
distribution). Errors are in units of how far a forecast usually errs at their lead. Every period stands in equally many
paths (the balanced resampling of Davison, Hinkley, Schechtman 1986), so that quantiles are those of as many values as
there are periods, and chance adds nothing to them. Where no series may be negative, draws of the series below zero are
nothing and the others are drawn to the published mean again.

The sum of a lower quantile of each part is not a quantile of the total: parts are rarely low all at once. So bands of a
total are narrower than the sum of the bands below it, and only paths add up.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from tansy.engine.compute.threads import run_chunks
from tansy.engine.graph.constraints import Summation
from tansy.engine.kernels import draws as kernel
from tansy.engine.reconcile.system import Real, System

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]


class Linear(Protocol):
    """What makes coherent forecasts of base forecasts and is linear in them: finest nodes [finest, columns] of nodes
    [nodes, columns]."""

    summation: Summation

    def finest(self, base: NDArray[Real]) -> NDArray[Real]: ...


class JointPaths:
    """Paths of one forecast.

    Parameters
    ----------
    own : the reconciliation of its base forecasts.
    base, spread : [nodes, leads], base forecasts and how far each usually errs.
    errors : [nodes, T], past errors in units of the spread, one column for each period; missing ones are none.
    mean : [finest, leads], what is published, where no series may be negative.
    """

    def __init__(
        self, own: Linear, base: Floats, spread: Floats, errors: Floats,
        mean: Floats | None = None,
    ) -> None:  # fmt: skip
        self._own, self._base, self._spread, self._mean = own, base, spread, mean
        self._errors = np.nan_to_num(errors).astype(np.float32)

    @property
    def n_periods(self) -> int:
        return self._errors.shape[1]

    def at(self, lead: int) -> Floats:
        """All nodes at one lead, [nodes, T], a column for each period; each adds up, to rounding."""
        return self._drawn(lead, np.float64)

    def _drawn(self, lead: int, kind: type[Real]) -> NDArray[Real]:
        return System.of(self._own.summation).sum_up(self._finest(lead, kind))

    def _finest(self, lead: int, kind: type[Real]) -> NDArray[Real]:
        """The series at one lead, [finest, T]."""

        def column(of: Floats) -> NDArray[Real]:
            return np.ascontiguousarray(of[:, lead], dtype=kind)

        drawn: NDArray[Real] = np.empty(self._errors.shape, dtype=kind)
        kernel.around_base(column(self._base), column(self._spread), self._errors, drawn)
        finest = self._own.finest(drawn)
        if self._mean is not None:
            kernel.cut_and_rescale(finest, column(self._mean))
        return finest

    def paths(self, n: int, seed: int) -> Iterator[Floats]:
        """Lead after lead, [nodes, n]: path i has the errors of consecutive periods, from one on that is its own."""
        starts = np.resize(np.random.default_rng(seed).permutation(self.n_periods), n)
        for lead in range(self._base.shape[1]):
            yield self.at(lead)[:, (starts + lead) % self.n_periods]

    def quantiles(self, p: Floats) -> Singles:
        """[nodes, Q, leads] at probabilities [Q]: between order statistics at ranks k / (T + 1), which is how often
        what is drawn like them falls below (Gumbel 1958), and flat beyond."""
        place = np.clip(p * (self.n_periods + 1.0) - 1.0, 0.0, self.n_periods - 1.0)
        at = np.minimum(place.astype(np.int64), max(self.n_periods - 2, 0))
        found = np.empty((len(self._base), len(p), self._base.shape[1]), dtype=np.float32)
        for lead, one in run_chunks(partial(self._quantiles_at, at, place - at), list(range(self._base.shape[1]))):
            found[:, :, lead] = one
        return found

    def spreads(self) -> Floats:
        """How far paths err about their forecast, root mean square, [nodes, leads]: the closed form for normal errors
        whose covariance is that of the past ones, M W1 M' with W1 their mean square and M what makes them add up."""
        centre = System.of(self._own.summation).sum_up(self._own.finest(self._base))
        found = np.empty_like(self._base)
        for lead in range(self._base.shape[1]):
            off = self._drawn(lead, np.float64) - centre[:, lead : lead + 1]
            found[:, lead] = np.sqrt(np.einsum("nt,nt->n", off, off) / self.n_periods)
        return found

    def _quantiles_at(self, at: NDArray[np.int64], share: Floats, lead: int) -> tuple[int, Singles]:
        system = System.of(self._own.summation)
        finest, shares = self._finest(lead, np.float32), share.astype(np.float32)
        out = np.empty((len(self._base), len(at)), dtype=np.float32)
        of_totals = np.empty((len(system.order), len(at)), dtype=np.float32)
        kernel.quantiles(system.totals(finest), at, shares, of_totals)
        kernel.quantiles(finest, at, shares, out[len(system.order) :])
        out[system.order] = of_totals
        return lead, out
