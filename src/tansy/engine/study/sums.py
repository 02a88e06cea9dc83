"""Bands of sums over the leads 1 to L: what is needed until the next delivery.

Quantiles do not add up: weeks that all come in low are rarer than one that does. How far they go together is read off
the backtest. Errors of its windows, each in units of the band that was published for it, have mean products that say
what one lead's error tells of another's, [H, H] for a group of levels (the groups of bands). A handful of windows in
which all series share their weather says that badly lead by lead, so that it is drawn to a mixture of few sorts of
doubt: noise, noise that lasts some periods, a level that is not known well, and one that drifts. The distances of the
quantiles from the forecast are then added as standard deviations are, below it and above it apart. So the sum over the
first lead alone has its band, leads that always err together have the sum of their bands, and nothing falls below zero.
Products are about the forecast and not about the mean error: that a whole window was missed to one side is what is
looked for.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import nnls

from tansy.engine.backtest.intervals import groups
from tansy.engine.graph.graph import Graph
from tansy.engine.study.forecast import Forecast

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_WILDEST = 4.0  # of half a band: an error beyond it says no more
_NODES = 4096  # at a time
_LASTS = (0.5, 0.8)  # correlations from one period to the next
_IN_ALL = 1e3  # weight of their sum being one


def together(graph: Graph, actuals: Floats, tested: Floats, quantiles: Floats) -> Floats:
    """How errors of leads go together, [groups, H, H], as correlations.

    actuals, tested: [nodes, origins, H], NaN where there is nothing to judge; quantiles: [nodes, origins, Q, H]. Of
    windows that have come whole; where none has, leads are taken to err together wholly.
    """
    group = groups(graph.level_of, len(graph.levels))
    horizon = actuals.shape[2]
    products = np.zeros((int(group.max()) + 1, horizon, horizon))
    for start in range(0, len(group), _NODES):
        rows = slice(start, start + _NODES)
        half = 0.5 * (quantiles[rows, :, -1] - quantiles[rows, :, 0])
        error = (actuals[rows] - tested[rows]) / np.where(half > 0.0, half, np.nan)
        error = np.clip(error, -_WILDEST, _WILDEST)
        whole = ~np.isnan(error).any(axis=2)
        for g in np.unique(group[rows]).tolist():
            own = error[(group[rows] == g)[:, None] & whole]
            products[g] += own.T @ own
    return np.stack([_mixture(one) for one in products])


def _sorts(horizon: int) -> Floats:
    """Correlations of leads under each sort of doubt, [sorts, H, H]: noise first."""
    lead = np.arange(1.0, horizon + 1.0)
    apart = np.abs(lead[:, None] - lead)
    drift = np.sqrt(np.minimum(lead[:, None], lead) / np.maximum(lead[:, None], lead))
    return np.stack([np.eye(horizon), *(lasts**apart for lasts in _LASTS), np.ones_like(apart), drift])


def _mixture(products: Floats) -> Floats:
    """The mixture of `_sorts` with the least squares from correlations of these products [H, H], weights none below
    zero and one in all; wholly together where there are none."""
    horizon = len(products)
    size = np.sqrt(np.diagonal(products))
    if not (size > 0.0).all():
        return np.ones_like(products)
    sorts = _sorts(horizon)
    pairs = np.triu_indices(horizon, 1)
    columns = np.concatenate([sorts[:, *pairs].T, np.full((1, len(sorts)), _IN_ALL)])
    weights, _ = nnls(columns, np.append((products / np.outer(size, size))[pairs], _IN_ALL))
    return np.asarray(np.tensordot(weights / weights.sum(), sorts, axes=1))


def sums_of(forecast: Forecast, rows: Integers | slice = slice(None)) -> tuple[Floats, Floats]:
    """Forecasts of the sums over leads 1 to L, [nodes, H], and their quantiles, [nodes, Q, H], outwards in whole units.
    rows: of these nodes alone."""
    mean, quantiles = forecast.mean[rows], forecast.quantiles[rows]
    group = groups(forecast.graph.level_of, len(forecast.graph.levels))[rows]
    found = np.empty_like(quantiles)
    for g in np.unique(group).tolist():
        own = group == g
        found[own] = quantiles_of_sums(mean[own], quantiles[own], forecast.together[g], forecast.is_whole)
    return np.cumsum(mean, axis=1), found


def quantiles_of_sums(mean: Floats, quantiles: Floats, of_leads: Floats, whole: bool) -> Floats:
    """Those of the sums over leads 1 to L of nodes of one group, [nodes, Q, H], from quantiles of the same shape about
    mean [nodes, H]. of_leads: [H, H]. whole: outwards in whole units."""
    apart = quantiles - mean[:, None]
    square = np.empty_like(apart)
    for h in range(apart.shape[2]):
        own = 2.0 * apart[..., h] * (apart[..., :h] @ of_leads[:h, h]) + apart[..., h] ** 2
        square[..., h] = own if h == 0 else square[..., h - 1] + own
    offset = np.sign(np.cumsum(apart, axis=2)) * np.sqrt(np.maximum(square, 0.0))
    offset[..., 0] = apart[..., 0]
    found = np.maximum.accumulate(np.cumsum(mean, axis=1)[:, None] + offset, axis=1)
    if whole:
        upper = np.arange(apart.shape[1]) >= apart.shape[1] // 2
        found = np.where(upper[None, :, None], np.ceil(found - 1e-9), np.floor(found + 1e-9))
    return np.asarray(found + 0.0)
