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
from tansy.engine.graph.pruned_edges import held_by, prune_edges
from tansy.engine.graph.pruning import PruningRule, finest_of, prune, sold
from tansy.engine.graph.time_levels import TimeLevel
from tansy.engine.panel import Edges, Panel
from tansy.engine.study.prepared import Prepared, histories_of

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


def try_structure(
    panel: Panel, counted: Counted, rule: PruningRule | None, time_levels: tuple[TimeLevel, ...] = ()
) -> Tried:
    """What a structure would have, and what pruning would leave of it."""
    counts = counted.counts
    n_nodes = sum(one.occurring for one in counts)
    if rule is None:
        return Tried(counts, None, n_nodes, 0, 0, 0, 100.0, 0, 0)
    histories = histories_of(panel, time_levels)
    left = prune(counted.dimensions, counted.levels, histories[-1][0], rule, histories[-1][1])
    itself = left.themselves(len(counts) - 1)
    own = np.zeros(panel.n_series, dtype=bool)
    own[left.held.first[itself]] = True
    volume = sold(panel.values)
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


def try_rows(
    panel: Panel, rows: Sequence[Sequence[str]], rule: PruningRule | None, time_levels: tuple[TimeLevel, ...] = ()
) -> Tried:
    """The same of rows drawn by hand. Raises StructureError where they do not add up, with the row."""
    found = drawn(panel, rows)
    findings = []
    if found.n_rest:
        some = ", ".join(found.rest) + (" and others" if found.n_rest > len(found.rest) else "")
        findings.append(f"{found.n_rest:,} series are in no row, and stand below “{REST}”: {some}.")
    return try_edges(panel, found.edges, rule, time_levels, findings)


def try_edges(
    panel: Panel, edges: Edges, rule: PruningRule | None, time_levels: tuple[TimeLevel, ...] = (),
    findings: Sequence[str] = (),
) -> Tried:  # fmt: skip
    """The same of a list of edges."""
    graph = along_edges(panel, edges)
    counts = _levels_of_edges(graph)
    if rule is None:
        return Tried(counts, None, graph.n_nodes, 0, 0, 0, 100.0, 0, 0, tuple(findings))
    histories = histories_of(panel, time_levels)
    left = prune_edges(panel, edges, graph, histories, rule)
    own = left.kept[graph.n_aggregates :]
    held = left.held(graph)
    volume = sold(panel.values)
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
        tuple(findings),
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
