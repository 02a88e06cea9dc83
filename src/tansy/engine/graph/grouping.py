"""A graph from the attributes of the keys.

Nodes are told apart along chains, such as all > department > group > product and all > region > store. A level of the
graph is a combination of one level of each chain, all of them or those that a formula names; its nodes are the
combinations that occur.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.errors import StructureError
from tansy.engine.graph.constraints import Summation
from tansy.engine.graph.formula import Formula
from tansy.engine.graph.graph import Axis, Graph, Level
from tansy.engine.panel import Panel

Integers = NDArray[np.int64]
Depths = tuple[int, ...]

ALL = "all"


@dataclass(frozen=True)
class Dimension:
    """One chain of levels, from "all" down.

    name: the key that it ends with, or its levels. levels: their names from "all" on. names: per level, the label of
    each value; codes: the same, but the key's own code at its level. parents: per level below the first, the position
    of each value's parent one level up. member: [levels, series], the value each series belongs to.
    tells_series_apart: whether it ends with a key.
    """

    name: str
    levels: tuple[str, ...]
    names: tuple[list[str], ...]
    codes: tuple[list[str], ...]
    parents: tuple[Integers, ...]
    member: Integers
    tells_series_apart: bool

    @classmethod
    def of(cls, panel: Panel, chain: tuple[str, ...]) -> Dimension:
        """Raises StructureError where a name is neither a key nor an attribute, or a key lacks the attribute."""
        n = panel.n_series
        ends_with_key = chain[-1] in panel.key_names
        total = f"every {chain[-1]}" if ends_with_key else f"every {chain[0]}"
        names, codes, parents = [[total]], [[total]], []
        members = [np.zeros(n, dtype=np.int64)]
        for name in chain:
            values, own, shown = _values(panel, name, chain[-1])
            distinct, inverse = np.unique(members[-1] * len(values) + own, return_inverse=True)
            members.append(inverse.reshape(-1))
            parents.append(distinct // len(values))
            codes.append([values[i] for i in (distinct % len(values)).tolist()])
            names.append([shown[i] for i in (distinct % len(values)).tolist()])
        called = chain[-1] if ends_with_key else " > ".join(chain)
        return cls(called, (ALL, *chain), tuple(names), tuple(codes), tuple(parents), np.stack(members), ends_with_key)

    def where(self, depth: int, value: int) -> dict[str, str]:
        """The code of a value by its level, and those of the attributes above it; of the key itself its code alone."""
        if depth == len(self.levels) - 1 and self.tells_series_apart:
            return {self.name: self.codes[depth][value]}
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
            self.name,
            tuple(self.names[depth][value] for depth, value in order),
            tuple(self.codes[depth][value] for depth, value in order),
            np.array([depth for depth, _ in order]),
            np.array(above),
            tuple(self.where(depth, value) for depth, value in order),
            np.array([counts[depth][value] for depth, value in order]),
            self.tells_series_apart,
        )
        return axis, places


def group(panel: Panel, structure: Mapping[str, Sequence[str]] | Formula) -> Graph:
    """Build the graph of a panel.

    structure: per key column, its attributes from the coarsest to the finest, all crossed (a key without any has only
    "all" above it); or a formula. Raises StructureError where a key or attribute is unknown or a key lacks the
    attribute.
    """
    formula = structure if isinstance(structure, Formula) else crossed(panel, structure)
    dimensions, levels = laid_out(panel, formula)
    made = [dimension.axis() for dimension in dimensions]
    axes = tuple(axis for axis, _ in made)
    built: list[Level] = []
    place: list[Integers] = []
    members: dict[Depths, Integers] = {}
    first = 0
    for combination in levels:
        columns = _columns(dimensions, combination)
        if combination == levels[-1]:  # the series themselves, in the panel's order
            distinct, inverse = columns, np.arange(panel.n_series)
        else:
            distinct, inverse = _distinct(columns)
        built.append(Level(labels_of(dimensions, combination), first, len(distinct)))
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
        tree_of(dimensions),
        _season_source(dimensions, members, first),
        effect_groups(dimensions, members[levels[-1]], first),
        {
            axis.name: [axis.codes[i] for i in placed[:, d].tolist()]
            for d, axis in enumerate(axes)
            if axis.tells_series_apart
        },
    )


def crossed(panel: Panel, levels: Mapping[str, Sequence[str]]) -> Formula:
    """Every combination of one level per key column, as a formula."""
    unknown = set(levels) - set(panel.key_names)
    if unknown:
        raise StructureError(
            f"The structure names {min(unknown)!r}, which is not a key column ({', '.join(panel.key_names)})."
        )
    chains = tuple((*levels.get(key, ()), key) for key in panel.key_names)
    return Formula(chains, tuple(itertools.product(*(range(len(chain) + 1) for chain in chains))))


def laid_out(panel: Panel, formula: Formula) -> tuple[tuple[Dimension, ...], tuple[Depths, ...]]:
    """The chains of a formula over a panel, and its levels from the top down, the series last.

    A key that no chain ends with ends the first that has an attribute of it, or stands as a chain by itself. A key ends
    one chain: where another ends with it too, its last level is that of the first.
    """
    formula = _keys_once(formula, panel.key_names)
    chains = [list(chain) for chain in formula.chains]
    for key in panel.key_names:
        if not any(chain[-1] == key for chain in chains):
            above = set(panel.attributes.get(key, {}))
            own = next((c for c in chains if above & set(c) and c[-1] not in panel.key_names), None)
            if own is None:
                chains.append([key])
            else:
                own.append(key)
    for chain in chains:
        for name, below in itertools.pairwise(chain):
            if name in panel.key_names and name not in panel.attributes.get(chain[-1], {}):
                raise StructureError(f"The structure nests {below!r} below the key {name!r}; a key ends its chain.")
    dimensions = tuple(Dimension.of(panel, tuple(chain)) for chain in chains)
    finest = tuple(len(d.levels) - 1 for d in dimensions)
    levels = {(*level, *(0 for _ in range(len(dimensions) - len(level)))) for level in formula.levels}
    levels.add(tuple(0 for _ in dimensions))
    return dimensions, (*sorted(levels - {finest}, key=lambda ds: (sum(ds), ds)), finest)


def _keys_once(formula: Formula, keys: tuple[str, ...]) -> Formula:
    chains = list(formula.chains)
    levels = [list(level) for level in formula.levels]
    for key in keys:
        first, *others = [i for i, chain in enumerate(chains) if chain and chain[-1] == key] or [-1]
        for i in others:
            for level in levels:
                if level[i] == len(chains[i]):
                    level[i], level[first] = 0, len(chains[first])
            chains[i] = chains[i][:-1]
    left = [i for i, chain in enumerate(chains) if chain]
    kept = dict.fromkeys(tuple(level[i] for i in left) for level in levels)
    return Formula(tuple(chains[i] for i in left), tuple(kept))


def next_above(levels: Integers) -> list[list[int]]:
    """Of each level the positions of those that it is a next finer one of; levels: [levels, chains], how far down each
    chain they go."""
    within = np.ones((len(levels), len(levels)), dtype=bool)
    for depth in levels.T:
        within &= depth[:, None] <= depth
    np.fill_diagonal(within, False)
    within &= ~within.T  # levels that stand alike are not within each other
    between = within.astype(np.float32) @ within.astype(np.float32) > 0.0
    return [np.nonzero(one)[0].tolist() for one in (within & ~between).T]


def _columns(dimensions: tuple[Dimension, ...], depths: Depths) -> Integers:
    """The value that each series has in each dimension, [series, dimensions]."""
    return np.stack([d.member[depth] for d, depth in zip(dimensions, depths, strict=True)], axis=1)


def _distinct(columns: Integers) -> tuple[Integers, Integers]:
    """Rows of numbers [n, k] that differ, in order, and which of them each is, [n]."""
    size = columns.max(axis=0, initial=0) + 1
    if np.prod(size.astype(np.float64)) >= 2.0**62:  # one number cannot tell them apart
        distinct, inverse = np.unique(columns, axis=0, return_inverse=True)
        return distinct, inverse.reshape(-1)
    number = np.zeros(len(columns), dtype=np.int64)
    for column, n in zip(columns.T, size.tolist(), strict=True):
        number = number * n + column
    _, first, inverse = np.unique(number, return_index=True, return_inverse=True)
    return columns[first], inverse.reshape(-1)


# members: per level of the graph, by its depth in each dimension, the node that each series belongs to, [series].


def labels_of(dimensions: tuple[Dimension, ...], depths: Depths) -> tuple[str, ...]:
    """What a level is called, along each chain."""
    return tuple(d.levels[depth] for d, depth in zip(dimensions, depths, strict=True))


def _values(panel: Panel, name: str, last: str) -> tuple[list[str], Integers, list[str]]:
    """Values of a key or of an attribute, sorted; the position of that of each series; and what they are called. last:
    of the chain; where it is a key, its attributes come before those of others, and before other keys."""
    owners = [last, *(key for key in panel.key_names if key != last)]
    if name == last and name in panel.key_names:
        column = panel.keys[name]
        position = {value: i for i, value in enumerate(sorted(set(column)))}
        labels = panel.attributes.get(name, {}).get("name", {})
        own = np.array([position[value] for value in column], dtype=np.int64)
        return list(position), own, [labels.get(value) or value for value in position]
    key = next((key for key in owners if name in panel.attributes.get(key, {})), None)
    if key is None:
        have = ", ".join((*panel.key_names, *(one for key in panel.key_names for one in panel.attributes.get(key, {}))))
        raise StructureError(f"There is no attribute {name!r} to make a level of (there are: {have}).")
    column, table = panel.keys[key], panel.attributes[key][name]
    missing = next((value for value in column if not table.get(value)), None)
    if missing is not None:
        raise StructureError(f"{key} {missing!r} has no {name}; every {key} needs one to be put in the structure.")
    position = {value: i for i, value in enumerate(sorted({table[value] for value in set(column)}))}
    own = np.array([position[table[value]] for value in column], dtype=np.int64)
    return list(position), own, list(position)


def _summation(members: dict[Depths, Integers], n_series: int) -> Summation:
    upper = list(members.values())[:-1]
    rows = np.concatenate([*upper, np.empty(0, dtype=np.int64)])
    columns = np.tile(np.arange(n_series), len(upper))
    n_aggregates = int(list(members.values())[-1][0]) if n_series else 0
    return Summation(sparse.csr_array((np.ones(len(rows)), (rows, columns)), shape=(n_aggregates, n_series)))


def tree_of(dimensions: tuple[Dimension, ...]) -> list[Integers]:
    """Down the first chain's levels, then the second's, and so on, to the series. For each level below the total, the
    parent of each of its nodes, numbered within their levels."""
    depths = [0] * len(dimensions)
    n_series = dimensions[0].member.shape[1]
    above = np.zeros(n_series, dtype=np.int64)
    parents: list[Integers] = []
    steps = [d for d, dimension in enumerate(dimensions) for _ in range(len(dimension.levels) - 1)]
    for number, d in enumerate(steps, start=1):
        depths[d] += 1
        if number == len(steps):
            below = np.arange(n_series)
        else:
            below = _distinct(_columns(dimensions, tuple(depths)))[1]
        parent = np.empty(int(below.max()) + 1, dtype=np.int64)
        parent[below] = above
        parents.append(parent)
        above = below
    return parents


def _season_source(dimensions: tuple[Dimension, ...], members: dict[Depths, Integers], n_nodes: int) -> Integers:
    """Every key raised to the level above the key itself, such as the group and region of a product and store, or where
    that is no level of the structure to the smallest total there is. Nodes that stand there already are their own."""
    sources = np.arange(n_nodes)
    for depths, nodes in members.items():
        above = tuple(
            min(depth, len(d.levels) - 1 - d.tells_series_apart) for depth, d in zip(depths, dimensions, strict=True)
        )
        if above in members:
            sources[nodes] = members[above]
        elif depths == list(members)[-1]:
            sources[nodes] = _smallest_above(members)
    return sources


def _smallest_above(members: dict[Depths, Integers]) -> Integers:
    """Of each series, the total above it that holds fewest, of two and more; the last named where several do."""
    found, fewest = next(iter(members.values())).copy(), np.full(len(next(iter(members.values()))), np.inf)
    for nodes in list(members.values())[:-1]:
        size = np.bincount(nodes)[nodes]
        better = (size > 1) & (size <= fewest)
        found[better], fewest[better] = nodes[better], size[better]
    return found


def effect_groups(dimensions: tuple[Dimension, ...], finest: Integers, n_nodes: int) -> tuple[Integers, Integers]:
    """Groups over which effects of drivers are pooled, the narrower and the wider, [nodes] each: for a series all that
    have its first key (all stores of a product), then all of that key's next level (the products of a group). finest:
    numbers of the series' nodes; a total is a group of its own."""
    first = next(i for i, d in enumerate(dimensions) if d.tells_series_apart)
    found = []
    for up in (0, 1):
        groups = np.arange(n_nodes) + n_nodes
        groups[finest] = dimensions[first].member[max(len(dimensions[first].levels) - 1 - up, 0)]
        found.append(groups)
    return found[0], found[1]
