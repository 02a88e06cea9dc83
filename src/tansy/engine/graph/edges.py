"""A graph from a list of edges: several tops, a node under several parents, branches that stop at different depths.

Every edge says that one node, or one series, lies below a parent. A node that lies under several parents counts in each
of them; where a way through the graph is needed, as for whole numbers or for showing it as a tree, it stands under the
parent that the list names first.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.errors import StructureError
from tansy.engine.graph.constraints import Summation, from_edges
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
    kept = leading_to(edges, set(series))
    parents, children = [edges.parents[e] for e in kept], [edges.child(e) for e in kept]
    first_parent: dict[Node, str] = {}
    for parent, child in zip(parents, children, strict=True):
        first_parent.setdefault(child, parent)
    lost = [key for key in series if key not in first_parent]
    if lost:
        raise StructureError(
            f"{len(lost):,} series are in no row of {edges.name}, such as {' × '.join(lost[0])}; give each a parent."
        )
    below: list[Node] = [*parents]
    names, summation = from_edges(below, children, [edges.splits[e] for e in kept])
    labels = {edges.parents[e]: edges.levels[e] for e in reversed(kept) if edges.levels[e]}
    depth = _depths(names, first_parent)
    written = dict.fromkeys(node for e in kept for node in (edges.parents[e], edges.child(e)))
    levels, totals = _levels([name for name in written if isinstance(name, str)], depth, labels, panel)
    order = {name: i for i, name in enumerate([*totals, *series])}
    at = {name: i for i, name in enumerate(names)}
    matrix = summation.matrix[[at[name] for name in totals]] if totals else summation.matrix
    finest = np.array([at[name] for name in series]) - summation.n_aggregates
    summation = Summation(sparse.csr_array(matrix[:, finest]))
    up = np.array([order.get(first_parent.get(name, ""), -1) for name in order], dtype=np.int64)
    deep = np.array([depth[name] for name in order], dtype=np.int64)
    below_each: list[list[int]] = [[] for _ in order]
    for parent, child in dict.fromkeys(zip(parents, children, strict=True)):
        below_each[order[parent]].append(order[child])
    forest = _Forest(panel, edges.name, list(order), summation)
    axis, _, place = forest.axis(_under_first(up))
    everywhere = forest.everywhere(below_each, up)
    return Graph(
        levels,
        summation,
        (axis,),
        place[:, None],
        _tree(up, deep, len(series)),
        np.where(np.arange(len(order)) < len(totals), np.arange(len(order)), up),
        _effect_groups(up, len(totals)),
        _key_codes(panel, summation),
        everywhere,
    )


def leading_to(edges: Edges, series: set[Node]) -> list[int]:
    """Positions of the edges that lead to a series of the panel, in their order."""
    into: dict[Node, list[int]] = {}
    for e in range(len(edges.parents)):
        into.setdefault(edges.child(e), []).append(e)
    found: set[int] = set()
    todo: list[Node] = [child for child in into if child in series]
    done = set(todo)
    while todo:
        for e in into.get(todo.pop(), ()):
            found.add(e)
            parent: Node = edges.parents[e]
            if (parent,) in series:
                raise StructureError(
                    f"{edges.name} has {parent!r} as a parent, which is a series; give the total a name of its own."
                )
            if parent not in done:
                done.add(parent)
                todo.append(parent)
    return sorted(found)


def _depths(names: Sequence[Node], first_parent: dict[Node, str]) -> dict[Node, int]:
    """Steps from a top to each node by its first parents. There are no circles."""
    depth: dict[Node, int] = {}
    for name in names:
        way = [name]
        while way[-1] not in depth and way[-1] in first_parent:
            way.append(first_parent[way[-1]])
        top = way.pop()
        here = depth.setdefault(top, 0)
        for one in reversed(way):
            here += 1
            depth[one] = here
    return depth


def _levels(
    totals: list[str], depth: dict[Node, int], labels: dict[str, str], panel: Panel
) -> tuple[tuple[Level, ...], list[str]]:
    """Totals of one label, or without one as many steps from a top, are a level: from the top down, the series last."""

    def label(name: str) -> str:
        return labels.get(name) or ("top" if depth[name] == 0 else f"{depth[name]} below the top")

    highest: dict[str, int] = {}
    for name in totals:
        highest[label(name)] = min(depth[name], highest.get(label(name), depth[name]))
    words = sorted(highest, key=lambda word: highest[word])
    rank = {word: i for i, word in enumerate(words)}
    ordered = sorted(totals, key=lambda name: rank[label(name)])
    built: list[Level] = []
    for word in words:
        first = built[-1].first + built[-1].n_nodes if built else 0
        built.append(Level((word,), first, sum(label(name) == word for name in ordered)))
    return (*built, Level((" × ".join(panel.key_names),), len(totals), panel.n_series)), ordered


def _under_first(up: Integers) -> list[list[int]]:
    """Nodes below each by first parents alone."""
    below: list[list[int]] = [[] for _ in up]
    for i, parent in enumerate(up.tolist()):
        if parent >= 0:
            below[parent].append(i)
    return below


@dataclass(frozen=True)
class _Forest:
    """Nodes laid out as a forest, each place after its parent."""

    panel: Panel
    name: str
    nodes: list[Node]
    summation: Summation

    def axis(self, below: list[list[int]]) -> tuple[Axis, Integers, Integers]:
        """The forest, the node at each place, and the first place of each node. below: nodes under each."""
        has_parent = {child for children in below for child in children}
        order: list[int] = []
        above: list[int] = []
        deep: list[int] = []
        todo = [(i, -1, 0) for i in reversed(range(len(self.nodes))) if i not in has_parent]
        while todo:
            node, parent, level = todo.pop()
            todo.extend((child, len(order), level + 1) for child in reversed(below[node]))
            order.append(node)
            above.append(parent)
            deep.append(level)
        at = np.array(order, dtype=np.int64)
        place = np.empty(len(self.nodes), dtype=np.int64)
        place[at[::-1]] = np.arange(len(at))[::-1]
        held = np.concatenate([np.diff(self.summation.matrix.indptr), np.ones(self.summation.n_finest, dtype=np.int64)])
        chosen = [self.nodes[i] for i in order]
        shown = self._shown()
        axis = Axis(
            self.name,
            tuple(shown[i] for i in order),
            tuple(node if isinstance(node, str) else " × ".join(node) for node in chosen),
            np.array(deep),
            np.array(above),
            tuple(map(self._where, chosen)),
            held[at].astype(np.int64),
        )
        return axis, at, place

    def everywhere(self, below: list[list[int]], up: Integers) -> tuple[Axis, Integers] | None:
        """With each node below all of its parents, where some have several and the places are not very many."""
        n_parents = np.bincount(np.fromiter(itertools.chain.from_iterable(below), np.int64), minlength=len(below))
        if (n_parents <= 1).all():
            return None
        waiting = n_parents.tolist()
        ways = (up < 0).astype(np.float64).tolist()  # from a top; parents are reached before their children
        todo = np.nonzero(up < 0)[0].tolist()
        while todo:
            node = todo.pop()
            for child in below[node]:
                ways[child] += ways[node]
                waiting[child] -= 1
                if not waiting[child]:
                    todo.append(child)
        if sum(ways) > _MOST_PLACES * len(below):
            return None
        axis, at, _ = self.axis(below)
        return axis, at

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
