"""Bands of a backtest held against what came, in one pass over the nodes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.measures import interval_score, nan_mean
from tansy.engine.graph.graph import Graph
from tansy.engine.study.accuracy import all_runs, by_level, over

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]


@dataclass(frozen=True)
class BandsHeld:
    """hits: [nodes, bands], share of actuals inside each band, widest first. coverage: [levels + 1, H + 1, bands], the
    last level for all nodes, lead 0 for all leads; coverage_error: [levels + 1, bands], the standard error of that over
    all leads, over origins, in which all nodes share their weather; NaN of one origin. by_kind: [kinds, bands],
    coverage. between: [levels + 1, Q + 1], share of actuals below the lowest quantile, between each two, and above the
    highest. interval_score: [levels + 1, bands], in naive steps."""

    hits: Floats
    coverage: Floats
    coverage_error: Floats
    by_kind: Floats
    between: Floats
    interval_score: Floats

    @classmethod
    def of(
        cls, graph: Graph, actuals: Floats, quantiles: Floats, scale: Floats, p: Floats, of_kind: Booleans
    ) -> BandsHeld:
        """actuals: [nodes, origins, H], NaN where there is nothing to judge; quantiles: [nodes, origins, Q, H] for the
        probabilities p; scale: [nodes, origins], the mean squared step. of_kind: [kinds, nodes]."""
        n_bands = len(p) // 2
        hits = np.empty((graph.n_nodes, n_bands))
        in_kind = np.zeros((len(of_kind), n_bands, 2))
        held, between, scores = [], [], []
        for run in all_runs(graph):
            y, q = actuals[run], quantiles[run]
            counted = inside(y, q)
            by_node = counted.sum(axis=(1, 3))
            hits[run] = over(by_node[:, :, 0], by_node[:, :, 1])
            for k, which in enumerate(of_kind):
                in_kind[k] += by_node[which[run]].sum(axis=0)
            held.append((run, counted.sum(axis=0)))
            between.append((run, between_quantiles(y, q, p)))
            scores.append((run, interval_scores(y, q, p, scale[run])))
        counts, mass, score = by_level(graph, held), by_level(graph, between), by_level(graph, scores)
        by_lead = counts.sum(axis=1).swapaxes(1, 2)
        by_lead = np.concatenate([by_lead.sum(axis=1, keepdims=True), by_lead], axis=1)
        by_origin = counts.sum(axis=3)
        return cls(
            hits=hits,
            coverage=over(by_lead[..., 0], by_lead[..., 1]),
            coverage_error=_error_of_mean(over(by_origin[..., 0], by_origin[..., 1])),
            by_kind=over(in_kind[..., 0], in_kind[..., 1]),
            between=over(mass, np.repeat(mass.sum(axis=1, keepdims=True), mass.shape[1], axis=1)),
            interval_score=over(score[:, 0], score[:, 1]),
        )


def inside(actuals: Floats, quantiles: Floats) -> Floats:
    """Whether an actual [nodes, origins, H] lies inside each band of quantiles [nodes, origins, Q, H], widest first,
    and whether there is one: [nodes, origins, bands, H, 2]."""
    n_bands = quantiles.shape[2] // 2
    low, high = quantiles[:, :, :n_bands], quantiles[:, :, : -1 - n_bands : -1]
    y = actuals[:, :, None]
    known = np.broadcast_to(~np.isnan(y), low.shape)
    return np.stack([(y >= low) & (y <= high), known], axis=-1).astype(np.float64)


def _error_of_mean(by_origin: Floats) -> Floats:
    """[levels + 1, bands], from [levels + 1, origins, bands]."""
    n = (~np.isnan(by_origin)).sum(axis=1).astype(np.float64)
    off = by_origin - nan_mean(by_origin, axis=1)[:, None]
    return np.sqrt(over(over(np.nansum(off**2, axis=1), n - 1.0), n))


def between_quantiles(actuals: Floats, quantiles: Floats, p: Floats) -> Floats:
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


def interval_scores(actuals: Floats, quantiles: Floats, p: Floats, scale: Floats) -> Floats:
    """Sums of interval scores in naive steps, and of how many, [2, bands]."""
    step = np.sqrt(np.where(scale > 0.0, scale, np.nan))[:, :, None]
    found = np.zeros((2, len(p) // 2))
    for b in range(len(p) // 2):
        score = interval_score(actuals, quantiles[:, :, b], quantiles[:, :, -1 - b], 1.0 - 2.0 * p[b]) / step
        found[:, b] = np.nansum(score), (~np.isnan(score)).sum()
    return found
