"""The system of equations behind reconciliation: A = W_totals + S W_finest S', of the size of the totals alone.

Totals are eliminated the smallest first, which keeps the factor sparse: 300,000 numbers for 12,350 totals over 30,490
series. Where it is not zero is found once for a summation; a factor is its numbers for one W.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.graph.constraints import Summation
from tansy.engine.kernels import elimination as kernel

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Places = NDArray[np.int32]
Real = TypeVar("Real", np.float32, np.float64)
"""Doubles, or singles where they are many and need not be exact; what comes out is what went in."""

_STEEP = 1e3
"""How many times the variance of a total those of its series may be, before what rounding has cost is solved for once
more: with all weights alike, as in ols, a total of 100,000 series loses nine digits."""
_LEAST_BESIDE = 1e-12  # least variance of a total as a share of the sum of its series' variances


@dataclass(frozen=True, eq=False)
class System:
    """What all factors of one summation share.

    order: [totals], the total at each place of the elimination. below_start, below: the finest nodes of each place;
    above_start, above: the places above each finest node, ascending. part_start, part: each place as a sum of smaller
    ones and of finest nodes. start, rows: where the factor is not zero; places: where in it each finest node adds to;
    alike: its columns that end alike.
    """

    order: Integers
    below_start: Places
    below: Places
    above_start: Places
    above: Places
    part_start: Integers
    part: Places
    start: Integers
    rows: Places
    places: Places
    alike: tuple[Places, Integers, Places]

    @classmethod
    def of(cls, summation: Summation) -> System:
        """Found once for each summation."""
        if summation not in _KNOWN:
            _KNOWN[summation] = cls._found(summation.matrix)
        return _KNOWN[summation]

    @classmethod
    def _found(cls, s: sparse.csr_array) -> System:
        order = np.argsort(np.diff(s.indptr), kind="stable")
        by_row = s[order]
        by_column = sparse.csc_array(by_row)
        by_column.sort_indices()
        below_start, below = by_row.indptr.astype(np.int32), by_row.indices.astype(np.int32)
        above_start, above = by_column.indptr.astype(np.int32), by_column.indices.astype(np.int32)
        sums = below_start, below, above_start, above
        part_start, part = kernel.parts(*sums)
        start, rows = kernel.structure(*sums)
        places = kernel.places(above_start, above, start, rows)
        return cls(order, *sums, part_start, part, start, rows, places, kernel.alike(start, rows))

    def totals(self, finest: NDArray[Real]) -> NDArray[Real]:
        """Sums of the finest nodes [finest, columns], in the order of the elimination, [totals, columns]."""
        found = np.empty((len(self.order), finest.shape[1]), dtype=finest.dtype)
        kernel.totals_of(self.part_start, self.part, finest, found)
        return found

    def sum_up(self, finest: NDArray[Real]) -> NDArray[Real]:
        """All nodes from the finest ones, [nodes, columns], with fewer sums than `Summation.sum_up`; equal to it to
        rounding."""
        n = len(self.order)
        found = np.empty((n + len(finest), finest.shape[1]), dtype=finest.dtype)
        found[self.order] = self.totals(finest)
        found[n:] = finest
        return found

    @property
    def sums(self) -> tuple[Places, Places, Places, Places]:
        return self.below_start, self.below, self.above_start, self.above


_KNOWN: WeakKeyDictionary[Summation, System] = WeakKeyDictionary()


class Factor:
    """A factored for one diagonal W.

    w_totals: [totals]. w_finest: [finest], zero for those that do not move.
    """

    def __init__(self, system: System, w_totals: Floats, w_finest: Floats) -> None:
        self._system = system
        self._w_finest = np.ascontiguousarray(w_finest, dtype=np.float64)
        own = system.totals(self._w_finest[:, None])[:, 0]
        # beside a series that outweighs all others by so much, those that hold it would be the same row to rounding
        least = _LEAST_BESIDE * own
        self._values = np.empty(len(system.rows))
        while True:
            w = np.maximum(w_totals[system.order], least)
            failed = kernel.factor(
                system.above_start,
                system.above,
                system.places,
                system.start,
                system.rows,
                *system.alike,
                w,
                self._w_finest,
                self._values,
            )
            if failed < 0:
                break
            least = 10.0 * np.maximum(least, np.finfo(np.float64).tiny)
        self._w = w
        self._refined = bool((own > _STEEP * w).any())

    @property
    def w_totals(self) -> Floats:
        """As they were factored, [totals]."""
        found = np.empty_like(self._w)
        found[self._system.order] = self._w
        return found

    def gap(self, finest: NDArray[Real], totals: NDArray[Real] | None = None) -> NDArray[Real]:
        """totals - S finest, [totals, columns] in the order of the elimination; totals of nothing where not given."""
        found = -self._system.totals(np.ascontiguousarray(finest))
        if totals is not None:
            found += totals[self._system.order]
        return found

    def pull(self, gap: NDArray[Real]) -> NDArray[Real]:
        """A^-1 gap, in the order of the elimination."""
        values = self._values.astype(gap.dtype, copy=False)
        found = gap.copy()
        kernel.solve(self._system.start, self._system.rows, values, found)
        if self._refined:
            back = self.moved(np.zeros((len(self._w_finest), gap.shape[1]), dtype=gap.dtype), found)
            left = gap - self._w[:, None].astype(gap.dtype, copy=False) * found - self._system.totals(back)
            kernel.solve(self._system.start, self._system.rows, values, left)
            found += left
        return found

    def moved(self, finest: NDArray[Real], pull: NDArray[Real]) -> NDArray[Real]:
        """finest + W_finest S' pull, [finest, columns]; pull in the order of the elimination."""
        found, system = np.empty_like(finest, order="C"), self._system
        w = self._w_finest.astype(finest.dtype, copy=False)
        kernel.spread_down(system.part_start, system.part, pull.copy(), w, np.ascontiguousarray(finest), found)
        return found

    def inverse_diagonals(self) -> tuple[Floats, Floats]:
        """The diagonal of A^-1, [totals], and s' A^-1 s of every finest node's column of S, [finest]."""
        system = self._system
        inverse = kernel.inverse_there(system.start, system.rows, self._values)
        diagonal = np.empty(len(system.order))
        diagonal[system.order] = inverse[system.start[:-1]]
        around = np.empty(len(self._w_finest))
        kernel.around_finest(*system.sums, system.start, system.rows, inverse, around)
        return diagonal, around
