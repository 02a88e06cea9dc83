"""Kinds of demand (`methods.md`; the four by interval and variation after Syntetos, Boylan, Croston 2005)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.kernels import demand as kernel
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

NAMES = ("smooth", "erratic", "intermittent", "lumpy")
INTERVAL_BOUND = 1.32
VARIATION_BOUND = 0.49

_BINS = {"D": 52, "W": 52, "4W": 13, "M": 12, "Q": 4, "Y": 1}
_MARGIN = {"D": 2, "W": 2, "4W": 1, "M": 1, "Q": 0, "Y": 0}


@dataclass(frozen=True)
class Kinds:
    """Of each series. demand: position in NAMES, -1 without two sales. new: less than a season since the first sale;
    ended: no sale for the chosen number of periods. The figures are those of `kernels.demand`: interval and variation
    tell the four kinds apart, empty is a share, window the length of the season of what is sold in season only."""

    demand: NDArray[np.int64]
    seasonal: Booleans
    in_season_only: Booleans
    new: Booleans
    ended: Booleans
    interval: Floats
    variation: Floats
    empty: Floats
    window: Floats

    def words(self, i: int) -> str:
        """The kind of series i as it is read: "seasonal, erratic"."""
        flags = {
            "ended": self.ended[i],
            "new": self.new[i],
            "in season only": self.in_season_only[i],
            "seasonal": self.seasonal[i] and not self.in_season_only[i],
        }
        found = [name for name, holds in flags.items() if holds]
        if self.demand[i] >= 0:
            found.append(NAMES[self.demand[i]])
        return ", ".join(found) or "no sales"


def find_kinds(values: Floats, timeline: Timeline, ended_after: int) -> Kinds:
    """Kinds of the series in `values` [series, periods], NaN missing.

    ended_after: periods without a sale after which a series has ended; 0 for never.
    """
    frequency = timeline.frequency
    year = PERIODS_PER_YEAR[frequency]
    position = (timeline.first + np.arange(timeline.n_periods)) / year
    n_bins = _BINS[frequency]
    pair = timeline.harmonics(1, 0)
    figures = np.empty((len(values), kernel.N_FIGURES))
    kernel.demand_figures(
        np.ascontiguousarray(values), np.ascontiguousarray(pair[:, 0]), np.ascontiguousarray(pair[:, 1]),
        np.floor((position % 1.0) * n_bins).astype(np.int64), n_bins, np.floor(position).astype(np.int64),
        _MARGIN[frequency], round(2 * year) if n_bins > 1 else timeline.n_periods + 1, figures,
    )  # fmt: skip
    first, last, interval, variation, empty, gain, window = figures.T
    sold = ~np.isnan(first)
    demand = np.where(interval < INTERVAL_BOUND, 0, 2) + (variation >= VARIATION_BOUND)
    since = timeline.n_periods - 1 - np.where(sold, last, -1.0)
    return Kinds(
        demand=np.where(np.isnan(interval), -1, demand).astype(np.int64),
        seasonal=np.nan_to_num(gain) > 0.0,
        in_season_only=~np.isnan(window) if n_bins > 1 else np.zeros(len(values), dtype=bool),
        new=sold & (timeline.n_periods - first < timeline.season_length),
        ended=sold & (since >= ended_after) if ended_after else np.zeros(len(values), dtype=bool),
        interval=interval,
        variation=variation,
        empty=empty,
        window=window,
    )
