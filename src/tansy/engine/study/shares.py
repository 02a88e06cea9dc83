"""Which share of another node's forecast a series gets that pruning left without one of its own, and which share of a
longer period its leads get where a node is forecast in longer ones only."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.known import Known
from tansy.engine.backtest.measures import nan_mean
from tansy.engine.graph.pruned import Pruned
from tansy.engine.graph.time_levels import TimeLevel
from tansy.engine.methods.shared_season import season_profiles

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_SHORT_SEASON = 13  # periods; the shape of longer ones is shared in a group
_SEASONS_BACK = 4


@dataclass(frozen=True, eq=False)
class Shares:
    """Of the series without a forecast of their own, [k] each: series: which; node: whose forecast each gets its share
    of; share: of the volume of the last season; apart: how far its past lay from that share of the node's, root mean
    square."""

    series: Integers
    node: Integers
    share: Floats
    apart: Floats


def shares_of(pruned: Pruned, known: Known, volume: Floats) -> Shares:
    """At an origin. volume: [series], sold in the last season."""
    graph = pruned.graph
    first = graph.n_aggregates
    series = np.nonzero(~pruned.own[first:])[0]
    node = pruned.leaf[series]
    of_node = graph.summation.sum_up(np.maximum(volume, 0.0))[node]
    members = graph.summation.sum_up(np.ones(graph.n_series))[node]
    own = np.maximum(volume[series], 0.0)
    share = np.divide(own, of_node, out=1.0 / members, where=of_node > 0.0)
    off = known.values[first + series] - share[:, None] * known.values[node]
    return Shares(series, node, share, np.sqrt(np.nan_to_num(nan_mean(off * off, axis=1))))


@dataclass(frozen=True, eq=False)
class Within:
    """Of the nodes that are forecast in longer periods only, [k] each: nodes: which; level: position of the time level.
    share: [k, H], of each lead in its block, leads that lie in none in the last one; apart: how far its past lay from
    such a share of its blocks, root mean square."""

    nodes: Integers
    level: Integers
    share: Floats
    apart: Floats


def within_longer(pruned: Pruned, levels: tuple[TimeLevel, ...], known: Known) -> Within:
    """At an origin. Leads share a block as the season of a larger node has it."""
    nodes = np.nonzero(pruned.own & (pruned.finest > 0))[0]
    level = pruned.finest[nodes] - 1
    shape = _shape(known, pruned.seasons_from(nodes))
    n = known.n_seen
    share, apart = np.empty((len(nodes), known.horizon)), np.zeros(len(nodes))
    for k, one in enumerate(levels):
        own = np.nonzero(level == k)[0]
        if not len(own):
            continue
        ahead, back = known.horizon // one.periods, n // one.periods
        held = _of_blocks(shape[own, n : n + ahead * one.periods], one.periods)
        rest = shape[own, n + ahead * one.periods :]
        of_last = shape[own, n + (ahead - 1) * one.periods : n + ahead * one.periods].sum(axis=1, keepdims=True)
        beyond = np.divide(rest, of_last, out=np.full_like(rest, 1.0 / one.periods), where=of_last > 0.0)
        share[own] = np.concatenate([held, beyond], axis=1)
        past = known.values[nodes[own]][:, n - back * one.periods :]
        sums = np.repeat(past.reshape(len(own), back, one.periods).sum(axis=2), one.periods, axis=1)
        off = past - sums * _of_blocks(shape[own, n - back * one.periods : n], one.periods)
        apart[own] = np.sqrt(np.nan_to_num(nan_mean(off * off, axis=1)))
    return Within(nodes, level, share, apart)


def _of_blocks(shape: Floats, periods: int) -> Floats:
    """Share of each period in its block, [k, blocks of periods]; even ones where nothing is sold in it."""
    blocks = shape.reshape(len(shape), -1, periods)
    total = blocks.sum(axis=2, keepdims=True)
    found = np.divide(blocks, total, out=np.full_like(blocks, 1.0 / periods), where=total > 0.0)
    return np.asarray(found.reshape(shape.shape))


def _shape(known: Known, sources: Integers) -> Floats:
    """What periods and leads have of the season of some nodes, [k, T + H]: its shape over the year, or where seasons
    are short its mean at the same place in the last ones."""
    distinct, of = np.unique(sources, return_inverse=True)
    m, n = known.timeline.season_length, known.n_seen
    if m > _SHORT_SEASON:
        return season_profiles(known.values[distinct], known.timeline, known.horizon)[of]
    seasons = min(_SEASONS_BACK, n // m)
    if seasons == 0:
        return np.ones((len(sources), n + known.horizon))
    last = known.values[distinct, n - seasons * m :].reshape(len(distinct), seasons, m)
    usual = np.maximum(np.nan_to_num(nan_mean(last, axis=1)), 0.0)
    return np.asarray(usual[:, (np.arange(n + known.horizon) - n) % m])[of]
