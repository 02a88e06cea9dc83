"""A graph from a list of edges: several tops, a node under several parents, branches that stop at different depths.

Every edge says that one node, or one series, lies below a parent. A node that lies under several parents counts in each
of them; where a way through the graph is needed, as for whole numbers or for showing it as a tree, it stands under the
parent that the list names first.
"""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.errors import StructureError
from tansy.engine.graph.constraints import Summation, in_order, summation_of
from tansy.engine.graph.graph import Axis, Graph, Level
from tansy.engine.panel import Edges, Panel

Integers = NDArray[np.int64]
Node = str | tuple[str, ...]
"""A total by its name, a series by its key values."""
_MOST_PLACES = 6
"""Places of a forest with every node below all of its parents, in times of the nodes."""


def along_edges(panel: Panel, edges: Edges) -> Graph:
    """Build the graph of a panel.

    Children that are neither totals nor series of the panel are left out, and totals that are left with nothing below.
    Raises StructureError where a series has no parent, where a total is its own ancestor, where it counts a series
    twice, or where its splits do not hold the same series.
    """
    series: list[Node] = list(zip(*(panel.keys[name] for name in panel.key_names), strict=True))
    rows = leading_to(edges, series)
    named: list[Node] = [*rows.totals, *series]
    n = len(rows.totals)
    up = np.full(len(named), -1, dtype=np.int64)
    up[rows.child[::-1]] = rows.parent[::-1]  # the parent that is named first
    lost = np.nonzero(up[n:] < 0)[0]
    if len(lost):
        some = " × ".join(series[int(lost[0])])
        raise StructureError(f"{len(lost):,} series are in no row of {edges.name}, such as {some}; give each a parent.")
    summation = summation_of(named, n, rows.parent, rows.child, [edges.splits[e] for e in rows.kept])
    depth = _depths(up)
    labels = {
        total: edges.levels[e]
        for total, e in zip(rows.parent[::-1].tolist(), rows.kept[::-1], strict=True)
        if edges.levels[e]
    }
    levels, totals = _levels(rows.written(), depth, labels, panel)
    order = np.array([*totals, *range(n, len(named))], dtype=np.int64)
    at = np.append(np.argsort(order), -1)  # what was -1 stays
    summation = Summation(sparse.csr_array(summation.matrix[order[:n]]))
    up, deep = at[up[order]], depth[order]
    forest = _Forest(panel, edges.name, [named[i] for i in order.tolist()], summation)
    place = _preorder(up, deep)
    node = np.argsort(place)
    axis = forest.axis(node, np.where(up >= 0, place[up], -1)[node], deep[node])
    everywhere = forest.everywhere(at[rows.parent], at[rows.child], up)
    return Graph(
        levels,
        summation,
        (axis,),
        place[:, None],
        _tree(up, deep, len(series)),
        np.where(np.arange(len(order)) < n, np.arange(len(order)), up),
        _effect_groups(up, n),
        _key_codes(panel, summation),
        everywhere,
    )


@dataclass(frozen=True, eq=False)
class Rows:
    """Rows of a list of edges that lead to a series of the panel, in their order.

    kept: [rows], their positions in the list. totals: those that hold something, as parents first name them. parent,
    child: [rows], a total by its place in `totals`, a series by that in the panel, counted on from there.
    """

    kept: list[int]
    totals: list[str]
    parent: Integers
    child: Integers

    def written(self) -> list[int]:
        """Totals in the order in which the rows first name them, be it as a parent or below one."""
        both = np.stack([self.parent, self.child], axis=1).ravel()
        named = both[in_order(both)[1]]
        return list(named[named < len(self.totals)].tolist())


