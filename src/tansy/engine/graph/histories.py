"""What the nodes of a graph have sold."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Graph
from tansy.engine.panel import filled_inside
from tansy.engine.residue import without_residue


def aggregate_history(
    graph: Graph, values: NDArray[np.float64], nodes: NDArray[np.int64] | None = None
) -> NDArray[np.float64]:
    """History of every node, [nodes, periods], from that of the series [series, periods]; or of some `nodes`, to the
    same bit.

    A series counts nothing before its first and after its last value. A value that is unknown in between would leave a
    hole in every total above it; for the totals it is drawn as a straight line between the known values beside it. A
    total is missing only where no series below has begun.
    """
    below = graph.below(nodes)
    own = values[below.series]
    series = filled_inside(own)
    began = ~np.isnan(series)
    parts = np.where(began, series, 0.0)
    found = below.sum_up(parts)
    if (parts < 0.0).any():
        found = without_residue(found, below.sum_up(np.abs(parts)))
    has_any = below.sum_up(began.astype(np.float64)) > 0.0
    found[~has_any] = np.nan
    found[below.finest] = own[below.finest_at]
    return found
