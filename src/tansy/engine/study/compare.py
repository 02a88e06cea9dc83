"""Two forecasts of the same periods beside each other, node by node."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.study.forecast import Forecast

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Compared:
    """nodes: numbers in the one forecast, others: in the other, of nodes that both have, [k]. first: labels of the
    periods that both forecast. one, other: [k, L]."""

    nodes: Integers
    others: Integers
    periods: list[str]
    one: Floats
    other: Floats


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
    return Compared(nodes, at[nodes], ahead.labels[mine], one_mean[nodes][:, mine], other_mean[at[nodes]][:, theirs])
