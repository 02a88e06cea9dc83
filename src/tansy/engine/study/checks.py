"""What must hold of a forecast before it may be published."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tansy.engine.study.forecast import Forecast

LARGEST_GAP = 1e-9


@dataclass(frozen=True)
class Check:
    """name, whether it holds, and what was found, in words."""

    name: str
    holds: bool
    found: str


def _gap_in_words(gap: float) -> str:
    return "no gap anywhere" if gap == 0.0 else f"largest gap {gap:.1e} of the parent"


def check_forecast(published: Forecast, nonnegative: bool) -> list[Check]:
    """Adds up at every node; no negative value; bands ordered and plausible; every series covered."""
    graph, forecast, quantiles = published.graph, published.mean, published.quantiles
    gap = graph.summation.largest_gap(forecast)
    negative = int((forecast < 0).sum() + (quantiles < 0).sum())
    finest = slice(graph.n_aggregates, None)
    finite = np.isfinite(forecast[finest]).all(axis=1) & np.isfinite(quantiles[finest]).all(axis=(1, 2))
    covered = int(finite.sum())
    return [
        Check(
            "adds up",
            gap <= LARGEST_GAP,
            f"{graph.n_nodes:,} nodes, {_gap_in_words(gap)}",
        ),
        Check(
            "no negatives",
            negative == 0 or not nonnegative,
            f"{negative:,} negative values"
            if nonnegative
            else f"{negative:,} negative values, which the recipe allows",
        ),
        _bands(published),
        Check(
            "every series covered",
            covered == graph.n_series,
            f"{covered:,} of {graph.n_series:,} series",
        ),
    ]


def _bands(published: Forecast) -> Check:
    """Bands that do not cross, do not narrow from a lead to a later one at which as much or more is expected, and are
    nothing where the forecast is zero by decision. Ends that were drawn to whole units may be one off each, and leads
    at which the same whole number is expected need not be alike: what was expected counts as it was before that. The
    bands of a product to come are those of another one, and go with its forecast, and so do those of what planners
    changed in some periods."""
    forecast, quantiles, chosen, expected = published.mean, published.quantiles, published.chosen, published.reconciled
    adjusted = (forecast != published.statistical).any(axis=1)
    crossed = (np.diff(quantiles, axis=1) < 0).any(axis=(1, 2))
    nothing = (chosen < 0) & (forecast == 0.0).all(axis=1)
    promised = nothing & (quantiles != 0.0).any(axis=(1, 2))
    narrowing = np.zeros(len(forecast), dtype=bool)
    width = quantiles[:, -1] - quantiles[:, 0]
    whole = (quantiles == np.round(quantiles)).all(axis=(1, 2))
    slack = np.where(whole, 2.0, 0.0)[:, None] + 1e-9 * np.abs(width)
    over = (forecast == 0.0) & (width == 0.0)  # a lead at which nothing is sold, such as after the end of a season
    for later in range(1, forecast.shape[1]):
        as_much = (expected[:, later, None] >= expected[:, :later]) & ~over[:, later, None]
        narrowing |= (as_much & (width[:, later, None] < width[:, :later] - slack[:, :later])).any(axis=1)
    narrowing &= (chosen >= 0) & ~adjusted
    faults = {
        "crossing bands": int(crossed.sum()),
        "bands that narrow with the lead": int(narrowing.sum()),
        "a band though they are zero by decision": int(promised.sum()),
    }
    said = [f"{number:,} nodes with {what}" for what, number in faults.items() if number]
    return Check("bands ordered and plausible", not said, ", ".join(said) or f"{len(forecast):,} nodes")
