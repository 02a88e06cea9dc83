"""What choice, bands and accuracy need of a state of knowledge, so that the rest of it can be let go."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.intervals import are_whole, least_sigma
from tansy.engine.backtest.known import Known
from tansy.engine.backtest.measures import mean_square_step, nan_mean
from tansy.engine.study.kept import kept_methods
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.shares import Shares, Within, shares_of, within_longer

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

_FEW_VALUES = 8
SLOW, IN_SEASON = 1, 2
"""Kinds that choose a method together; 0 of others."""


@dataclass(frozen=True)
class Seen:
    """What the reductions need of a state of knowledge.

    came: [nodes, periods since the first origin], values as they were judged then. scale: [nodes], mean squared step of
    RMSSE. usual: [nodes], mean of history. floor: [nodes], least sigma that is believed. few: [nodes], whether fewer
    than eight values speak for a sigma. kind: [nodes], SLOW movers, what is sold IN_SEASON only, 0 of others, which
    choose a method together. counts: [nodes], whether slow movers in whole numbers. closed: [finest, H], where nothing
    will be sold, whatever a method says. kept: [nodes], position of the method kept by hand, -1 for none;
    kept_words: node -> why. volume: [finest], sold in the last season. shares, within: where the structure was pruned.
    """

    n_seen: int
    came: Floats
    scale: Floats
    usual: Floats
    floor: Floats
    few: Booleans
    kind: Integers
    counts: Booleans
    closed: Booleans
    kept: Integers
    kept_words: dict[int, str]
    volume: Floats
    shares: Shares | None = None
    within: Within | None = None

    @classmethod
    def of(cls, known: Known, prepared: Prepared, methods: tuple[str, ...]) -> Seen:
        graph, recipe, kinds = known.graph, prepared.recipe, known.kinds
        finest = slice(graph.n_aggregates, None)
        shut = prepared.planned.closed(recipe.plans, known.timeline.last + 1, known.horizon)
        out_of_season = kinds.in_season_only[finest, None] & ~kinds.in_season[finest]
        kept, words = kept_methods(recipe.kept, methods, graph, kinds)
        volume = np.nansum(known.values[finest, -max(known.timeline.season_length, 1) :], axis=1)
        return cls(
            n_seen=known.n_seen,
            came=known.judged[:, prepared.seen_at[0] :].copy(),
            scale=mean_square_step(known.judged),
            usual=nan_mean(known.values, axis=1),
            floor=least_sigma(known.values),
            few=(~np.isnan(known.values)).sum(axis=1) < _FEW_VALUES,
            kind=np.where(kinds.in_season_only, IN_SEASON, np.where(kinds.slow, SLOW, 0)),
            counts=kinds.slow & are_whole(known.judged),
            closed=shut | out_of_season | kinds.ended[finest, None],
            kept=kept,
            kept_words=words,
            volume=volume,
            shares=shares_of(prepared.pruned, known, volume) if prepared.pruned else None,
            within=within_longer(prepared.pruned, prepared.time_levels, known) if prepared.pruned else None,
        )

    def windows(self, seen_at: list[int], leads: int, rows: slice = slice(None)) -> Floats:
        """What had come after each of the origins `seen_at`, [nodes, origins, leads]; NaN where nothing had."""
        own = self.came[rows]
        first = self.n_seen - self.came.shape[1]
        found = np.full((len(own), len(seen_at), leads), np.nan)
        for o, n in enumerate(seen_at):
            come = own[:, n - first : n - first + leads]
            found[:, o, : come.shape[1]] = come
        return found
