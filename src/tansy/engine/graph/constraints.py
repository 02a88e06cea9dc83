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
Name = TypeVar("Name", bound=Hashable)


@dataclass(frozen=True)
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

    A parent may be split in several ways; all must hold the same finest nodes. Raises StructureError where they do not,
    and where a node is its own ancestor.
    """
    below: dict[Name, dict[str, list[Name]]] = {}
    for parent, child, split in zip(parents, children, splits, strict=True):
        below.setdefault(parent, {}).setdefault(split, []).append(child)
    finest = list(dict.fromkeys(child for child in children if child not in below))
    position = {name: i for i, name in enumerate(finest)}
    reached: dict[Name, frozenset[int]] = {name: frozenset([i]) for name, i in position.items()}
    aggregates: list[Name] = []
    open_nodes: set[Name] = set()
    todo = [(name, False) for name in reversed(below)]
    while todo:
        name, ready = todo.pop()
        if name in reached:
            continue
        if not ready:
            if name in open_nodes:
                raise StructureError(f"Node {name!r} is its own ancestor; nodes must add up without a circle.")
            open_nodes.add(name)
            todo.append((name, True))
            todo.extend((child, False) for ways in below[name].values() for child in ways if child not in reached)
            continue
        sums: list[frozenset[int]] = []
        for split, parts in below[name].items():
            union = frozenset().union(*(reached[part] for part in parts))
            if len(union) != sum(len(reached[part]) for part in parts):
                raise StructureError(f"Node {name!r}, split {split!r}: a finest node is counted twice.")
            sums.append(union)
        for split, other in zip(below[name], sums, strict=True):
            if other != sums[0]:
                lost = finest[min(other ^ sums[0])]
                has, lacks = next(iter(below[name])), split
                if position[lost] in other:
                    has, lacks = lacks, has
                raise StructureError(
                    f"The splits of node {name!r} do not hold the same finest nodes: {_shown(lost)} is in {has!r} and "
                    f"not in {lacks!r}."
                )
        reached[name] = sums[0]
        aggregates.append(name)
    rows = np.concatenate([np.full(len(reached[name]), i) for i, name in enumerate(aggregates)] or [np.empty(0, int)])
    columns = np.array([c for name in aggregates for c in sorted(reached[name])], dtype=np.int64)
    matrix = sparse.csr_array((np.ones(len(columns)), (rows, columns)), shape=(len(aggregates), len(finest)))
    return [*aggregates, *finest], Summation(matrix)


def _shown(name: Hashable) -> str:
    return " × ".join(name) if isinstance(name, tuple) else repr(name)
