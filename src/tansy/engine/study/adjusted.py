"""A forecast with what planners changed: one more layer, and bands that go with it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri

from tansy.engine.adjust.adjustment import Adjustment, place
from tansy.engine.adjust.layer import Ground, Step, bands, laid
from tansy.engine.backtest.measures import nan_mean
from tansy.engine.study.forecast import ADJUSTMENTS, Forecast, Layer
from tansy.engine.study.prepared import Prepared

Floats = NDArray[np.float64]

_METRICS = ("ols", "structural", "variance")


def check_places(prepared: Prepared, adjustments: Sequence[Adjustment]) -> None:
    """Raises AdjustmentError where one is for no node or names no period."""
    ahead = prepared.timeline.after(prepared.recipe.leads)
    for one in adjustments:
        place(one, prepared.graph, prepared.planned.panel, ahead)


def ground_of(published: Forecast, prepared: Prepared) -> Ground:
    """What adjustments of a forecast are laid over: it as it is, with the history and the errors of its study.

    Variances are those that the widest band has at the first lead.
    """
    graph, recipe = published.graph, prepared.recipe
    n, m = graph.n_aggregates, prepared.timeline.season_length
    still = (published.chosen[n:] < 0) & (published.mean[n:] == 0.0).all(axis=1)
    z = ndtri(published.probabilities)
    sd = (published.quantiles[:, -1, 0] - published.quantiles[:, 0, 0]) / (z[-1] - z[0])
    usual = nan_mean(prepared.planned.panel.values[:, -m:], axis=1)
    return Ground(
        graph, published.mean, np.maximum(np.nan_to_num(usual), 0.0), still, sd**2,
        recipe.reconciliation if recipe.reconciliation in _METRICS else "variance",
        recipe.whole_units, recipe.nonnegative,
    )  # fmt: skip


def with_adjustments(
    published: Forecast, prepared: Prepared, adjustments: Sequence[Adjustment]
) -> tuple[Forecast, list[Step]]:
    """The forecast with adjustments laid over it in their order, and what became of each; without any it is itself.

    Raises AdjustmentError where one is for no node or names no period.
    """
    if not adjustments:
        return published, []
    panel = prepared.planned.panel
    placed = [place(one, published.graph, panel, published.timeline) for one in adjustments]
    ground = ground_of(published, prepared)
    mean, steps = laid(ground, placed)
    return changed(published, ground, mean), steps


def changed(published: Forecast, ground: Ground, mean: Floats) -> Forecast:
    """The forecast with what adjustments made of its `mean` [nodes, H]."""
    return replace(
        published,
        layers=(*published.layers, Layer(ADJUSTMENTS, mean)),
        quantiles=bands(ground, mean, published.quantiles, published.probabilities),
    )


def bands_of(published: Forecast, ground: Ground, mean: Floats, node: int) -> Floats:
    """The quantiles [Q, H] of one node of it."""
    one = slice(node, node + 1)
    p = published.probabilities
    return bands(ground, mean[one], published.quantiles[one], p, np.array([node]))[0]
