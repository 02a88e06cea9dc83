"""How many nodes a structure would have, before anything of it is built."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import prod

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.engine.graph.constraints import marks_of
from tansy.engine.graph.formula import Formula
from tansy.engine.graph.grouping import Depths, Dimension, labels_of, laid_out
from tansy.engine.panel import Panel

Integers = NDArray[np.int64]


@dataclass(frozen=True)
class LevelCount:
    """labels: of the level, along each chain. possible: combinations of its values; occurring: those with a series,
    the rest are empty; single: those that have one series alone, and say no more than it. same_as: an earlier level
    whose nodes are the same, None for none. equal: nodes that hold just the series of one on an earlier level; example:
    what one of them is called, empty for none."""

    labels: tuple[str, ...]
    possible: int
    occurring: int
    single: int
    same_as: tuple[str, ...] | None
    equal: int = 0
    example: str = ""

    @property
    def empty(self) -> int:
        return self.possible - self.occurring


def count_levels(panel: Panel, formula: Formula) -> list[LevelCount]:
    """Levels from the top down, the series last. Raises StructureError as building it would."""
    return counts_of(*laid_out(panel, formula))


def counts_of(dimensions: tuple[Dimension, ...], levels: tuple[Depths, ...]) -> list[LevelCount]:
    """The same of chains that are laid out over a panel."""
    found: list[LevelCount] = []
    seen: dict[bytes, tuple[str, ...]] = {}
    firsts: list[Integers] = []
    marks: list[NDArray[np.uint64]] = []
    of_series = marks_of(dimensions[0].member.shape[1])
    for depths in levels:
        labels = labels_of(dimensions, depths)
        possible = prod(len(d.names[depth]) for d, depth in zip(dimensions, depths, strict=True))
        node = node_of_series(dimensions, depths)
        held = np.bincount(node)
        # the first series of each node: the same for levels that part the series alike
        first = np.full(len(held), -1, dtype=np.int64)
        first[node[::-1]] = np.arange(len(node))[::-1]
        alike = first[node].tobytes()
        found.append(LevelCount(labels, possible, len(held), int((held == 1).sum()), seen.get(alike)))
        seen.setdefault(alike, labels)
        firsts.append(first)
        mark = np.zeros(len(held), dtype=np.uint64)
        np.add.at(mark, node, of_series)
        marks.append(mark)
    again = _again(np.concatenate(marks))
    start = 0
    for k, (depths, first) in enumerate(zip(levels, firsts, strict=True)):
        equal = np.nonzero(again[start : start + len(first)])[0]
        start += len(first)
        if len(equal):
            example = _name(dimensions, depths, int(first[equal[0]]))
            found[k] = replace(found[k], equal=len(equal), example=example)
    return found


def _again(marks: NDArray[np.uint64]) -> NDArray[np.bool_]:
    """Which of some values have come before, [values]."""
    _, first = np.unique(marks, return_index=True)
    found = np.ones(len(marks), dtype=bool)
    found[first] = False
    return found


def _name(dimensions: tuple[Dimension, ...], depths: Depths, series: int) -> str:
    """What the node of a level is called that a series lies in."""
    return " × ".join(
        d.names[depth][d.member[depth][series]] for d, depth in zip(dimensions, depths, strict=True) if depth
    )


def node_of_series(dimensions: tuple[Dimension, ...], depths: Depths) -> Integers:
    """Number of the node that each series lies in on a level, [series]."""
    used = [d.member[depth] for d, depth in zip(dimensions, depths, strict=True) if depth]
    if not used:
        return np.zeros(dimensions[0].member.shape[1], dtype=np.int64)
    if len(used) == 1:
        return np.asarray(used[0], dtype=np.int64)
    columns = pl.DataFrame({str(i): one for i, one in enumerate(used)})
    numbered = columns.unique(maintain_order=True).with_row_index("node")
    joined = columns.join(numbered, on=list(columns.columns), how="left", maintain_order="left")
    return joined["node"].cast(pl.Int64).to_numpy()
