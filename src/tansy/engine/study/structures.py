"""What a screen tells of a structure: its levels and what lies above them, and what another one would have."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import StructureError
from tansy.engine.graph.counts import LevelCount, count_levels
from tansy.engine.graph.formula import Formula, named
from tansy.engine.graph.grouping import laid_out, next_above
from tansy.engine.graph.pruning import PruningRule, finest_of, prune
from tansy.engine.graph.time_levels import TimeLevel
from tansy.engine.panel import Panel
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
    n_shared: series that get a share.
    own_volume: percent of all that was sold, in series that are forecast themselves."""

    counts: list[LevelCount]
    kept: list[int] | None
    n_fitted: int
    n_lumps: int
    n_longer: int
    n_shared: int
    own_volume: float
    n_splits: int
    n_taken: int

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


def levels_held(prepared: Prepared) -> list[LevelHeld]:
    """Levels of the graph of a study, the series last. Lumps lie at no one level, and so below none."""
    graph, panel = prepared.graph, prepared.planned.panel
    volume = _sold(panel.values[:, -max(panel.timeline.season_length, 1) :])
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


def try_structure(
    panel: Panel, formula: Formula, rule: PruningRule | None, time_levels: tuple[TimeLevel, ...] = ()
) -> Tried:
    """What a structure would have, and what pruning would leave of it. Raises StructureError as building it would."""
    counts = count_levels(panel, formula)
    n_nodes = sum(one.occurring for one in counts)
    if rule is None:
        return Tried(counts, None, n_nodes, 0, 0, 0, 100.0, 0, 0)
    histories = histories_of(panel, time_levels)
    left = prune(*laid_out(panel, formula), histories[-1][0], rule, histories[-1][1])
    itself = left.themselves(len(counts) - 1)
    own = np.zeros(panel.n_series, dtype=bool)
    own[left.held[left.start[:-1][itself]]] = True
    volume = _sold(panel.values)
    return Tried(
        counts,
        np.bincount(left.level[~left.lumped], minlength=len(counts)).tolist(),
        left.n_nodes,
        int(left.lumped.sum()),
        int((finest_of(left, histories, rule) > 0).sum()),
        int((~own).sum()),
        100.0 * float(volume[own].sum()) / max(float(volume.sum()), np.finfo(np.float64).tiny),
        len(left.splits.taken),
        int(left.splits.taken.sum()),
    )


def formula_of(prepared: Prepared) -> str:
    """The structure of a study as a formula; empty for one of edges, and where a name cannot be written in one."""
    recipe = prepared.recipe
    if recipe.edges or recipe.formula:
        return recipe.formula
    try:
        chains = [named((*recipe.structure.get(key, ()), key)) for key in prepared.planned.panel.key_names]
    except StructureError:
        return ""
    return " * ".join(f"({chain})" if " > " in chain and len(chains) > 1 else chain for chain in chains)


def _sold(values: Floats) -> Floats:
    """What each series sold, [series]; returns do not count."""
    return np.asarray(np.maximum(np.nan_to_num(values), 0.0).sum(axis=1))
