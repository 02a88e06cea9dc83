"""What a backtest says beyond pooled accuracy: who errs least on which kind, and whether bands keep their promise."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.measures import nan_mean
from tansy.engine.graph.graph import Graph
from tansy.engine.profile.kinds import Kinds
from tansy.engine.study.accuracy import by_level, inside, measures, over, runs_of

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

GAIN_CUTS = (-50.0, -25.0, -10.0, 0.0, 10.0, 25.0, 50.0)
_ROWS = 2048  # nodes that are held against what came at a time


@dataclass(frozen=True)
class Report:
    """kind_names: kinds of demand that any series is of, as they are at the end; kind_sizes: [kinds], series. by_kind:
    [kinds, methods + 2, 5], measures of the series of a kind, the last two of the choice and of what is published.
    kind_coverage: [kinds, bands] and coverage_error: [levels + 1, bands], the standard error of a level's coverage over
    origins, in which all nodes share their weather. between: [levels + 1, Q + 1], share of actuals below the lowest
    quantile, between each two, and above the highest. interval_score: [levels + 1, bands], in naive steps. gains: [cuts
    + 1], series whose error is that much below the seasonal naive's, in percent, cut at GAIN_CUTS; n_worse: of these
    with more error than it."""

    kind_names: tuple[str, ...]
    kind_sizes: Integers
    by_kind: Floats
    kind_coverage: Floats
    coverage_error: Floats
    between: Floats
    interval_score: Floats
    gains: Integers
    n_worse: int


def kinds_of(kinds: Kinds, graph: Graph) -> tuple[tuple[str, ...], Booleans]:
    """Names of the kinds that any series is of, and which, [kinds, nodes]; totals are of none."""
    finest = np.arange(graph.n_nodes) >= graph.n_aggregates
    own = {name: which & finest for name, which in kinds.groups().items() if name != "seasonal"}
    own = {name: which for name, which in own.items() if which.any()}
    return tuple(own), np.stack(list(own.values())) if own else np.zeros((0, graph.n_nodes), dtype=bool)


def report(
    graph: Graph, actuals: Floats, quantiles: Floats, scale: Floats, p: Floats, names: tuple[str, ...], of: Booleans,
    pooled: Floats, gain: Floats,
) -> Report:  # fmt: skip
    """actuals: [nodes, origins, H], NaN where there is nothing to judge; quantiles: [nodes, origins, Q, H] for the
    probabilities p; scale: [nodes, origins], the mean squared step. names, of: see `kinds_of`. pooled: [kinds, methods
    + 2, 10], see `accuracy.pooled_sums`. gain: [nodes], NaN unknown."""
    n_bands, n_origins = len(p) // 2, actuals.shape[1]
    in_kind = np.zeros((2, len(of), n_bands))
    runs = [
        run
        for start in range(0, graph.n_nodes, _ROWS)
        for run in runs_of(graph, start, min(start + _ROWS, graph.n_nodes))
    ]
    held: list[tuple[slice, Floats]] = []
    between: list[tuple[slice, Floats]] = []
    scores: list[tuple[slice, Floats]] = []
    for run in runs:
        y, q = actuals[run], quantiles[run]
        within = inside(y, q)
        known = ~np.isnan(within)
        held.append((run, np.stack([np.nansum(within, axis=(0, 3)), known.sum(axis=(0, 3))])))
        own = np.stack([np.nansum(within, axis=(1, 3)), known.sum(axis=(1, 3))])
        in_kind += np.stack([own[:, which[run]].sum(axis=1) for which in of], axis=1) if len(of) else 0.0
        between.append((run, _between(y, q, p)))
        scores.append((run, _scores(y, q, p, scale[run])))
    counts = by_level(graph, held)
    by_origin = over(counts[:, 0], counts[:, 1])
    n_some = (~np.isnan(by_origin)).sum(axis=1)
    off = by_origin - nan_mean(by_origin, axis=1)[:, None]
    variance = over(np.nansum(off**2, axis=1), n_some - 1.0)
    mass, score = by_level(graph, between), by_level(graph, scores)
    series = gain[graph.n_aggregates :]
    series = series[~np.isnan(series)]
    return Report(
        kind_names=names,
        kind_sizes=of.sum(axis=1),
        by_kind=measures(pooled) + 0.0,
        kind_coverage=over(in_kind[0], in_kind[1]),
        coverage_error=np.sqrt(over(variance, n_some.astype(np.float64))) if n_origins > 1 else variance,
        between=over(mass, np.repeat(mass.sum(axis=1, keepdims=True), mass.shape[1], axis=1)),
        interval_score=over(score[:, 0], score[:, 1]),
        gains=np.bincount(np.searchsorted(GAIN_CUTS, series, side="right"), minlength=len(GAIN_CUTS) + 1),
        n_worse=int((series < 0.0).sum()),
    )


def _between(actuals: Floats, quantiles: Floats, p: Floats) -> Floats:
    """How much of the actuals falls between quantiles, [Q + 1].

    Of counts an actual may be equal to several quantiles: the integral transform at it lies anywhere between the mass
    below and the mass up to it, which are taken to lie half way to the next quantiles, and its one unit is spread
    evenly over that (Czado, Gneiting, Held 2009).
    """
    flat = np.moveaxis(quantiles, 2, 0).reshape(len(p), -1)
    y = actuals.reshape(-1)
    known = ~np.isnan(y)
    flat, y = flat[:, known], y[known]
    below, up_to = (flat < y).sum(axis=0), (flat <= y).sum(axis=0)
    clear = below == up_to
    found = np.bincount(below[clear], minlength=len(p) + 1).astype(np.float64)
    edges = np.concatenate([[0.0], p, [1.0]])
    middle = (edges[:-1] + edges[1:]) / 2.0
    pairs = below[~clear] * (len(p) + 1) + up_to[~clear]
    for pair, count in zip(*np.unique(pairs, return_counts=True), strict=True):
        low, high = middle[pair // (len(p) + 1)], middle[pair % (len(p) + 1)]
        shared = np.clip(np.minimum(edges[1:], high) - np.maximum(edges[:-1], low), 0.0, None)
        found += count * shared / shared.sum()
    return found


def _scores(actuals: Floats, quantiles: Floats, p: Floats, scale: Floats) -> Floats:
    """Sums of interval scores (Gneiting, Raftery 2007) in naive steps, and of how many, [2, bands]."""
    step = np.sqrt(np.where(scale > 0.0, scale, np.nan))[:, :, None]
    found = np.zeros((2, len(p) // 2))
    for b in range(len(p) // 2):
        low, high, share = quantiles[:, :, b], quantiles[:, :, -1 - b], 2.0 * p[b]
        missed = np.maximum(low - actuals, 0.0) + np.maximum(actuals - high, 0.0)
        score = (high - low + 2.0 / share * missed) / step
        found[:, b] = np.nansum(score), (~np.isnan(score)).sum()
    return found
