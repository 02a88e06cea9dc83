"""Histories by which it is judged whether nodes are worth a forecast; what is added up of them is made ready once."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

Judge = Callable[[Floats, tuple[str, ...]], Mapping[str, Floats]]
"""Features by name, [nodes], of histories [nodes, periods]; only of those that are asked for."""


@dataclass(frozen=True, eq=False)
class History:
    """values: of the series, [series, periods]; NaN counts as nothing. judge: finds features of such histories."""

    values: Floats
    judge: Judge

    @cached_property
    def volume(self) -> Floats:
        """What each series sold, [series]; returns do not count."""
        return sold(self.values)

    @cached_property
    def _known(self) -> Floats:
        return np.nan_to_num(self.values)

    @cached_property
    def _begins(self) -> Integers:
        """The first period that is known of each series, [series]; their number where none is."""
        known = ~np.isnan(self.values)
        return np.where(known.any(axis=1), known.argmax(axis=1), self.values.shape[1])

    def features(self, members: Integers, start: Integers, names: tuple[str, ...]) -> Mapping[str, Floats]:
        """Features of nodes by name, [nodes]. members: their series, one node after the other; start: [nodes + 1]."""
        return self.judge(self._added_up(members, start), names)

    def _added_up(self, members: Integers, start: Integers) -> Floats:
        """Histories of nodes, [nodes, periods], NaN before the first of their series begins."""
        n_nodes = len(start) - 1
        if n_nodes == len(members):
            history = self._known[members]
        else:
            adds = sparse.csr_array((np.ones(len(members)), members, start), shape=(n_nodes, len(self.values)))
            history = np.asarray(adds @ self._known)
        begins = np.minimum.reduceat(self._begins[members], start[:-1])
        late = np.nonzero(begins)[0]
        history[late] = np.where(np.arange(history.shape[1]) < begins[late, None], np.nan, history[late])
        return history


def sold(values: Floats) -> Floats:
    """What each series sold, [series], of [series, periods]; returns do not count, nor what is not known."""
    return np.where(values > 0.0, values, 0.0).sum(axis=1)
