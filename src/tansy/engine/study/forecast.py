"""What is published: what methods forecast, and what every step after them made of it.

A release, its checks, its pages and its files are read from this one object.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Graph
from tansy.engine.timeline import Timeline

ADJUSTMENTS = "adjustments"
"""The layer that holds what planners changed."""
ROUNDING = "rounding"
"""The layer that draws forecasts to whole units."""

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Layer:
    """One step, such as reconciliation or rounding, and the means that it left. mean: [nodes, H]."""

    name: str
    mean: Floats


@dataclass(frozen=True, eq=False)
class Forecast:
    """A base and the layers laid over it, one upon the other, with the bands around the last of them.

    timeline: of the leads. base: [nodes, H], as methods have it; it need not add up. chosen: [nodes], the method of
    each node, -1 where it has none: zero by decision, or expected by a plan. quantiles: [nodes, Q, H] for
    `probabilities` [Q], which ascend. together: [groups, H, H], how errors of leads go together, see `sums`.
    """

    graph: Graph
    timeline: Timeline
    base: Floats
    layers: tuple[Layer, ...]
    chosen: Integers
    probabilities: Floats
    quantiles: Floats
    together: Floats

    @property
    def mean(self) -> Floats:
        """[nodes, H]."""
        return self.layers[-1].mean if self.layers else self.base

    @property
    def statistical(self) -> Floats:
        """[nodes, H], before planners changed anything."""
        below = [layer.mean for layer in self.layers if layer.name != ADJUSTMENTS]
        return below[-1] if below else self.base

    @property
    def reconciled(self) -> Floats:
        """[nodes, H], before it was drawn to whole units or planners changed anything; what bands are made around."""
        return self.layers[0].mean if self.layers else self.base

    @property
    def is_whole(self) -> bool:
        return any(layer.name == ROUNDING for layer in self.layers)

    @property
    def leads(self) -> int:
        return self.base.shape[1]

    def change(self, name: str) -> Floats:
        """What a layer added to what lay below it, [nodes, H]."""
        names = [layer.name for layer in self.layers]
        at = names.index(name)
        return self.layers[at].mean - (self.layers[at - 1].mean if at else self.base)
