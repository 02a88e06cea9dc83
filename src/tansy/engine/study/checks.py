"""What must hold of a forecast before it may be published."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.structure.grouping import Structure

Floats = NDArray[np.float64]

LARGEST_GAP = 1e-9


@dataclass(frozen=True)
class Check:
    """name, whether it holds, and what was found, in words."""

    name: str
    holds: bool
    found: str


def _gap_in_words(gap: float) -> str:
    return "no gap anywhere" if gap == 0.0 else f"largest gap {gap:.1e} of the parent"


def check_forecast(structure: Structure, forecast: Floats, quantiles: Floats, nonnegative: bool) -> list[Check]:
    """Adds up at every node; no negative value; bands ordered; every series covered.

    forecast: [nodes, H]; quantiles: [nodes, Q, H], ascending in Q.
    """
    gap = structure.summation.largest_gap(forecast)
    negative = int((forecast < 0).sum() + (quantiles < 0).sum())
    crossed = int((np.diff(quantiles, axis=1) < 0).any(axis=(1, 2)).sum())
    finest = slice(structure.n_aggregates, None)
    finite = np.isfinite(forecast[finest]).all(axis=1) & np.isfinite(quantiles[finest]).all(axis=(1, 2))
    covered = int(finite.sum())
    return [
        Check(
            "adds up",
            gap <= LARGEST_GAP,
            f"{structure.n_nodes:,} nodes, {_gap_in_words(gap)}",
        ),
        Check(
            "no negatives",
            negative == 0 or not nonnegative,
            f"{negative:,} negative values"
            if nonnegative
            else f"{negative:,} negative values, which the recipe allows",
        ),
        Check("bands ordered", crossed == 0, f"{crossed:,} nodes with crossing bands"),
        Check(
            "every series covered",
            covered == structure.n_series,
            f"{covered:,} of {structure.n_series:,} series",
        ),
    ]
