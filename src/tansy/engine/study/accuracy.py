"""How good a study's forecasts were, pooled and per node, gathered block by block of nodes."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.measures import gain, share
from tansy.engine.graph.graph import Graph
from tansy.engine.kernels import windows as kernel

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

MEASURES = ("MAE", "WAPE", "RMSSE", "gain", "bias")
CHOICE = "choice per series"
PUBLISHED = "published"

_ROWS = 2048

N_SUMS = kernel.N_SUMS
_ADDED = (kernel.CELLS, kernel.ABSOLUTE, kernel.SIGNED, kernel.VOLUME, kernel.SHARED)
CELLS, _ABSOLUTE, _SIGNED, _VOLUME, SHARED, _ROOTS, _N_ROOTS, _OWN, _AGAINST, _N_BOTH = range(10)


@dataclass(frozen=True)
class Tables:
    """Pooled accuracy.

    by_method: [levels + 1, methods + 2, H + 1, 5], the last level standing for all nodes, the last two methods for the
    choice per series and for what is published, lead 0 for all leads; each on all cells that it has a forecast for, its
    gain on those that it shares with the seasonal naive. cells and shared: [levels + 1, methods + 2], how many these
    are over all leads. by_reconciliation: [levels + 1, reconciliations, 5].
    coverage: [levels + 1, H + 1, bands], share of actuals inside, widest band first. made_names: ways to make bands
    that can be told apart, see `joint_bands`; coverage_by_making: [levels + 1, ways, bands], over all leads of the
    origins at which each of them has errors to go by.
    """

    method_names: tuple[str, ...]
    reconciliation_names: tuple[str, ...]
    level_names: tuple[str, ...]
    band_levels: tuple[float, ...]
    by_method: Floats
    by_reconciliation: Floats
    coverage: Floats
    cells: Integers
    shared: Integers
    made_names: tuple[str, ...] = ()
    coverage_by_making: Floats = field(default_factory=lambda: np.empty((0, 0, 0)))


@dataclass(frozen=True)
class Judged:
    """What forecasts are held against, [nodes, origins, H] each, NaN where there is nothing to judge; scale: [nodes,
    origins], the mean squared step of RMSSE."""

    actuals: Floats
    benchmark: Floats
    scale: Floats

    def rows(self, rows: slice) -> Judged:
        return Judged(self.actuals[rows], self.benchmark[rows], self.scale[rows])

    def origin(self, o: int) -> Judged:
        """At one of the origins alone."""
        at = slice(o, o + 1)
        return Judged(self.actuals[:, at], self.benchmark[:, at], self.scale[:, at])

    def sums(self, forecast: Floats) -> tuple[Floats, Floats]:
        """What measures are made of, [nodes, H, sums], and the origins that count, [nodes]; see `kernel.error_sums`."""
        sums = np.zeros((len(self.actuals), self.actuals.shape[2], kernel.N_SUMS))
        counted = np.zeros(len(sums))
        arrays = (forecast, self.benchmark, self.actuals, self.scale)
        kernel.error_sums(*(np.ascontiguousarray(one) for one in arrays), sums, counted)
        return sums, counted


def node_scores(sums: Floats, counted: Floats) -> Floats:
    """MAE, WAPE, RMSSE, gain and the number of origins that count, [nodes, 5]. Gain is on the cells that a forecast
    shares with the seasonal naive."""
    all_leads = sums.sum(axis=1)
    root = _root(all_leads[:, kernel.SQUARES], all_leads[:, kernel.N_SQUARES])
    own = _root(all_leads[:, kernel.OWN], all_leads[:, kernel.N_BOTH])
    against = _root(all_leads[:, kernel.AGAINST], all_leads[:, kernel.N_BOTH])
    mae = over(all_leads[:, kernel.ABSOLUTE], all_leads[:, kernel.CELLS])
    wape = share(all_leads[:, kernel.ABSOLUTE], all_leads[:, kernel.VOLUME])
    return np.stack([mae, wape, root, gain(own, against), counted], axis=1)


def pooled_sums(sums: Floats) -> Floats:
    """What a table adds up over nodes, [H + 1, 10], lead 0 for all, from the sums of some nodes [nodes, H, sums]."""
    with_all = np.concatenate([sums.sum(axis=1, keepdims=True), sums], axis=1)
    found = np.zeros((with_all.shape[1], 10))
    for to, of in zip((CELLS, _ABSOLUTE, _SIGNED, _VOLUME, SHARED), _ADDED, strict=True):
        found[:, to] = with_all[:, :, of].sum(axis=0)
    for to, counted, of, over in (
        (_ROOTS, _N_ROOTS, kernel.SQUARES, kernel.N_SQUARES),
        (_OWN, _N_BOTH, kernel.OWN, kernel.N_BOTH),
        (_AGAINST, _N_BOTH, kernel.AGAINST, kernel.N_BOTH),
    ):
        root = _root(with_all[:, :, of], with_all[:, :, over])
        found[:, to] = np.nansum(root, axis=0)
        found[:, counted] = (~np.isnan(root)).sum(axis=0)
    return found


def measures(pooled: Floats) -> Floats:
    """MAE, WAPE, RMSSE, gain and bias (in percent of volume, actual minus forecast), [..., 5], from [..., 10]."""
    part = np.moveaxis(pooled, -1, 0)
    bias = share(part[_SIGNED], part[_VOLUME])
    own, against = over(part[_OWN], part[_N_BOTH]), over(part[_AGAINST], part[_N_BOTH])
    wape = share(part[_ABSOLUTE], part[_VOLUME])
    rmsse = over(part[_ROOTS], part[_N_ROOTS])
    return np.stack([over(part[_ABSOLUTE], part[CELLS]), wape, rmsse, gain(own, against), bias], axis=-1)


def by_level(graph: Graph, of_nodes: list[tuple[slice, Floats]]) -> Floats:
    """[levels + 1, ...], the last for all nodes, from [...] of runs of nodes that each lie within one level."""
    found = np.zeros((len(graph.levels) + 1, *of_nodes[0][1].shape))
    for rows, own in of_nodes:
        found[graph.level_of[rows.start]] += own
    found[-1] = found[:-1].sum(axis=0)
    return found


def all_runs(graph: Graph) -> list[slice]:
    """All nodes in runs that each lie within one level, and are short enough to hold bands against what came."""
    starts = range(0, graph.n_nodes, _ROWS)
    return [run for start in starts for run in runs_of(graph, start, min(start + _ROWS, graph.n_nodes))]


def runs_of(graph: Graph, start: int, stop: int) -> list[slice]:
    """The nodes start..stop, cut where a level ends."""
    cuts = [start, *(level.first for level in graph.levels if start < level.first < stop), stop]
    return [slice(a, b) for a, b in pairwise(cuts)]


def over(total: Floats, count: Floats) -> Floats:
    """total / count, NaN where nothing was counted."""
    return np.divide(total, count, out=np.full(np.shape(total), np.nan), where=count > 0)


def _root(squares: Floats, count: Floats) -> Floats:
    return np.sqrt(over(squares, count))