def leading_to(edges: Edges, series: Sequence[Node]) -> Rows:
    """Raises StructureError where a total that leads to series has the name of one."""
    number: dict[Node, int] = {}
    parent = np.array([number.setdefault(name, len(number)) for name in edges.parents], dtype=np.int64)
    names, n = list(edges.parents), len(number)
    number.update(zip(series, range(n, n + len(series)), strict=True))
    child = np.array([number.get(edges.child(e), -1) for e in range(len(names))], dtype=np.int64)
    holds = np.zeros(n + len(series) + 1, dtype=bool)  # the last for what is unknown
    holds[n:-1] = True
    while True:
        leads = holds[child]
        if holds[parent[leads]].all():
            break
        holds[parent[leads]] = True
    kept = np.nonzero(leads)[0]
    own, first = in_order(parent[kept])
    totals = [names[e] for e in kept[first].tolist()]
    for name in totals:
        if (name,) in number:
            raise StructureError(
                f"{edges.name} has {name!r} as a parent, which is a series; give the total a name of its own."
            )
    at = np.full(n, -1, dtype=np.int64)
    at[parent[kept]] = own
    below = child[kept]
    below = np.where(below < n, at[np.minimum(below, n - 1)], below - n + len(totals))
    return Rows(kept.tolist(), totals, own, below)


def _depths(up: Integers) -> Integers:
    """Steps from a top to each node by its first parents. There are no circles."""
    depth, at = np.zeros_like(up), up
    while (at >= 0).any():
        depth += at >= 0
        at = np.where(at >= 0, up[at], -1)
    return depth


def _levels(
    totals: list[int], depth: Integers, labels: dict[int, str], panel: Panel
) -> tuple[tuple[Level, ...], list[int]]:
    """Totals of one label, or without one as many steps from a top, are a level: from the top down, the series last.
    And the totals level after level."""
    label = {i: labels.get(i) or ("top" if depth[i] == 0 else f"{depth[i]} below the top") for i in totals}
    highest: dict[str, int] = {}
    for i in totals:
        highest[label[i]] = min(int(depth[i]), highest.get(label[i], int(depth[i])))
    words = sorted(highest, key=lambda word: highest[word])
    counts = Counter(label.values())
    rank = {word: i for i, word in enumerate(words)}
    built: list[Level] = []
    for word in words:
        built.append(Level((word,), built[-1].first + built[-1].n_nodes if built else 0, counts[word]))
    ordered = sorted(totals, key=lambda i: rank[label[i]])
    return (*built, Level((" × ".join(panel.key_names),), len(totals), panel.n_series)), ordered


def _preorder(up: Integers, depth: Integers) -> Integers:
    """Place of each node in a forest of first parents, [nodes]: parents before what lies below them, those below one
    parent in the order of the nodes."""
    by_depth = [np.nonzero(depth == d)[0] for d in range(int(depth.max(initial=0)) + 1)]
    size = np.ones(len(up), dtype=np.int64)
    for nodes in reversed(by_depth[1:]):
        np.add.at(size, up[nodes], size[nodes])
    siblings = np.argsort(up, kind="stable")
    before = np.cumsum(size[siblings]) - size[siblings]
    first = np.searchsorted(up[siblings], up[siblings])
    place = np.empty_like(size)
    place[siblings] = before - before[first]
    for nodes in by_depth[1:]:
        place[nodes] += place[up[nodes]] + 1
    return place


