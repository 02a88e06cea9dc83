"""What plans say of nodes without a past: their forecasts and their bands."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri

from tansy.engine.graph.graph import Graph
from tansy.engine.plans.kinds import IN_80_PERCENT
from tansy.engine.plans.planned import Planned

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]


def expected(planned: Planned, graph: Graph, base: Floats, sigma: Floats, zero: Booleans) -> tuple[Floats, Floats]:
    """Base forecasts [nodes, H] and sigmas [nodes] with those of series without a past, from their plans. No total has
    seen them, so what they bring is added to every total above them. zero: [finest, H]."""
    base, sigma = base.copy(), sigma.copy()
    if not planned.arrivals:
        return base, sigma
    brought = np.zeros((graph.n_series, base.shape[1]))
    doubt = np.zeros((graph.n_series, 1))
    for i, plan, like in planned.arrivals:
        node = graph.n_aggregates + i
        if like >= 0:
            base[node] = plan.share * np.nan_to_num(base[graph.n_aggregates + like])
            sigma[node] = plan.share * np.nan_to_num(sigma[graph.n_aggregates + like])
        elif plan.low is not None and plan.high is not None:
            base[node] = 0.5 * (plan.low + plan.high)
            sigma[node] = max((plan.high - plan.low) / (2.0 * IN_80_PERCENT), 1e-6)
        brought[i] = np.where(zero[i], 0.0, base[node])
        doubt[i] = sigma[node] ** 2
    totals = slice(0, graph.n_aggregates)
    base[totals] = np.nan_to_num(base[totals]) + graph.summation.sum_up(brought)[totals]
    sigma[totals] = np.sqrt(np.nan_to_num(sigma[totals]) ** 2 + graph.summation.sum_up(doubt)[totals, 0])
    return base, sigma


def bands(planned: Planned, graph: Graph, forecast: Floats, quantiles: Floats, p: Floats) -> None:
    """Bands of series without a past: those of the series they are like, at the share, or the normal ones of which the
    range given is the 80 % band; in place. None of them lies below zero."""
    for i, plan, like in planned.arrivals:
        node = graph.n_aggregates + i
        if like >= 0:
            other = graph.n_aggregates + like
            width = plan.share * (quantiles[other] - forecast[other])
        else:
            assert plan.low is not None and plan.high is not None
            spread = (plan.high - plan.low) / (2.0 * IN_80_PERCENT)
            width = np.repeat(ndtri(p)[:, None] * spread, forecast.shape[1], axis=1)
        quantiles[node] = np.maximum(forecast[node] + width, 0.0)
