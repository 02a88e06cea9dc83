"""A graph of the nodes that pruning has left, and all series: those that are not kept themselves get a share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.graph.constraints import Summation
from tansy.engine.graph.formula import Formula
from tansy.engine.graph.graph import Axis, Graph, Level
from tansy.engine.graph.grouping import Dimension, effect_groups, labels_of, laid_out, tree_of
from tansy.engine.graph.judged import History
from tansy.engine.graph.pruning import Kept, PruningRule, finest_of, prune
from tansy.engine.panel import Panel

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

OTHER = "other"
"""The level of nodes that gather what did not qualify, and their name below the node that was split."""


@dataclass(frozen=True, eq=False)
class Pruned:
    """graph: kept nodes, then all series. own: [nodes], those that are forecast themselves. leaf: [series], the
    smallest of them that each lies in, itself where it is one. lumps: nodes that gather others. finest: [nodes], the
    shortest periods in which each is forecast, 0 for those of the history, then the time levels."""

    graph: Graph
    own: Booleans
    leaf: Integers
    lumps: range
    finest: Integers

    def seasons_from(self, nodes: Integers) -> Integers:
        """For nodes that are forecast in longer periods only, one each whose season shows in those of the history: the
        smallest larger total forecast in them that shares a series, the first total where there is none. [k]."""
        graph = self.graph
        matrix = graph.summation.matrix
        size = np.concatenate([np.diff(matrix.indptr), np.ones(graph.n_series, dtype=np.int64)])
        totals = np.nonzero(self.fitted_at(0)[: graph.n_aggregates])[0]
        is_series = nodes >= graph.n_aggregates
        first = np.where(is_series, nodes - graph.n_aggregates, 0)
        first[~is_series] = matrix.indices[matrix.indptr[nodes[~is_series]]]
        held = sparse.coo_array(matrix[totals][:, first])
        total, at = totals[held.row], held.col
        larger = size[total] > size[nodes[at]]
        total, at = total[larger], at[larger]
        by_size = np.argsort(-size[total], kind="stable")
        found = np.zeros(len(nodes), dtype=np.int64)
        found[at[by_size]] = total[by_size]
        return found

    def fitted_at(self, level: int) -> Booleans:
        """Which nodes are forecast themselves at the periods of the history, 0, or at a time level, [nodes]."""
        return self.own & (self.finest <= level)


def pruned(panel: Panel, formula: Formula, histories: Sequence[History], rule: PruningRule) -> Pruned:
    """Build the graph. histories: what it is judged by, from the periods of the history to the longest of the time
    levels: nodes are split by the longest, and then periods. Raises StructureError as
    `grouping.group`."""
    dimensions, levels = laid_out(panel, formula)
    kept = prune(dimensions, levels, histories[-1], rule)
    last = len(levels) - 1
    itself = kept.themselves(last)
    totals = np.nonzero(~itself)[0]
    # by level, lumps after all others, as they were found
    rank = np.where(kept.lumped[totals], last, kept.level[totals])
    totals = totals[np.argsort(rank, kind="stable")]
    rank = np.sort(rank, kind="stable")
    built = []
    for number in np.unique(rank).tolist():
        first, n = int(np.searchsorted(rank, number)), int((rank == number).sum())
        labels = (OTHER,) if number == last else labels_of(dimensions, levels[number])
        built.append(Level(labels, first, n))
    built.append(Level(labels_of(dimensions, levels[last]), len(totals), panel.n_series))
    axes, place = _places(dimensions, levels, kept, totals)
    matrix = sparse.csr_array(kept.matrix[totals])
    matrix.sort_indices()
    own = np.ones(len(totals) + panel.n_series, dtype=bool)
    own[len(totals) :] = False
    own[len(totals) + kept.held.first[itself]] = True
    number_of = np.empty(kept.n_nodes, dtype=np.int64)
    number_of[totals] = np.arange(len(totals))
    number_of[itself] = len(totals) + kept.held.first[itself]
    groups = effect_groups(dimensions, len(totals) + np.arange(panel.n_series), len(own))
    codes = {
        axis.name: [axis.codes[i] for i in place[:, d].tolist()]
        for d, axis in enumerate(axes)
        if axis.tells_series_apart
    }
    graph = Graph(
        tuple(built), Summation(matrix), axes, place, tree_of(dimensions), _sources(matrix), groups, codes
    )  # fmt: skip
    finest = np.zeros(len(own), dtype=np.int64)
    finest[number_of] = finest_of(kept.held, histories, rule)
    return Pruned(graph, own, number_of[kept.leaf], range(int((rank < last).sum()), len(totals)), finest)


def _sources(matrix: sparse.csr_array) -> Integers:
    """Of each total itself, of each series the smallest total of two and more that it lies in."""
    n, n_series = matrix.shape
    size = np.diff(matrix.indptr)
    of = np.repeat(np.arange(n), size)
    by_size = np.argsort(-size[of], kind="stable")
    found = np.zeros(n_series, dtype=np.int64)
    several = by_size[size[of[by_size]] > 1]
    found[matrix.indices[several]] = of[several]
    return np.concatenate([np.arange(n), found])


def _places(
    dimensions: tuple[Dimension, ...], levels: tuple[tuple[int, ...], ...], kept: Kept, totals: Integers
) -> tuple[tuple[Axis, ...], Integers]:
    """The axes, with a place for what is lumped below each node that was split; where the totals and the series stand,
    [nodes, axes]."""
    depths = np.array(levels)
    first = kept.held.first
    # a lump stands where the node that was split does, but on the first axis that the split goes down
    stands = np.where(kept.lumped, kept.level[np.maximum(kept.parent, 0)], kept.level)
    finer = depths[kept.level] > depths[stands]
    key = OTHER
    while any(key in dimension.levels for dimension in dimensions):
        key += "_"  # what an attribute is called cannot tell a lump from it
    found, placed = [], []
    for d, dimension in enumerate(dimensions):
        axis, of_depth = dimension.axis()
        of_series = np.stack([of_depth[k][dimension.member[k]] for k in range(len(of_depth))])
        here = of_series[depths[stands, d], first]
        down = np.nonzero(kept.lumped & finer[:, d] & ~finer[:, :d].any(axis=1))[0]
        gathered: dict[tuple[int, int], set[int]] = {}
        for node in down.tolist():
            below = gathered.setdefault((int(here[node]), int(kept.level[node])), set())
            below.update(kept.series(node).tolist())
        more = [
            (parent, " × ".join(labels_of(dimensions, levels[level])), len(series))
            for (parent, level), series in gathered.items()
        ]
        axis, now, new = _with_more(axis, more, key)
        number = dict(zip(gathered, new.tolist(), strict=True))
        stand = now[here]
        stand[down] = [number[int(here[node]), int(kept.level[node])] for node in down.tolist()]
        found.append(axis)
        placed.append(np.concatenate([stand[totals], now[of_series[-1]]]))
    return tuple(found), np.stack(placed, axis=1)


def _with_more(axis: Axis, more: list[tuple[int, str, int]], key: str) -> tuple[Axis, Integers, Integers]:
    """An axis with places added, each the last child of its parent: (parent, the level it stands for, series). key:
    what says so in the ids of their nodes. Also where the old places are now, and where the new ones are."""
    if not more:
        return axis, np.arange(len(axis.names)), np.empty(0, dtype=np.int64)
    n = len(axis.names)
    parents = np.concatenate([axis.parents, [parent for parent, _, _ in more]])
    below: list[list[int]] = [[] for _ in parents]
    tops: list[int] = []
    for place, parent in enumerate(parents.tolist()):
        (below[parent] if parent >= 0 else tops).append(place)
    order: list[int] = []
    todo = tops[::-1]
    while todo:
        place = todo.pop()
        order.append(place)
        todo.extend(reversed(below[place]))
    now = np.empty(len(parents), dtype=np.int64)
    now[order] = np.arange(len(order))

    def where(place: int) -> Mapping[str, str]:
        if place < n:
            return axis.where[place]
        parent, level, _ = more[place - n]
        return {**axis.where[parent], key: level}

    grown = replace(
        axis,
        names=tuple(axis.names[i] if i < n else OTHER for i in order),
        codes=tuple(axis.codes[i] if i < n else OTHER for i in order),
        depths=np.array([axis.depths[i] if i < n else axis.depths[more[i - n][0]] + 1 for i in order]),
        parents=np.array([now[parents[i]] if parents[i] >= 0 else -1 for i in order]),
        where=tuple(where(i) for i in order),
        n_series=np.array([axis.n_series[i] if i < n else more[i - n][2] for i in order]),
    )
    return grown, now[:n], now[n:]
