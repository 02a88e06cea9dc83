"""Two forecasts of the same periods beside each other, node by node, and where they differ."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.study.forecast import Forecast

_ROUNDING = 1e-9

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class Differences:
    """Of nodes [k] over periods: sums before and after, and moved, the sum of absolute differences, [k]. level_of: [k].
    n_changed, units: per level, nodes that differ anywhere and units moved."""

    before: Floats
    after: Floats
    moved: Floats
    level_of: Integers
    n_changed: Integers
    units: Floats

    @classmethod
    def of(cls, before: Floats, after: Floats, level_of: Integers, n_levels: int) -> Differences:
        """before, after: [k, L]."""
        moved = np.abs(after - before).sum(axis=1)
        n_changed = np.bincount(level_of[moved > 0.0], minlength=n_levels)
        units = np.asarray(np.bincount(level_of, weights=moved, minlength=n_levels), dtype=np.float64)
        return cls(before.sum(axis=1), after.sum(axis=1), moved, level_of, n_changed, units)

    def largest(self, most: int, among: Booleans) -> Integers:
        """Which of some nodes differ most, the largest difference first, at most so many."""
        at = np.nonzero(among)[0]
        return at[np.argsort(-self.moved[at], kind="stable")][:most]

    def percent(self, i: int) -> float | None:
        return percent(float(self.before[i]), float(self.after[i]))


def percent(before: float, after: float) -> float | None:
    """Change in percent of what was before; None of nothing."""
    return 100.0 * (after - before) / before if before > 0.0 else None


@dataclass(frozen=True, eq=False)
class Compared:
    """nodes: numbers in the one forecast, of nodes that both have, ascending, [k]. periods: labels of those that both
    forecast. one, other: [k, L]."""

    nodes: Integers
    periods: list[str]
    one: Floats
    other: Floats

    def differing(self, nodes: Integers) -> tuple[Integers, Integers]:
        """Where the two differ by more than rounding, of some nodes of the one: positions in `nodes` and in `periods`,
        [cells] each, node by node. Nodes that the other lacks are passed over."""
        rows = np.nonzero(np.isin(self.nodes, nodes))[0]
        one, other = self.one[rows], self.other[rows]
        at, period = np.nonzero(np.abs(other - one) > _ROUNDING * np.maximum(np.abs(other), 1.0))
        return rows[at], period


def compare(one: Forecast, one_mean: Floats, other: Forecast, other_mean: Floats) -> Compared:
    """The means [nodes, H] of two forecasts over the nodes and periods that both have.

    Raises RecipeError where they have no period in common.
    """
    ahead, beside = one.timeline, other.timeline
    first = max(ahead.first, beside.first)
    last = min(ahead.last, beside.last)
    if ahead.frequency != beside.frequency or last < first:
        raise RecipeError("These studies forecast no period in common; nothing can be compared.")
    position = other.graph.position
    at = np.array([position.get(name, -1) for name in one.graph.ids], dtype=np.int64)
    nodes = np.nonzero(at >= 0)[0]
    mine, theirs = (slice(first - own.first, last - own.first + 1) for own in (ahead, beside))
    return Compared(nodes, ahead.labels[mine], one_mean[nodes][:, mine], other_mean[at[nodes]][:, theirs])
