"""Nodes that must add up, in their plainest form: a sparse matrix that sums the finest nodes to each aggregate."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.errors import StructureError

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Name = TypeVar("Name", bound=Hashable)


@dataclass(frozen=True, eq=False)
class Summation:
    """matrix: sparse [aggregates, finest] of zeros and ones. Nodes are numbered aggregates first, then the finest."""

    matrix: sparse.csr_array

    @property
    def n_aggregates(self) -> int:
        return int(self.matrix.shape[0])

    @property
    def n_finest(self) -> int:
        return int(self.matrix.shape[1])

    def sum_up(self, finest: Floats) -> Floats:
        """All nodes from the finest ones: [finest, ...] -> [nodes, ...]. Every constraint holds to rounding."""
        flat = finest.reshape(len(finest), -1)
        return np.concatenate([self.matrix @ flat, flat]).reshape(-1, *finest.shape[1:])

    def largest_gap(self, nodes: Floats) -> float:
        """Largest abs(parent - sum of finest) / max(1, abs(parent)) over all aggregates."""
        if not self.n_aggregates:
            return 0.0
        flat = nodes.reshape(len(nodes), -1)
        parents = flat[: self.n_aggregates]
        gaps = np.abs(parents - self.matrix @ flat[self.n_aggregates :])
        return float(np.max(gaps / np.maximum(1.0, np.abs(parents))))


def from_edges(
    parents: Sequence[Name], children: Sequence[Name], splits: Sequence[str]
) -> tuple[list[Name], Summation]:
    """Names of the nodes (aggregates, then finest) and their summation, from rows "parent, child, split".

    A parent may be split in several ways; all must hold the same finest nodes. Nodes are in the order of their rows.
    Raises StructureError where splits do not hold the same, where a finest node is counted twice, and where a node is
    its own ancestor.
    """
    is_parent = set(parents)
    aggregates = list(dict.fromkeys(parents))
    names = [*aggregates, *dict.fromkeys(child for child in children if child not in is_parent)]
    at = {name: i for i, name in enumerate(names)}
    parent = np.array([at[name] for name in parents], dtype=np.int64)
    child = np.array([at[name] for name in children], dtype=np.int64)
    return names, summation_of(names, len(aggregates), parent, child, splits)


def summation_of(
    names: Sequence[Hashable], n: int, parents: Integers, children: Integers, splits: Sequence[str]
) -> Summation:
    """The same of rows of nodes by number, the first n of them aggregates. names: [nodes], for what is raised."""
    n_names = len(names)
    finest = names[n:]
    known: dict[str, int] = {}
    split_of = np.array([known.setdefault(split, len(known)) for split in splits], dtype=np.int64)
    way, first_row = in_order(parents * max(1, len(known)) + split_of)
    node_of_way = parents[first_row]
    words = [(names[parents[row]], splits[row]) for row in first_row.tolist()]
    steps = steps_above_finest(names, parents, children)
    split = sparse.csr_array((np.ones(len(way)), (way, children)), shape=(len(words), n_names))
    first_way = np.full(n, -1, dtype=np.int64)
    first_way[node_of_way[::-1]] = np.arange(len(words))[::-1]
    # from the finest up: rows of what is known so far, the finest being themselves
    held = sparse.csr_array(
        (np.ones(len(finest)), (np.arange(n, n_names), np.arange(len(finest)))), shape=(n_names, len(finest))
    )
    for step in range(1, int(steps.max(initial=0)) + 1):
        nodes = np.nonzero(steps == step)[0]
        own = (split[first_way[nodes]] @ held).tocoo()
        held = held + sparse.csr_array((own.data, (nodes[own.row], own.col)), shape=held.shape)
    by_way = sparse.csr_array(split @ held)
    twice = np.nonzero(by_way.data > 1.0)[0]
    if len(twice):
        row = int(np.searchsorted(by_way.indptr, twice[0], side="right")) - 1
        parent, called = words[row]
        of_split = f", split {called!r}" if called else ""
        raise StructureError(
            f"Node {_shown(parent)}{of_split}: {_shown(finest[by_way.indices[twice[0]]])} is counted twice."
        )
    apart = sparse.coo_array(by_way - held[node_of_way])
    apart.eliminate_zeros()
    if apart.nnz:
        at_first = np.lexsort((apart.col, apart.row))[0]
        row, column, more = int(apart.row[at_first]), int(apart.col[at_first]), apart.data[at_first] > 0.0
        parent, called = words[row]
        usual = words[first_way[node_of_way[row]]][1]
        has, lacks = (called, usual) if more else (usual, called)
        raise StructureError(
            f"The splits of node {_shown(parent)} do not hold the same finest nodes: {_shown(finest[column])} is in "
            f"{has!r} and not in {lacks!r}."
        )
    matrix = sparse.csr_array(held[:n])
    matrix.sort_indices()
    return Summation(matrix)


def in_order(of: Integers) -> tuple[Integers, Integers]:
    """Numbers from 0 on for what is alike, in the order of its first place; and that place of each."""
    _, first, number = np.unique(of, return_index=True, return_inverse=True)
    order = np.argsort(first)
    rank = np.empty_like(order)
    rank[order] = np.arange(len(order))
    return rank[number.ravel()], first[order]


def steps_above_finest(names: Sequence[Hashable], parent: Integers, child: Integers) -> Integers:
    """The longest way from each node down to a finest one, [nodes]. Raises StructureError that names a circle."""
    steps = np.zeros(len(names), dtype=np.int64)
    waiting = np.bincount(parent, minlength=len(names))
    order = np.argsort(child, kind="stable")
    start = np.searchsorted(child[order], np.arange(len(names) + 1))
    ready = np.nonzero(waiting == 0)[0]
    done = len(ready)
    while len(ready):
        edges = order[ranges(start[ready], start[ready + 1])]
        np.maximum.at(steps, parent[edges], steps[child[edges]] + 1)
        np.subtract.at(waiting, parent[edges], 1)
        above = np.unique(parent[edges])
        ready = above[waiting[above] == 0]
        done += len(ready)
    if done < len(names):
        circle = _circle(parent, child, waiting > 0)
        raise StructureError(
            f"Node {_shown(names[circle[0]])} is its own ancestor: "
            f"{' > '.join(_shown(names[i]) for i in circle)}; nodes must add up without a circle."
        )
    return steps


def _circle(parent: Integers, child: Integers, among: NDArray[np.bool_]) -> list[int]:
    """Nodes down a circle, the first of them again at the end; each of those `among` has a child among them."""
    down = {int(p): int(c) for p, c in zip(parent, child, strict=True) if among[p] and among[c]}
    way = [next(iter(down))]
    while down[way[-1]] not in way:
        way.append(down[way[-1]])
    return [*way[way.index(down[way[-1]]) :], down[way[-1]]]


def marks_of(n: int) -> NDArray[np.uint64]:
    """A random number for each of n series. Sets of series are told apart by the sums of theirs: two of a million sets
    have the same one in one of forty million graphs."""
    return np.random.default_rng(n).integers(0, 2**64, n, dtype=np.uint64)


def ranges(start: Integers, stop: Integers) -> Integers:
    """All numbers of several ranges, one after the other."""
    size = stop - start
    return np.repeat(stop - np.cumsum(size), size) + np.arange(size.sum())


def _shown(name: Hashable) -> str:
    return " × ".join(name) if isinstance(name, tuple) else repr(name)
