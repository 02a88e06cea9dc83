"""What lies next above a node and next below it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.graph.graph import Graph
from tansy.engine.study.prepared import Prepared, edges_of
from tansy.engine.study.structures import levels_held, sold_last_season

Integers = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Kin:
    """parents: smallest nodes that hold all of it and more. children: per level that it is split into, its nodes, those
    that sold most in the last season first."""

    parents: Integers
    children: dict[int, Integers]


def kin_of(prepared: Prepared, node: int) -> Kin:
    """Of a node of a study's graph. What lies in it is read off the levels, or off the forest of a list of edges."""
    graph = prepared.graph
    held = _held(graph, node)
    size = _size(graph)
    inside = graph.summation.sum_up(held)
    larger = np.nonzero((inside[: graph.n_aggregates] == size[node]) & (size[: graph.n_aggregates] > size[node]))[0]
    within = np.nonzero((inside == size) & (size < size[node]))[0]
    if edges_of(prepared.planned.panel, prepared.recipe) is not None:
        below = _below_in_forest(graph, node)
    else:
        levels = levels_held(prepared)
        own = int(graph.level_of[node])
        next_finer = [k for k, level in enumerate(levels) if own in level.above]
        lumps = prepared.pruned.lumps if prepared.pruned else range(0)
        if len(lumps):
            next_finer.append(int(graph.level_of[lumps[0]]))
        below = within[np.isin(graph.level_of[within], next_finer)]
        if len(lumps):
            below = np.setdiff1d(below, _held_between(graph, within, lumps))
    covered = np.zeros(graph.n_series, dtype=bool)
    covered[graph.below(below).series] = True
    alone = np.nonzero((held > 0.0) & ~covered)[0] + graph.n_aggregates  # what pruning has not split further
    below = np.concatenate([below, alone[alone != node]])
    volume = graph.summation.sum_up(sold_last_season(prepared.planned.panel))
    below = below[np.argsort(-volume[below], kind="stable")]
    found = {int(k): below[graph.level_of[below] == k] for k in np.unique(graph.level_of[below]).tolist()}
    return Kin(_smallest(graph, larger), found)


def _held(graph: Graph, node: int) -> NDArray[np.float64]:
    """One for each series that a node holds, [series]."""
    found = np.zeros(graph.n_series)
    found[graph.below(np.array([node])).series] = 1.0
    return found


def _size(graph: Graph) -> Integers:
    return np.concatenate([np.diff(graph.summation.matrix.indptr), np.ones(graph.n_series, dtype=np.int64)])


def _smallest(graph: Graph, nodes: Integers) -> Integers:
    """Of some totals those that hold no other of them."""
    matrix = graph.summation.matrix[nodes]
    size = np.diff(matrix.indptr)
    shared = (matrix @ matrix.T).toarray()
    holds = (shared == size[None, :]) & (size[:, None] > size[None, :])
    return nodes[~holds.any(axis=1)]


def _held_between(graph: Graph, within: Integers, lumps: range) -> Integers:
    """Lumps that lie in a total of those `within` a node, and so not next below the node itself."""
    totals = within[within < graph.n_aggregates]
    own = totals[(totals >= lumps.start) & (totals < lumps.stop)]
    matrix, size = graph.summation.matrix, _size(graph)
    shared = sparse.coo_array(matrix[totals] @ matrix[own].T)
    whole = (shared.data == size[own][shared.col]) & (size[totals][shared.row] > size[own][shared.col])
    return np.asarray(own[np.unique(shared.col[whole])])


def _below_in_forest(graph: Graph, node: int) -> Integers:
    axis, at = graph.everywhere or (graph.axes[0], np.empty(0, dtype=np.int64))
    if not len(at):
        at = np.empty(len(axis.parents), dtype=np.int64)
        at[graph.place[:, 0]] = np.arange(graph.n_nodes)
    places = np.nonzero(at == node)[0][:1]
    return np.unique(at[np.isin(axis.parents, places)])
