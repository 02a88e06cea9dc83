"""Which nodes of a structure are worth forecasting: from the top down, a split is taken where enough of its parts are.

A level of a formula splits into the next finer ones. A node's parts are judged by their features; the split is taken
where more than a given share of the parts, or of their volume, qualifies. Parts of a taken split are kept, and those
that qualify are split further. What does not qualify is not, and is gathered into one "other" node of the split where
that is asked for. Nothing below a split that is not taken is looked at, so that a structure of a billion combinations
is never written out.

Every series lies in kept nodes; the smallest of them is what a series that is not kept itself gets its share of.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.errors import StructureError
from tansy.engine.graph.constraints import marks_of
from tansy.engine.graph.constraints import ranges as _ranges
from tansy.engine.graph.counts import node_of_series
from tansy.engine.graph.grouping import Depths, Dimension, next_above
from tansy.engine.graph.judged import History

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

FEATURES = ("mean", "empty", "season", "trend", "entropy", "length")
"""Mean level; share of periods without a sale; strength of season and of trend; spectral entropy; periods since the
first sale."""
MOST = ("empty", "entropy")
"""Of these a node has at most what the rule says, of the others at least."""
BY = ("parts", "volume")


@dataclass(frozen=True)
class PruningRule:
    """limits: per feature, what a part needs at least, or has at most. share: of the parts, or of their volume (`by`),
    above which a split is taken. lump: whether parts that do not qualify are gathered into one node of their split."""

    limits: Mapping[str, float] = field(default_factory=dict)
    share: float = 0.5
    by: str = "parts"
    lump: bool = True

    def __post_init__(self) -> None:
        unknown = set(self.limits) - set(FEATURES)
        if unknown:
            raise StructureError(f"There is no feature {min(unknown)!r} to prune by; there are {', '.join(FEATURES)}.")
        if not 0.0 <= self.share < 1.0:
            raise StructureError("The share that a split needs is from 0 to below 1.")
        if self.by not in BY:
            raise StructureError(f"A split is judged by {' or '.join(BY)}, not by {self.by!r}.")

    def qualify(self, features: Mapping[str, Floats]) -> Booleans:
        """Which nodes qualify, [nodes]; one whose feature is not known, for want of history, does not."""
        found = np.ones(len(next(iter(features.values()))), dtype=bool)
        for name, limit in self.limits.items():
            found &= features[name] <= limit if name in MOST else features[name] >= limit
        return found


@dataclass(frozen=True, eq=False)
class Splits:
    """All splits that were judged, [splits] each: the node, the level into which it was split (a position in the
    levels), how many parts that makes and how many of them qualify, the share of the volume that does, and whether the
    split was taken."""

    node: Integers
    level: Integers
    n_parts: Integers
    n_qualified: Integers
    volume: Floats
    taken: Booleans


@dataclass(frozen=True, eq=False)
class Held:
    """Which series some nodes hold: those of node i are members[start[i] : start[i + 1]]."""

    start: Integers
    members: Integers

    @property
    def n_nodes(self) -> int:
        return len(self.start) - 1

    def series(self, node: int) -> Integers:
        return self.members[self.start[node] : self.start[node + 1]]

    @property
    def first(self) -> Integers:
        """One of the series of each node, [nodes]."""
        return np.asarray(self.members[self.start[:-1]])

    def marks(self, n_series: int) -> NDArray[np.uint64]:
        """The same for nodes of the same series, [nodes]."""
        return np.add.reduceat(marks_of(n_series)[self.members], self.start[:-1])

    def of(self, rows: Integers) -> Held:
        """Of some of the nodes."""
        size = np.diff(self.start)[rows]
        members = self.members[_ranges(self.start[rows], self.start[rows + 1])]
        return Held(np.concatenate([[0], np.cumsum(size)]), members)


@dataclass(frozen=True, eq=False)
class Kept:
    """What pruning left.

    level: [nodes], position of the level of each kept node in the levels. held: their series. lumped: [nodes], nodes
    that gather what did not qualify in a split; parent: [nodes], the node that was split, of the total -1. leaf:
    [series], the smallest kept node that each lies in. n_judged: parts looked at.
    """

    level: Integers
    held: Held
    lumped: Booleans
    parent: Integers
    leaf: Integers
    splits: Splits
    n_judged: int

    @property
    def n_nodes(self) -> int:
        return len(self.level)

    @property
    def matrix(self) -> sparse.csr_array:
        """[nodes, series] of ones."""
        members = self.held.members
        return sparse.csr_array((np.ones(len(members)), members, self.held.start), shape=(self.n_nodes, len(self.leaf)))

    def themselves(self, finest: int) -> Booleans:
        """Which nodes are series, [nodes]; finest: the position of their level."""
        return (self.level == finest) & ~self.lumped

    def series(self, node: int) -> Integers:
        return self.held.series(node)


def prune(dimensions: tuple[Dimension, ...], levels: tuple[Depths, ...], history: History, rule: PruningRule) -> Kept:
    """Walk a structure from the top down. dimensions, levels: of `grouping.laid_out`; the first level is the total, the
    last the series."""
    return _Walk(dimensions, levels, history, rule).down()


def finest_of(held: Held, histories: Sequence[History], rule: PruningRule) -> Integers:
    """How far down in time each node is worth a forecast, [nodes]: position in `histories`, which go from the finest
    periods to the longest. A node is forecast in the longest, and in the next shorter ones for as long as it qualifies
    there."""
    found = np.full(held.n_nodes, len(histories) - 1, dtype=np.int64)
    rows = np.arange(held.n_nodes)
    for k in range(len(histories) - 2, -1, -1):
        if rule.limits:
            own = held.of(rows)
            rows = rows[rule.qualify(histories[k].features(own.members, own.start, tuple(rule.limits)))]
        found[rows] = k
    return found


class _Walk:
    def __init__(
        self, dimensions: tuple[Dimension, ...], levels: tuple[Depths, ...], history: History, rule: PruningRule
    ) -> None:
        self._dimensions, self._levels, self._rule, self._history = dimensions, levels, rule, history
        n = len(history.values)
        self._n_nodes = 1
        self._nodes = [_Nodes(np.zeros(1, int), np.array([n]), np.arange(n), np.zeros(1, bool), -np.ones(1, int))]
        self._marks = marks_of(n)
        self._known, self._number = np.array([self._marks.sum()]), np.zeros(1, dtype=np.int64)
        self._splits: list[Splits] = []
        self._n_judged = 0
        # per level, the node that may be split further in which each series lies, -1 for none
        self._within: dict[int, Integers] = {0: np.zeros(n, dtype=np.int64)}
        self._above = next_above(np.array(levels))

    def down(self) -> Kept:
        for i, level in enumerate(self._levels[1:], start=1):
            self._into(i, level)
        size: Integers = np.concatenate([one.size for one in self._nodes])
        held: Integers = np.concatenate([one.held for one in self._nodes])
        of_node = np.repeat(np.arange(len(size)), size)
        by_size = np.argsort(-size[of_node], kind="stable")
        leaf = np.zeros(len(self._marks), dtype=np.int64)
        leaf[held[by_size]] = of_node[by_size]  # the last of a series is its smallest
        number: Integers = np.concatenate([one.level for one in self._nodes])
        lumped: Booleans = np.concatenate([one.lumped for one in self._nodes])
        parent: Integers = np.concatenate([one.parent for one in self._nodes])
        start = np.concatenate([[0], np.cumsum(size)])
        splits = Splits(*(np.concatenate([getattr(one, f.name) for one in self._splits]) for f in fields(Splits)))
        return Kept(number, Held(start, held), lumped, parent, leaf, splits, self._n_judged)

    def _into(self, number: int, level: Depths) -> None:
        """Judge all splits into a level, and keep what they leave."""
        above = [self._within[i] for i in self._above[number] if i in self._within]
        if not above:
            return
        series = np.nonzero(np.any([own >= 0 for own in above], axis=0))[0]
        node = series if level == self._levels[-1] else node_of_series(self._dimensions, level)[series]
        part = np.unique(node, return_inverse=True)[1].reshape(-1)
        order = np.argsort(part, kind="stable")
        size = np.bincount(part)
        parts = _Parts(number, size, np.cumsum(size) - size, series[order])
        parts.qualifies, parts.volume = self._features(parts)
        self._n_judged += len(size)
        parts.node[:] = self._there(parts)
        for own in above:
            self._split(parts, own[parts.members[parts.first]])
        within = np.full(len(self._marks), -1, dtype=np.int64)
        within[parts.members] = np.repeat(np.where(parts.qualifies & parts.open, parts.node, -1), size)
        if (within >= 0).any():
            self._within[number] = within

    def _marks_of(self, parts: _Parts) -> NDArray[np.uint64]:
        """What tells the series of each part from those of any other: the sum of their random numbers, [parts]."""
        return np.add.reduceat(self._marks[parts.members], parts.first)

    def _there(self, parts: _Parts) -> Integers:
        """The kept node that holds just the series of each part, which is not kept twice; -1 for none."""
        order = np.argsort(self._known)
        marks = self._marks_of(parts)
        at = np.minimum(np.searchsorted(self._known[order], marks), len(order) - 1)
        return np.where(self._known[order[at]] == marks, self._number[order[at]], -1)

    def _features(self, parts: _Parts) -> tuple[Booleans, Floats]:
        """Whether each part qualifies, and its volume."""
        volume = np.add.reduceat(self._history.volume[parts.members], parts.first)
        asked = tuple(self._rule.limits)
        if not asked:
            return np.ones(len(parts.size), dtype=bool), volume
        start = np.concatenate([parts.first, [len(parts.members)]])
        return self._rule.qualify(self._history.features(parts.members, start, asked)), volume

    def _split(self, parts: _Parts, node_of_part: Integers) -> None:
        """All nodes of one level above into a level. node_of_part: which each part lies in, -1 for none."""
        inside = np.nonzero(node_of_part >= 0)[0]
        nodes, of = np.unique(node_of_part[inside], return_inverse=True)
        n_parts = np.bincount(of)
        good = parts.qualifies[inside]
        n_good = np.bincount(of, weights=good).astype(np.int64)
        total = np.bincount(of, weights=parts.volume[inside])
        of_volume = np.bincount(of, weights=np.where(good, parts.volume[inside], 0.0))
        volume = np.divide(of_volume, total, out=np.zeros_like(total), where=total > 0.0)
        taken = (n_good / n_parts if self._rule.by == "parts" else volume) > self._rule.share
        judged = n_parts > 1
        level = np.full(int(judged.sum()), parts.level)
        self._splits.append(
            Splits(nodes[judged], level, n_parts[judged], n_good[judged], volume[judged], taken[judged])
        )
        taken &= judged
        parts.open[inside[(taken | ~judged)[of]]] = True
        lumps = taken & (n_parts - n_good > 1) & self._rule.lump
        kept = taken[of] & (good | ~lumps[of]) & (parts.node[inside] < 0)
        own = inside[kept]
        parts.node[own] = self._n_nodes + np.arange(len(own))
        self._known = np.concatenate([self._known, self._marks_of(parts)[own]])
        self._number = np.concatenate([self._number, parts.node[own]])
        self._keep(parts, own, parts.size[own], nodes[of[kept]], lumped=False)
        gathered = np.nonzero(lumps[of] & ~good)[0]
        gathered = gathered[np.argsort(of[gathered], kind="stable")]
        if len(gathered):
            lump, first = np.unique(of[gathered], return_index=True)
            size = np.add.reduceat(parts.size[inside[gathered]], first)
            self._keep(parts, inside[gathered], size, nodes[lump], lumped=True)

    def _keep(self, parts: _Parts, gathered: Integers, size: Integers, parent: Integers, lumped: bool) -> None:
        """Add nodes: of the series of some parts, `size` of them each."""
        held = parts.members[_ranges(parts.first[gathered], parts.first[gathered] + parts.size[gathered])]
        n = len(size)
        self._nodes.append(_Nodes(np.full(n, parts.level), size, held, np.full(n, lumped), parent))
        self._n_nodes += n


@dataclass(eq=False)
class _Parts:
    """Parts that a level makes of what may be split. members: their series, one part after the other; first: [parts],
    where each begins. node: [parts], the kept node that each is, -1 while it is none. open: [parts], whether it
    may be split further, if it qualifies."""

    level: int
    size: Integers
    first: Integers
    members: Integers

    def __post_init__(self) -> None:
        self.node = np.full(len(self.size), -1, dtype=np.int64)
        self.qualifies = np.zeros(len(self.size), dtype=bool)
        self.open = np.zeros(len(self.size), dtype=bool)
        self.volume = np.zeros(len(self.size))


@dataclass(frozen=True, eq=False)
class _Nodes:
    """Some kept nodes, as in `Kept`."""

    level: Integers
    size: Integers
    held: Integers
    lumped: Booleans
    parent: Integers
