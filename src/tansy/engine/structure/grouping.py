"""A grouped structure from the attributes of the keys.

Each key column is one dimension with levels from "all" down to the key itself, such as all > department > group >
product. Every combination of one level per dimension is a level of the structure; its nodes are the combinations that
occur. Nodes are numbered level by level, from the total down to the series, which come last in the order of the panel.
"""

from __future__ import annotations

import itertools
import json
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.errors import StructureError
from tansy.engine.panel import Panel, filled_inside
from tansy.engine.residue import without_residue
from tansy.engine.structure.constraints import Summation

Integers = NDArray[np.int64]

ALL = "all"


@dataclass(frozen=True)
class Dimension:
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

    def path(self, depth: int, value: int) -> dict[str, str]:
        """The code of a value by its level, and those of the attributes above it; of the key itself its code alone."""
        if depth == len(self.levels) - 1:
            return {self.key: self.codes[depth][value]}
        found: dict[str, str] = {}
        for at in range(depth, 0, -1):
            found = {self.levels[at]: self.codes[at][value], **found}
            value = int(self.parents[at - 1][value])
        return found


@dataclass(frozen=True)
class Level:
    """One level of the structure: a name, the depth in each dimension, and its nodes [first, first + n_nodes)."""

    name: str
    depths: tuple[int, ...]
    first: int
    n_nodes: int


@dataclass(frozen=True)
class Below:
    """What lies below some nodes. series: [k], positions of the series. matrix: sparse [totals, k] of ones. totals,
    finest: which of the nodes are totals, and which are series themselves, those at finest_at among the k."""

    series: Integers
    matrix: sparse.csr_array
    totals: Integers
    finest: Integers
    finest_at: Integers

    def sum_up(self, series: NDArray[np.float64]) -> NDArray[np.float64]:
        """The nodes, [nodes, periods], from their series [k, periods]."""
        found = np.empty((len(self.totals) + len(self.finest), series.shape[1]))
        found[self.totals] = self.matrix @ series
        found[self.finest] = series[self.finest_at]
        return found


@dataclass(frozen=True)
class Structure:
    """dimensions, levels; values: [nodes, dimensions], position of each node's value in its dimension's level;
    membership: [levels, series], the node each series belongs to; level_of: [nodes]."""

    dimensions: tuple[Dimension, ...]
    levels: tuple[Level, ...]
    values: Integers
    membership: Integers
    level_of: Integers

    @property
    def n_nodes(self) -> int:
        return len(self.values)

    @property
    def n_series(self) -> int:
        return self.membership.shape[1]

    @property
    def n_aggregates(self) -> int:
        return self.n_nodes - self.n_series

    @cached_property
    def summation(self) -> Summation:
        upper = self.membership[:-1]
        columns = np.tile(np.arange(self.n_series), len(upper))
        matrix = sparse.csr_array(
            (np.ones(upper.size), (upper.ravel(), columns)), shape=(self.n_aggregates, self.n_series)
        )
        return Summation(matrix)

    def tree(self) -> list[Integers]:
        """One way from the total to the series: down the first key's levels, then the second's, and so on. For each
        level
        of it below the total, the parent of each of its nodes, numbered within their levels."""
        at = {level.depths: i for i, level in enumerate(self.levels)}
        depths = [0] * len(self.dimensions)
        parents: list[Integers] = []
        for d, dimension in enumerate(self.dimensions):
            for _ in range(len(dimension.levels) - 1):
                above = at[tuple(depths)]
                depths[d] += 1
                below = at[tuple(depths)]
                parent = np.empty(self.levels[below].n_nodes, dtype=np.int64)
                node = self.membership[below] - self.levels[below].first
                parent[node] = self.membership[above] - self.levels[above].first
                parents.append(parent)
        return parents

    def season_sources(self) -> Integers:
        """For each node the one whose season it may share, [nodes]: with every key raised to the level above the key
        itself, such as the group and region of a product and store. Nodes that stand there already are their own."""
        sources = np.empty(self.n_nodes, dtype=np.int64)
        at = {level.depths: i for i, level in enumerate(self.levels)}
        for i, level in enumerate(self.levels):
            above = tuple(min(depth, len(d.levels) - 2) for depth, d in zip(level.depths, self.dimensions, strict=True))
            sources[self.membership[i]] = self.membership[at[above]]
        return sources

    def effect_groups(self) -> tuple[Integers, Integers]:
        """Groups over which effects of drivers are pooled, from narrow to wide, [nodes] each: for a series all that
        have its first key (all stores of a product), then all of that key's next level (the products of a group). A
        total has data enough and is a group of its own."""
        at = {level.depths: i for i, level in enumerate(self.levels)}
        finest = self.levels[-1].depths
        found = []
        for up in (0, 1):
            groups = np.arange(self.n_nodes) + self.n_nodes
            above = (max(finest[0] - up, 0), *(0 for _ in finest[1:]))
            groups[self.n_aggregates :] = self.membership[at[above]]
            found.append(groups)
        return found[0], found[1]

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

    def node_name(self, node: int) -> str:
        """What a person calls the node: "Hostas × Coast"."""
        level = self.levels[int(self.level_of[node])]
        return " × ".join(
            dimension.names[depth][value]
            for dimension, depth, value in zip(self.dimensions, level.depths, self.values[node], strict=True)
        )

    def node_key(self, node: int) -> str:
        """What names the node for good, whatever it is called, as a JSON object: the code of its value on each key, or
        its attributes from the coarsest one down; {} for the total."""
        level = self.levels[int(self.level_of[node])]
        where: dict[str, str] = {}
        for dimension, depth, value in zip(self.dimensions, level.depths, self.values[node].tolist(), strict=True):
            where |= dimension.path(depth, value)
        return json.dumps(where, ensure_ascii=False)


