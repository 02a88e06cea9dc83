"""Drivers of totals: what price, promotion and holiday are for many series at once."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Graph
from tansy.engine.panel import Panel

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]


def node_drivers(graph: Graph, panel: Panel, names: Sequence[str], nodes: Integers | None = None) -> dict[str, Floats]:
    """Per driver [nodes, periods and those ahead]: the mean over the series below for which it is known, each weighing
    as much as it sold in the periods of `panel`. So a promotion of a total is the share of its volume that is on
    promotion. NaN where no series below knows it.

    A series counts from its first value on, and only if the driver is known ahead for it where it is for others: one
    that is delisted has no promotions to come, and would thin out those of the past. A series without a sale weighs as
    much as the middle one. nodes: only these. Names that the panel does not have are left out.
    """
    weights = _weights(panel.values)
    begun = np.cumsum(~np.isnan(panel.values), axis=1) > 0
    below = graph.below(nodes)
    rows = below.series
    found: dict[str, Floats] = {}
    for name in names:
        if name not in panel.drivers:
            continue
        driver = panel.drivers[name]
        length = panel.timeline.n_periods
        ahead = np.asarray(np.isfinite(driver[:, length:]).any(axis=1))
        counts = begun & ahead[:, None] if ahead.any() else begun
        lasting = np.repeat(counts[:, -1:], driver.shape[1] - length, axis=1)
        counts = np.concatenate([counts, lasting], axis=1)[rows]
        driver = driver[rows]
        known = (counts & ~np.isnan(driver)) * weights[rows, None]
        total = np.nan_to_num(driver) * known
        summed, weight = below.sum_up(total), below.sum_up(known)
        found[name] = np.divide(summed, weight, out=np.full_like(summed, np.nan), where=weight > 0.0)
    return found


def _weights(values: Floats) -> Floats:
    seen = ~np.isnan(values)
    total = np.where(seen, np.maximum(values, 0.0), 0.0).sum(axis=1)
    mean = total / np.maximum(seen.sum(axis=1), 1)
    sold = mean > 0.0
    return np.where(sold, mean, np.median(mean[sold]) if sold.any() else 1.0)