@dataclass(frozen=True)
class _Forest:
    """Nodes laid out as a forest, each place after its parent."""

    panel: Panel
    name: str
    nodes: list[Node]
    summation: Summation

    def axis(self, at: Integers, parents: Integers, depths: Integers) -> Axis:
        """The forest with these nodes at its places; each place's parent, -1 at a top, and its depth."""
        held = np.concatenate([np.diff(self.summation.matrix.indptr), np.ones(self.summation.n_finest, dtype=np.int64)])
        order = at.tolist()
        chosen = [self.nodes[i] for i in order]
        shown = self._shown()
        return Axis(
            self.name,
            tuple(shown[i] for i in order),
            tuple(node if isinstance(node, str) else " × ".join(node) for node in chosen),
            depths,
            parents,
            tuple(map(self._where, chosen)),
            held[at].astype(np.int64),
        )

    def everywhere(self, parents: Integers, children: Integers, up: Integers) -> tuple[Axis, Integers] | None:
        """With each node below all of its parents, and the node at each place, where some have several and the places
        are not very many. parents, children: [rows]."""
        once = np.sort(in_order(parents * len(up) + children)[1])
        n_parents = np.bincount(children[once], minlength=len(up))
        if (n_parents <= 1).all():
            return None
        below: list[list[int]] = [[] for _ in up]
        for parent, child in zip(parents[once].tolist(), children[once].tolist(), strict=True):
            below[parent].append(child)
        waiting = n_parents.tolist()
        tops = np.nonzero(up < 0)[0].tolist()
        ways = (up < 0).astype(np.float64).tolist()  # from a top; parents are reached before their children
        todo = tops.copy()
        while todo:
            node = todo.pop()
            for child in below[node]:
                ways[child] += ways[node]
                waiting[child] -= 1
                if not waiting[child]:
                    todo.append(child)
        if sum(ways) > _MOST_PLACES * len(below):
            return None
        order: list[int] = []
        above: list[int] = []
        deep: list[int] = []
        places = [(i, -1, 0) for i in reversed(tops)]
        while places:
            node, parent, level = places.pop()
            places.extend((child, len(order), level + 1) for child in reversed(below[node]))
            order.append(node)
            above.append(parent)
            deep.append(level)
        at = np.array(order, dtype=np.int64)
        return self.axis(at, np.array(above), np.array(deep)), at

    def _shown(self) -> list[str]:
        """What each node is called, [nodes]; the series are the last ones."""
        panel = self.panel
        called = [panel.attributes.get(key, {}).get("name", {}) for key in panel.key_names]
        codes = [panel.keys[key] for key in panel.key_names]
        own = [[names.get(code) or code for code in of] for names, of in zip(called, codes, strict=True)]
        totals = [node for node in self.nodes if isinstance(node, str)]
        return [*totals, *(" × ".join(one) for one in zip(*own, strict=True))]

    def _where(self, node: Node) -> dict[str, str]:
        return {"node": node} if isinstance(node, str) else dict(zip(self.panel.key_names, node, strict=True))


def _tree(up: Integers, depth: Integers, n_series: int) -> list[Integers]:
    """Down from the tops to the series by first parents, all branches made as deep as the deepest: a series stands for
    itself from its own depth on. For each level below the tops the parent of each of its nodes, numbered within their
    levels."""
    at = np.arange(len(up) - n_series, len(up))
    deepest = int(depth[at].max())
    way = np.empty((deepest + 1, n_series), dtype=np.int64)
    for level in range(deepest, -1, -1):
        way[level] = at
        at = np.where(depth[at] == level, np.where(up[at] >= 0, up[at], at), at)
    parents = []
    numbers = [np.unique(row, return_inverse=True)[1].ravel() for row in way[:-1]] + [np.arange(n_series)]
    for above, below in itertools.pairwise(numbers):
        parent = np.empty(int(below.max()) + 1, dtype=np.int64)
        parent[below] = above
        parents.append(parent)
    return parents


def _effect_groups(up: Integers, n_totals: int) -> tuple[Integers, Integers]:
    """For a series all under the same parent, then all under that parent's parent."""
    narrow = np.arange(len(up)) + len(up)
    wide = narrow.copy()
    parent = up[n_totals:]
    narrow[n_totals:] = parent
    wide[n_totals:] = np.where(up[parent] >= 0, up[parent], parent)
    return narrow, wide


def _key_codes(panel: Panel, summation: Summation) -> dict[str, list[str]]:
    """On each key the code that all series of a node have, and else "every product"."""
    matrix = summation.matrix
    found: dict[str, list[str]] = {}
    for key in panel.key_names:
        codes, own = np.unique(np.array(panel.keys[key], dtype=object), return_inverse=True)
        below = own.ravel()[matrix.indices]
        starts = matrix.indptr[:-1]
        alike = np.minimum.reduceat(below, starts) == np.maximum.reduceat(below, starts) if len(starts) else starts
        totals = [
            str(codes[i]) if same else f"every {key}"
            for i, same in zip(below[starts].tolist(), alike.tolist(), strict=True)
        ]
        found[key] = [*totals, *panel.keys[key]]
    return found
