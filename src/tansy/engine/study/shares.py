"""Which share of another node's forecast a series gets that pruning left without one of its own."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.known import Known
from tansy.engine.backtest.measures import nan_mean
from tansy.engine.graph.pruned import Pruned

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Shares:
    """Of the series without a forecast of their own, [k] each: series: which; node: whose forecast each gets its share
    of; share: of the volume of the last season; apart: how far its past lay from that share of the node's, root mean
    square."""

    series: Integers
    node: Integers
    share: Floats
    apart: Floats


def shares_of(pruned: Pruned, known: Known, volume: Floats) -> Shares:
    """At an origin. volume: [series], sold in the last season."""
    graph = pruned.graph
    first = graph.n_aggregates
    series = np.nonzero(~pruned.own[first:])[0]
    node = pruned.leaf[series]
    of_node = graph.summation.sum_up(np.maximum(volume, 0.0))[node]
    members = graph.summation.sum_up(np.ones(graph.n_series))[node]
    own = np.maximum(volume[series], 0.0)
    share = np.divide(own, of_node, out=1.0 / members, where=of_node > 0.0)
    off = known.values[first + series] - share[:, None] * known.values[node]
    return Shares(series, node, share, np.sqrt(np.nan_to_num(nan_mean(off * off, axis=1))))
