"""What a backtest says beyond pooled accuracy: who errs least on which kind, and whether bands keep their promise."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Graph
from tansy.engine.profile.kinds import Kinds
from tansy.engine.study.accuracy import measures
from tansy.engine.study.bands_held import BandsHeld

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

GAIN_CUTS = (-50.0, -25.0, -10.0, 0.0, 10.0, 25.0, 50.0)


@dataclass(frozen=True)
class Report:
    """kind_names: kinds of demand that any series is of, as they are at the end; kind_sizes: [kinds], series. by_kind:
    [kinds, methods + 2, 5], measures of the series of a kind, the last two of the choice and of what is published.
    bands: how they held. gains: [cuts + 1], series whose error is that much below the seasonal naive's, in percent, cut
    at GAIN_CUTS; n_worse: of these with more error than it."""

    kind_names: tuple[str, ...]
    kind_sizes: Integers
    by_kind: Floats
    bands: BandsHeld
    gains: Integers
    n_worse: int


def kinds_of(kinds: Kinds, graph: Graph) -> tuple[tuple[str, ...], Booleans]:
    """Names of the kinds that any series is of, and which, [kinds, nodes]; totals are of none."""
    finest = np.arange(graph.n_nodes) >= graph.n_aggregates
    own = {name: which & finest for name, which in kinds.groups().items() if name != "seasonal"}
    own = {name: which for name, which in own.items() if which.any()}
    return tuple(own), np.stack(list(own.values())) if own else np.zeros((0, graph.n_nodes), dtype=bool)


def report(names: tuple[str, ...], of: Booleans, pooled: Floats, bands: BandsHeld, gain: Floats) -> Report:
    """names, of: see `kinds_of`. pooled: [kinds, methods + 2, 10], see `accuracy.pooled_sums`. gain: [series], NaN
    unknown."""
    known = gain[~np.isnan(gain)]
    return Report(
        kind_names=names,
        kind_sizes=of.sum(axis=1),
        by_kind=measures(pooled) + 0.0,
        bands=bands,
        gains=np.bincount(np.searchsorted(GAIN_CUTS, known, side="right"), minlength=len(GAIN_CUTS) + 1),
        n_worse=int((known < 0.0).sum()),
    )
