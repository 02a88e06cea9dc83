"""A graph from the attributes of the keys.

Each key column is one dimension with levels from "all" down to the key itself, such as all > department > group >
product. Every combination of one level per dimension is a level of the graph; its nodes are the combinations that
occur.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.errors import StructureError
from tansy.engine.graph.constraints import Summation
from tansy.engine.graph.graph import Axis, Graph, Level
from tansy.engine.panel import Panel

Integers = NDArray[np.int64]
Depths = tuple[int, ...]

ALL = "all"


@dataclass(frozen=True)
class _Dimension:
    """One key column with its levels.

    levels: their names from "all" to the key. names: per level, the label of each value; codes: the same, but the key's
    own code at the last level. parents: per level below the first, the position of each value's parent one level up.
    member: [levels, series], the value each series belongs to.
    """

    key: str
    levels: tuple[str, ...]
    names: tuple[list[str], ...]
    codes: tuple[list[str], ...]
    parents: tuple[Integers, ...]
    member: Integers

    def where(self, depth: int, value: int) -> dict[str, str]:
        """The code of a value by its level, and those of the attributes above it; of the key itself its code alone."""
        if depth == len(self.levels) - 1:
            return {self.key: self.codes[depth][value]}
        found: dict[str, str] = {}
        for at in range(depth, 0, -1):
            found[self.levels[at]] = self.codes[at][value]
            value = int(self.parents[at - 1][value])
        return found

    def axis(self) -> tuple[Axis, list[Integers]]:
        """The values, each after its parent, and per level the place of each value."""
        children: dict[tuple[int, int], list[tuple[int, int]]] = {}
        for depth, parents in enumerate(self.parents, start=1):
            for value, parent in enumerate(parents.tolist()):
                children.setdefault((depth - 1, parent), []).append((depth, value))
        places = [np.zeros(len(names), dtype=np.int64) for names in self.names]
        order: list[tuple[int, int]] = []
        above: list[int] = []
        todo = [((0, 0), -1)]
        while todo:
            (depth, value), parent = todo.pop()
            places[depth][value] = here = len(order)
            order.append((depth, value))
            above.append(parent)
            todo.extend((child, here) for child in reversed(children.get((depth, value), [])))
        counts = [
            np.bincount(member, minlength=len(names)) for member, names in zip(self.member, self.names, strict=True)
        ]
        axis = Axis(
            self.key,
            tuple(self.names[depth][value] for depth, value in order),
            tuple(self.codes[depth][value] for depth, value in order),
            np.array([depth for depth, _ in order]),
            np.array(above),
            tuple(self.where(depth, value) for depth, value in order),
            np.array([counts[depth][value] for depth, value in order]),
        )
        return axis, places


def group(panel: Panel, levels: dict[str, list[str]]) -> Graph:
    """Build the graph of a panel.

    levels: per key column, its attributes from the coarsest to the finest; a key without any has only "all" above it.
    Raises StructureError where a key or attribute is unknown or a key lacks the attribute.
    """
    unknown = set(levels) - set(panel.key_names)
    if unknown:
        raise StructureError(
            f"The structure names {min(unknown)!r}, which is not a key column ({', '.join(panel.key_names)})."
        )
    dimensions = tuple(_dimension(panel, key, levels.get(key, [])) for key in panel.key_names)
    made = [dimension.axis() for dimension in dimensions]
    axes = tuple(axis for axis, _ in made)
    depths = sorted(itertools.product(*(range(len(d.levels)) for d in dimensions)), key=lambda ds: (sum(ds), ds))
    built: list[Level] = []
    place: list[Integers] = []
    members: dict[Depths, Integers] = {}
    first = 0
    for combination in depths:
        columns = np.stack([d.member[depth] for d, depth in zip(dimensions, combination, strict=True)], axis=1)
        if combination == depths[-1]:  # the series themselves, in the panel's order
            distinct, inverse = columns, np.arange(panel.n_series)
        else:
            distinct, inverse = np.unique(columns, axis=0, return_inverse=True)
        labels = tuple(d.levels[depth] for d, depth in zip(dimensions, combination, strict=True))
        built.append(Level(labels, first, len(distinct)))
        at = [
            places[depth][distinct[:, d]] for d, ((_, places), depth) in enumerate(zip(made, combination, strict=True))
        ]
        place.append(np.stack(at, axis=1))
        members[combination] = inverse.reshape(-1) + first
        first += len(distinct)
    placed = np.concatenate(place)
    return Graph(
        tuple(built),
        _summation(members, panel.n_series),
        axes,
        placed,
        _tree(dimensions, members),
        _season_source(dimensions, members, first),
        _effect_groups(members, first),
        {axis.name: [axis.codes[i] for i in placed[:, d].tolist()] for d, axis in enumerate(axes)},
    )


# members: per level of the graph, by its depth in each dimension, the node that each series belongs to, [series].


def _summation(members: dict[Depths, Integers], n_series: int) -> Summation:
    upper = list(members.values())[:-1]
    rows = np.concatenate([*upper, np.empty(0, dtype=np.int64)])
    columns = np.tile(np.arange(n_series), len(upper))
    n_aggregates = int(list(members.values())[-1][0]) if n_series else 0
    return Summation(sparse.csr_array((np.ones(len(rows)), (rows, columns)), shape=(n_aggregates, n_series)))


def _tree(dimensions: tuple[_Dimension, ...], members: dict[Depths, Integers]) -> list[Integers]:
    """Down the first key's levels, then the second's, and so on. For each level below the total, the parent of each of
    its nodes, numbered within their levels."""
    depths = [0] * len(dimensions)
    parents: list[Integers] = []
    for d, dimension in enumerate(dimensions):
        for _ in range(len(dimension.levels) - 1):
            above = members[tuple(depths)]
            depths[d] += 1
            below = members[tuple(depths)]
            parent = np.empty(int(below.max() - below.min()) + 1, dtype=np.int64)
            parent[below - below.min()] = above - above.min()
            parents.append(parent)
    return parents


def _season_source(dimensions: tuple[_Dimension, ...], members: dict[Depths, Integers], n_nodes: int) -> Integers:
    """Every key raised to the level above the key itself, such as the group and region of a product and store. Nodes
    that stand there already are their own."""
    sources = np.empty(n_nodes, dtype=np.int64)
    for depths, nodes in members.items():
        above = tuple(min(depth, len(d.levels) - 2) for depth, d in zip(depths, dimensions, strict=True))
        sources[nodes] = members[above]
    return sources


def _effect_groups(members: dict[Depths, Integers], n_nodes: int) -> tuple[Integers, Integers]:
    """For a series all that have its first key (all stores of a product), then all of that key's next level (the
    products of a group)."""
    finest = list(members)[-1]
    found = []
    for up in (0, 1):
        groups = np.arange(n_nodes) + n_nodes
        groups[members[finest]] = members[(max(finest[0] - up, 0), *(0 for _ in finest[1:]))]
        found.append(groups)
    return found[0], found[1]


def _dimension(panel: Panel, key: str, attributes: list[str]) -> _Dimension:
    known = panel.attributes.get(key, {})
    for attribute in attributes:
        if attribute not in known:
            have = ", ".join(sorted(known)) or "none"
            raise StructureError(f"{key!r} has no attribute {attribute!r} to make a level of (there are: {have}).")
    keys = panel.keys[key]
    paths: list[list[tuple[str, ...]]] = [[()] * len(keys)]
    for attribute in attributes:
        table = known[attribute]
        missing = next((k for k in keys if not table.get(k)), None)
        if missing is not None:
            raise StructureError(
                f"{key} {missing!r} has no {attribute}; every {key} needs one to be put in the structure."
            )
        paths.append([(*path, table[k]) for path, k in zip(paths[-1], keys, strict=True)])
    paths.append([(*path, k) for path, k in zip(paths[-1], keys, strict=True)])
    names: list[list[str]] = []
    parents: list[Integers] = []
    members: list[Integers] = []
    above: dict[tuple[str, ...], int] = {}
    for depth, column in enumerate(paths):
        distinct = sorted(set(column))
        position = {path: i for i, path in enumerate(distinct)}
        members.append(np.array([position[path] for path in column], dtype=np.int64))
        names.append([path[-1] if path else f"every {key}" for path in distinct])
        if depth:
            parents.append(np.array([above[path[:-1]] for path in distinct], dtype=np.int64))
        above = position
    labels = known.get("name", {})
    shown = [*names[:-1], [labels.get(k) or k for k in names[-1]]]
    return _Dimension(key, (ALL, *attributes, key), tuple(shown), tuple(names), tuple(parents), np.stack(members))
