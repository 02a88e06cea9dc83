"""Pruning of a graph of edges: the same walk as `pruning`, along the splits that a file or a hand has drawn.

From the tops down every split of a node that is open is judged by its children; where it is taken they are kept, those
that qualify are open too, and what does not is gathered. What is left is again a list of edges, in which series that
are not kept lie below the smallest node that is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.constraints import steps_above_finest
from tansy.engine.graph.edges import Node, along_edges, leading_to
from tansy.engine.graph.graph import Graph, node_id
from tansy.engine.graph.judged import History
from tansy.engine.graph.pruned import OTHER, Pruned
from tansy.engine.graph.pruning import Held, PruningRule, finest_of
from tansy.engine.panel import Edges, Panel

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class Left:
    """What is left of a graph. kept: [nodes] of it, those that are forecast themselves; edges: of them, of lumps, and
    of all series. lumps: names of what gathers others, and their series; other: what their level is called."""

    kept: Booleans
    edges: Edges
    lumps: dict[str, Integers]
    other: str
    n_splits: int
    n_taken: int

    def held(self, whole: Graph) -> Held:
        """The series of what is left of a graph and forecast itself, lumps last."""
        kept = held_by(whole).of(np.nonzero(self.kept)[0])
        size = np.array([len(one) for one in self.lumps.values()], dtype=np.int64)
        start = np.concatenate([kept.start, kept.start[-1] + np.cumsum(size)])
        return Held(start, np.concatenate([kept.members, *self.lumps.values()]))


def pruned_edges(panel: Panel, edges: Edges, histories: Sequence[History], rule: PruningRule) -> Pruned:
    """Build the graph that pruning leaves. histories: as `pruned.pruned` has them. Raises StructureError as
    `along_edges`."""
    whole = along_edges(panel, edges)
    left = prune_edges(panel, edges, whole, histories, rule)
    graph = along_edges(panel, left.edges)
    own = np.zeros(graph.n_nodes, dtype=bool)
    names = [*(whole.ids[i] for i in np.nonzero(left.kept)[0].tolist()), *(_id(panel, one) for one in left.lumps)]
    own[[graph.position[name] for name in names]] = True
    of = next((level for level in graph.levels if level.name == left.other), None)
    lumps = range(of.first, of.first + of.n_nodes) if of else range(0)
    finest = np.zeros(graph.n_nodes, dtype=np.int64)
    rows = np.nonzero(own)[0]
    finest[rows] = finest_of(held_by(graph).of(rows), histories, rule)
    return Pruned(graph, own, _leaf(graph, own), lumps, finest)


def prune_edges(panel: Panel, edges: Edges, whole: Graph, histories: Sequence[History], rule: PruningRule) -> Left:
    return _Walk(panel, edges, whole, histories[-1], rule).down()


class _Walk:
    def __init__(self, panel: Panel, edges: Edges, whole: Graph, history: History, rule: PruningRule) -> None:
        self._panel, self._whole, self._rule, self._edges = panel, whole, rule, edges
        series: list[Node] = list(zip(*(panel.keys[name] for name in panel.key_names), strict=True))
        rows = leading_to(edges, series).kept
        at = whole.position
        self._parent = np.array([at[_id(panel, edges.parents[e])] for e in rows], dtype=np.int64)
        self._child = np.array([at[_id(panel, edges.child(e))] for e in rows], dtype=np.int64)
        splits = {way: i for i, way in enumerate(dict.fromkeys((edges.parents[e], edges.splits[e]) for e in rows))}
        self._split_names = [split for _, split in splits]
        self._split = np.array([splits[edges.parents[e], edges.splits[e]] for e in rows], dtype=np.int64)
        held = held_by(whole)
        self._held = held
        self._qualifies = np.ones(whole.n_nodes, dtype=bool)
        if rule.limits:
            self._qualifies = rule.qualify(history.features(held.members, held.start, tuple(rule.limits)))
        self._volume = whole.summation.sum_up(history.volume)
        self._marks = held.marks(whole.n_series)
        self._first_with: dict[int, int] = {}
        self._kept = np.zeros(whole.n_nodes, dtype=bool)
        self._open = np.zeros(whole.n_nodes, dtype=bool)
        self._rows: list[tuple[str, tuple[str, ...], str, str]] = []  # parent, child, split, level of the parent
        self._has_rows: set[int] = set()
        self._lumps: dict[str, Integers] = {}
        self._taken = self._judged = 0
        self._other = OTHER
        while any(level.name == self._other for level in whole.levels):
            self._other += "_"  # what a level is called cannot tell a lump from its nodes

    def down(self) -> Left:
        whole = self._whole
        tops = np.setdiff1d(np.arange(whole.n_nodes), self._child)
        for top in tops.tolist():
            self._stands_for(top)
        self._open[tops] = True
        height = steps_above_finest(whole.ids, self._parent, self._child)
        for h in range(int(height.max(initial=0)), 0, -1):
            self._split_nodes(np.nonzero((height[self._parent] == h) & self._open[self._parent])[0])
        for node in np.nonzero(self._kept[: whole.n_aggregates])[0].tolist():
            if node not in self._has_rows:  # what is not split further holds its series
                self._series_below(self._name(node), self._level(node), self._held.series(node))
        parents, children, splits, levels = zip(*self._rows, strict=True)
        left = Edges(self._edges.name, parents, children, splits, levels, self._edges.several_keys)
        return Left(self._kept, left, self._lumps, self._other, self._judged, self._taken)

    def _split_nodes(self, rows: Integers) -> None:
        """Judge the splits that some edges make, and keep what those that are taken leave."""
        if not len(rows):
            return
        splits, of = np.unique(self._split[rows], return_inverse=True)
        child = self._child[rows]
        good, n_parts = self._qualifies[child], np.bincount(of)
        n_good = np.bincount(of, weights=good)
        total = np.bincount(of, weights=self._volume[child])
        sold = np.bincount(of, weights=np.where(good, self._volume[child], 0.0))
        share = n_good / n_parts
        if self._rule.by == "volume":
            share = np.divide(sold, total, out=np.zeros_like(total), where=total > 0.0)
        judged = n_parts > 1
        taken = judged & (share > self._rule.share)
        self._judged += int(judged.sum())
        self._taken += int(taken.sum())
        lumps = taken & (n_parts - n_good > 1) & self._rule.lump
        for k in np.nonzero(taken | ~judged)[0].tolist():
            edges = rows[of == k]
            if judged[k]:
                self._take(edges, self._split_names[splits[k]], bool(lumps[k]))
            else:  # one part is the node itself
                self._open[self._child[edges]] |= self._qualifies[self._child[edges]]

    def _take(self, edges: Integers, split: str, lump: bool) -> None:
        parent = self._stands_for(int(self._parent[edges[0]]))
        name, level = self._name(parent), self._level(parent)
        self._has_rows.add(parent)
        gathered = []
        for node in self._child[edges].tolist():
            if lump and not self._qualifies[node]:
                gathered.append(self._held.series(node))
                continue
            own = self._stands_for(node)
            self._rows.append((name, self._key(own), split, level))
            self._open[node] |= self._qualifies[node]
        if gathered:
            other = f"{name}: {OTHER}" + (f" {split}" if split else "")
            while other in self._lumps or node_id({"node": other}) in self._whole.position:
                other += "_"
            self._lumps[other] = np.concatenate(gathered)
            self._rows.append((name, (other,), split, level))
            self._series_below(other, self._other, self._lumps[other])

    def _stands_for(self, node: int) -> int:
        """The kept node of just the same series, which is this one where there is none yet."""
        found = self._first_with.setdefault(int(self._marks[node]), node)
        self._kept[found] = True
        return found

    def _series_below(self, parent: str, level: str, series: Integers) -> None:
        first = self._whole.n_aggregates
        self._rows += [(parent, self._key(first + i), "", level) for i in series.tolist()]

    def _name(self, node: int) -> str:
        return self._whole.axes[0].codes[int(self._whole.place[node, 0])]

    def _level(self, node: int) -> str:
        return self._whole.levels[int(self._whole.level_of[node])].name

    def _key(self, node: int) -> tuple[str, ...]:
        series = node - self._whole.n_aggregates
        if series < 0:
            return (self._name(node),)
        return tuple(self._panel.keys[name][series] for name in self._panel.key_names)


def _id(panel: Panel, node: Node) -> str:
    return node_id({"node": node} if isinstance(node, str) else dict(zip(panel.key_names, node, strict=True)))


def held_by(graph: Graph) -> Held:
    """The series of all nodes."""
    matrix, n = graph.summation.matrix, graph.n_series
    start = np.concatenate([matrix.indptr, matrix.indptr[-1] + 1 + np.arange(n)]).astype(np.int64)
    return Held(start, np.concatenate([matrix.indices, np.arange(n)]).astype(np.int64))


def _leaf(graph: Graph, own: Booleans) -> Integers:
    """Of each series the smallest node of those `own` that it lies in, [series]."""
    matrix = graph.summation.matrix
    size = np.diff(matrix.indptr)
    of = np.repeat(np.arange(graph.n_aggregates), size)
    kept = own[of]
    of, series = of[kept], matrix.indices[kept]
    by_size = np.argsort(-size[of], kind="stable")
    found = np.full(graph.n_series, -1, dtype=np.int64)
    found[series[by_size]] = of[by_size]
    itself = own[graph.n_aggregates :]
    return np.where(itself, graph.n_aggregates + np.arange(graph.n_series), found)
