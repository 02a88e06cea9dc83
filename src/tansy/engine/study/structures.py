"""What a screen tells of a structure: its levels and what lies above them, and what another one would have."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import StructureError
from tansy.engine.graph.by_hand import REST, drawn
from tansy.engine.graph.counts import LevelCount, counts_of
from tansy.engine.graph.edges import along_edges
from tansy.engine.graph.formula import Formula, named
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import Depths, Dimension, laid_out, next_above
from tansy.engine.graph.judged import History, sold
from tansy.engine.graph.pruned_edges import held_by, prune_edges
from tansy.engine.graph.pruning import PruningRule, finest_of, prune
from tansy.engine.panel import Edges, Panel
from tansy.engine.study.prepared import Prepared

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class LevelHeld:
    """A level of a graph. volume: percent of the last season's that its nodes hold. above: positions of the levels that
    it is a next finer one of."""

    name: str
    labels: tuple[str, ...]
    n_nodes: int
    volume: float
    above: list[int]


@dataclass(frozen=True)
class Tried:
    """A structure that was not built. counts: per level; kept: nodes that pruning leaves of each, None without a rule.
    n_fitted: nodes that are forecast themselves, n_lumps of them gather others, n_longer in longer periods only.
    n_shared: series that get a share. own_volume: percent of all that was sold, in series that are forecast themselves.
    findings: what to look at, in words."""

    counts: list[LevelCount]
    kept: list[int] | None
    n_fitted: int
    n_lumps: int
    n_longer: int
    n_shared: int
    own_volume: float
    n_splits: int
    n_taken: int
    findings: tuple[str, ...] = ()

    @property
    def n_nodes(self) -> int:
        return sum(one.occurring for one in self.counts)

    @property
    def possible(self) -> int:
        return sum(one.possible for one in self.counts)

    @property
    def saved(self) -> float:
        """Percent of the fitting at the periods of the history."""
        return 100.0 * (1.0 - (self.n_fitted - self.n_longer) / max(self.n_nodes, 1))


def sold_last_season(panel: Panel) -> Floats:
    """[series]."""
    return sold(panel.values[:, -max(panel.timeline.season_length, 1) :])


def levels_held(prepared: Prepared) -> list[LevelHeld]:
    """Levels of the graph of a study, the series last. Lumps lie at no one level, and so below none."""
    graph, panel = prepared.graph, prepared.planned.panel
    volume = sold_last_season(panel)
    total = max(float(volume.sum()), np.finfo(np.float64).tiny)
    lumps = prepared.pruned.lumps if prepared.pruned else range(0)
    depths = np.stack([axis.depths[graph.place[:, d]] for d, axis in enumerate(graph.axes)], axis=1)
    plain = [k for k, level in enumerate(graph.levels) if level.first not in lumps]
    of_plain = next_above(depths[[graph.levels[k].first for k in plain]])
    above = {k: [plain[i] for i in own] for k, own in zip(plain, of_plain, strict=True)}
    found = []
    for k, level in enumerate(graph.levels):
        held = graph.below(np.arange(level.first, level.first + level.n_nodes)).series
        share = 100.0 * float(volume[held].sum()) / total
        found.append(LevelHeld(level.name, level.labels, level.n_nodes, share, above.get(k, [])))
    return found


@dataclass(frozen=True, eq=False)
class Counted:
    """Levels of a formula over a panel, with how many nodes each would have, from the top down."""

    dimensions: tuple[Dimension, ...]
    levels: tuple[Depths, ...]
    counts: list[LevelCount]

    @classmethod
    def of(cls, panel: Panel, formula: Formula) -> Counted:
        """Raises StructureError as building it would."""
        dimensions, levels = laid_out(panel, formula)
        return cls(dimensions, levels, counts_of(dimensions, levels))


def try_structure(counted: Counted, rule: PruningRule | None, histories: Sequence[History]) -> Tried:
    """What a structure would have, and what pruning would leave of it, judged by `histories`; without a rule they are
    not looked at."""
    counts = counted.counts
    n_nodes = sum(one.occurring for one in counts)
    if rule is None:
        return Tried(counts, None, n_nodes, 0, 0, 0, 100.0, 0, 0)
    left = prune(counted.dimensions, counted.levels, histories[-1], rule)
    itself = left.themselves(len(counts) - 1)
    own = np.zeros(len(histories[0].values), dtype=bool)
    own[left.held.first[itself]] = True
    volume = histories[0].volume
    return Tried(
        counts,
        np.bincount(left.level[~left.lumped], minlength=len(counts)).tolist(),
        left.n_nodes,
        int(left.lumped.sum()),
        int((finest_of(left.held, histories, rule) > 0).sum()),
        int((~own).sum()),
        100.0 * float(volume[own].sum()) / max(float(volume.sum()), np.finfo(np.float64).tiny),
        len(left.splits.taken),
        int(left.splits.taken.sum()),
    )


@dataclass(frozen=True, eq=False)
class CountedEdges:
    """A graph of edges, with what its levels hold and what to look at."""

    edges: Edges
    graph: Graph
    counts: list[LevelCount]
    findings: tuple[str, ...] = ()

    @classmethod
    def of(cls, panel: Panel, edges: Edges, findings: tuple[str, ...] = ()) -> CountedEdges:
        """Raises StructureError where they do not add up."""
        graph = along_edges(panel, edges)
        return cls(edges, graph, _levels_of_edges(graph), findings)

    @classmethod
    def of_rows(cls, panel: Panel, rows: Sequence[Sequence[str]]) -> CountedEdges:
        """The same of rows drawn by hand; says the row that is wrong."""
        found = drawn(panel, rows)
        if not found.n_rest:
            return cls.of(panel, found.edges)
        some = ", ".join(found.rest) + (" and others" if found.n_rest > len(found.rest) else "")
        finding = f"{found.n_rest:,} series are in no row, and stand below “{REST}”: {some}."
        return cls.of(panel, found.edges, (finding,))


def try_edges(panel: Panel, counted: CountedEdges, rule: PruningRule | None, histories: Sequence[History]) -> Tried:
    """The same as `try_structure`, of edges."""
    graph, counts = counted.graph, counted.counts
    if rule is None:
        return Tried(counts, None, graph.n_nodes, 0, 0, 0, 100.0, 0, 0, counted.findings)
    left = prune_edges(panel, counted.edges, graph, histories, rule)
    own = left.kept[graph.n_aggregates :]
    held = left.held(graph)
    volume = histories[0].volume
    return Tried(
        counts,
        np.bincount(graph.level_of[left.kept], minlength=len(counts)).tolist(),
        held.n_nodes,
        len(left.lumps),
        int((finest_of(held, histories, rule) > 0).sum()),
        int((~own).sum()),
        100.0 * float(volume[own].sum()) / max(float(volume.sum()), np.finfo(np.float64).tiny),
        left.n_splits,
        left.n_taken,
        counted.findings,
    )


def _levels_of_edges(graph: Graph) -> list[LevelCount]:
    """Levels of a graph of edges, all of whose nodes occur."""
    held = held_by(graph)
    size = np.diff(held.start)
    _, first = np.unique(held.marks(graph.n_series), return_index=True)
    equal = np.ones(graph.n_nodes, dtype=bool)
    equal[first] = False
    found = []
    for level in graph.levels:
        own = np.arange(level.first, level.first + level.n_nodes)
        same = own[equal[own]]
        example = graph.name(int(same[0])) if len(same) else ""
        n = level.n_nodes
        found.append(LevelCount(level.labels, n, n, int((size[own] == 1).sum()), None, len(same), example))
    return found


def formula_of(prepared: Prepared) -> str:
    """The structure of a study as a formula; empty for one of edges, and where a name cannot be written in one."""
    recipe = prepared.recipe
    if recipe.edges or recipe.formula or recipe.rows:
        return recipe.formula
    try:
        chains = [named((*recipe.structure.get(key, ()), key)) for key in prepared.planned.panel.key_names]
    except StructureError:
        return ""
    return " * ".join(f"({chain})" if " > " in chain and len(chains) > 1 else chain for chain in chains)