def group(panel: Panel, levels: dict[str, list[str]]) -> Structure:
    """Build the structure of a panel.

    levels: per key column, its attributes from the coarsest to the finest; a key without any has only "all" above it.
    Raises StructureError where a key or attribute is unknown or a key lacks the attribute.
    """
    unknown = set(levels) - set(panel.key_names)
    if unknown:
        raise StructureError(
            f"The structure names {min(unknown)!r}, which is not a key column ({', '.join(panel.key_names)})."
        )
    dimensions = tuple(_dimension(panel, key, levels.get(key, [])) for key in panel.key_names)
    depths = sorted(itertools.product(*(range(len(d.levels)) for d in dimensions)), key=lambda ds: (sum(ds), ds))
    built: list[Level] = []
    values: list[Integers] = []
    membership: list[Integers] = []
    first = 0
    for combination in depths:
        columns = np.stack([d.member[depth] for d, depth in zip(dimensions, combination, strict=True)], axis=1)
        if combination == depths[-1]:  # the series themselves, in the panel's order
            distinct, inverse = columns, np.arange(panel.n_series)
        else:
            distinct, inverse = np.unique(columns, axis=0, return_inverse=True)
        name = " × ".join(d.levels[depth] for d, depth in zip(dimensions, combination, strict=True))
        built.append(Level(name, combination, first, len(distinct)))
        values.append(distinct)
        membership.append(inverse.reshape(-1) + first)
        first += len(distinct)
    return Structure(
        dimensions,
        tuple(built),
        np.concatenate(values),
        np.stack(membership),
        np.concatenate([np.full(level.n_nodes, i) for i, level in enumerate(built)]),
    )


def _dimension(panel: Panel, key: str, attributes: list[str]) -> Dimension:
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
    return Dimension(key, (ALL, *attributes, key), tuple(shown), tuple(names), tuple(parents), np.stack(members))


def aggregate_history(
    structure: Structure, values: NDArray[np.float64], nodes: Integers | None = None
) -> NDArray[np.float64]:
    """History of every node, [nodes, periods], from that of the series [series, periods]; or of some `nodes`, to the
    same bit.

    A series counts nothing before its first and after its last value. A value that is unknown in between would leave a
    hole in every total above it; for the totals it is drawn as a straight line between the known values beside it. A
    total is missing only where no series below has begun.
    """
    below = structure.below(nodes)
    own = values[below.series]
    series = filled_inside(own)
    began = ~np.isnan(series)
    parts = np.where(began, series, 0.0)
    found = below.sum_up(parts)
    if (parts < 0.0).any():
        found = without_residue(found, below.sum_up(np.abs(parts)))
    has_any = below.sum_up(began.astype(np.float64)) > 0.0
    found[~has_any] = np.nan
    found[below.finest] = own[below.finest_at]
    return found
