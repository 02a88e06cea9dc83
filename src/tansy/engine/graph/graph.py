"""Nodes that must add up: what they are called, where they stand, and which series each of them holds.

A graph is made by a builder, from attributes of the keys (`grouping`) or from a list of edges (`edges`). Nothing that
uses one asks how it was made. Nodes are numbered level by level, those that are totals first, the series themselves
last and in the order of the panel; numbers hold within one graph, ids from study to study.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from hashlib import blake2b

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.graph.constraints import Summation

Integers = NDArray[np.int64]
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Level:
    """A label that nodes share, and which they are: [first, first + n_nodes). labels: its parts, one an axis."""

    labels: tuple[str, ...]
    first: int
    n_nodes: int

    @property
    def name(self) -> str:
        """For a person to read; nothing is found by it."""
        return " × ".join(filter(None, self.labels))


@dataclass(frozen=True)
class Axis:
    """A forest of places along which nodes are told apart: a key with the attributes above it, or a file of edges.

    Every place comes after its parent and before the parent's next child.

    name: the key column or the file. names, codes: what each place is called, and the code in the data. depths,
    parents: [places], -1 for the parent of a top. where: what each place adds to the id of a node that stands on it.
    n_series: [places], series at or below each. tells_series_apart: whether it takes part in naming a series, as an
    axis of attributes alone does not.
    """

    name: str
    names: tuple[str, ...]
    codes: tuple[str, ...]
    depths: Integers
    parents: Integers
    where: tuple[Mapping[str, str], ...]
    n_series: Integers
    tells_series_apart: bool = True

    def way(self, place: int) -> list[int]:
        """From a top down to the place."""
        found = []
        while place >= 0:
            found.append(place)
            place = int(self.parents[place])
        return found[::-1]


@dataclass(frozen=True)
class Below:
    """What lies below some nodes. series: [k], positions of the series. matrix: sparse [totals, k] of ones. totals,
    finest: which of the nodes are totals, and which are series themselves, those at finest_at among the k."""

    series: Integers
    matrix: sparse.csr_array
    totals: Integers
    finest: Integers
    finest_at: Integers

    def sum_up(self, series: Floats) -> Floats:
        """The nodes, [nodes, periods], from their series [k, periods]."""
        found = np.empty((len(self.totals) + len(self.finest), series.shape[1]))
        found[self.totals] = self.matrix @ series
        found[self.finest] = series[self.finest_at]
        return found


@dataclass(frozen=True, eq=False)
class Graph:
    """levels: from the coarsest to the series. summation: which series each total holds. axes, place: the forests that
    nodes stand on, and where, [nodes, axes]. tree: one way from the tops down to the series, see `reconcile.whole`.
    season_source: [nodes], the node whose season each may share; totals that have data enough are their own.
    effect_groups: groups over which effects of drivers are pooled, the narrower and the wider, [nodes] each; a total is
    a group of its own. key_codes: per key column what each node is on it, [nodes]: a code, a group of them, or "every
    product". everywhere: where nodes have several parents, the one axis with each node below all of them, and the node
    at each of its places; None too where these would be very many.
    """

    levels: tuple[Level, ...]
    summation: Summation
    axes: tuple[Axis, ...]
    place: Integers
    tree: list[Integers]
    season_source: Integers
    effect_groups: tuple[Integers, Integers]
    key_codes: Mapping[str, list[str]]
    everywhere: tuple[Axis, Integers] | None = None

    @property
    def n_nodes(self) -> int:
        return len(self.place)

    @property
    def n_series(self) -> int:
        return self.summation.n_finest

    @property
    def n_aggregates(self) -> int:
        return self.summation.n_aggregates

    @cached_property
    def level_of(self) -> Integers:
        """[nodes]."""
        return np.repeat(np.arange(len(self.levels)), [level.n_nodes for level in self.levels])

    @cached_property
    def ids(self) -> list[str]:
        """What names each node for good, whatever it is called and wherever it stands, as a JSON object: the code of
        its value on each key, or its attributes and those above them; {} for the total of a grouping."""
        found = []
        for node, places in enumerate(self.place.tolist()):
            where: dict[str, str] = {}
            for axis, place in zip(self.axes, places, strict=True):
                if axis.tells_series_apart or node < self.n_aggregates:
                    where.update(axis.where[place])
            found.append(node_id(where))
        return found

    @cached_property
    def position(self) -> dict[str, int]:
        """Number of each node, by its id."""
        return {name: i for i, name in enumerate(self.ids)}

    @cached_property
    def refs(self) -> list[str]:
        """The id of each node in 16 letters, for addresses."""
        return [node_ref(name) for name in self.ids]

    def name(self, node: int) -> str:
        """What a person calls the node: "Hostas × Coast"."""
        places = self.place[node].tolist()
        return " × ".join(
            axis.names[place]
            for axis, place in zip(self.axes, places, strict=True)
            if axis.tells_series_apart or node < self.n_aggregates
        )

    def meet(self, node: int, nodes: Integers) -> NDArray[np.bool_]:
        """Which of some nodes hold a series that `node` holds too."""
        own = np.zeros(self.n_series)
        own[self.below(np.array([node])).series] = 1.0
        held = self.summation.sum_up(own[:, None])[:, 0] > 0.0
        return np.asarray(held[nodes])

    def below(self, nodes: Integers | None) -> Below:
        """The series that some nodes hold, and how they add up to them; without a list, all nodes."""
        if nodes is None:
            finest = np.arange(self.n_aggregates, self.n_nodes)
            every = np.arange(self.n_series)
            return Below(every, self.summation.matrix, np.arange(self.n_aggregates), finest, every)
        is_finest = nodes >= self.n_aggregates
        totals, own = np.nonzero(~is_finest)[0], nodes[is_finest] - self.n_aggregates
        matrix = self.summation.matrix[nodes[totals]]
        series = np.unique(np.concatenate([matrix.indices, own]))
        return Below(series, matrix[:, series], totals, np.nonzero(is_finest)[0], np.searchsorted(series, own))


def node_ref(name: str) -> str:
    """A node's id in 16 letters: two of a million nodes share one in one of forty million graphs."""
    return blake2b(name.encode(), digest_size=8).hexdigest()


def node_id(where: Mapping[str, str]) -> str:
    """The id of the node that stands there."""
    return json.dumps(dict(sorted(where.items())), ensure_ascii=False)
