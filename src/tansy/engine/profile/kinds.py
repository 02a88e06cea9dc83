"""Kinds of demand (`methods.md`; the four by interval and variation after Syntetos, Boylan, Croston 2005)."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.kernels import demand as kernel
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

NAMES = ("smooth", "erratic", "intermittent", "lumpy")
MOVABLE = (*NAMES, "in season only", "new", "ended")
"""Kinds that a person may give to a series by hand."""
INTERVAL_BOUND = 1.32
VARIATION_BOUND = 0.49

_BINS = {"D": 52, "W": 52, "4W": 13, "M": 12, "Q": 4, "Y": 1, "N": 1}
_MARGIN = {"D": 2, "W": 2, "4W": 1, "M": 1, "Q": 0, "Y": 0, "N": 0}


@dataclass(frozen=True)
class Kinds:
    """Of each series. demand: position in NAMES, -1 without two sales. new: less than a season since the first sale;
    ended: no sale for the chosen number of periods. The figures are those of `kernels.demand`: interval and variation
    tell the four kinds apart, empty is a share, window the length of the season of what is sold in season only, as are
    first_sale and last_sale, positions. in_season: [series, H], whether a period ahead may lie in the season."""

    demand: NDArray[np.int64]
    seasonal: Booleans
    in_season_only: Booleans
    new: Booleans
    ended: Booleans
    interval: Floats
    variation: Floats
    empty: Floats
    window: Floats
    first_sale: Floats
    last_sale: Floats
    in_season: Booleans

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

    @property
    def slow(self) -> Booleans:
        """Intermittent or lumpy, whatever else: there are periods without a sale between those with one."""
        return np.asarray(self.demand >= NAMES.index("intermittent"))

    def groups(self) -> dict[str, Booleans]:
        """Which series count to a kind, as screens list and filter them. What has ended counts to nothing else, and
        what is new or sold in season only not to the kinds of steady demand."""
        steady = ~(self.ended | self.new | self.in_season_only)
        return {
            **{name: (self.demand == k) & steady for k, name in enumerate(NAMES)},
            "seasonal": self.seasonal & steady,
            "in season only": self.in_season_only & ~self.ended,
            "new": self.new & ~self.ended,
            "ended": self.ended,
            "no sales": np.isnan(self.first_sale),
        }

    def moved(self, by_hand: dict[int, str]) -> Kinds:
        """With the kinds that a person gave to some series. Raises RecipeError on an unknown kind."""
        if not by_hand:
            return self
        flags = {"ended": self.ended.copy(), "new": self.new.copy(), "in season only": self.in_season_only.copy()}
        demand = self.demand.copy()
        for i, kind in by_hand.items():
            if kind not in MOVABLE:
                raise RecipeError(f"There is no kind {kind!r}; choose {', '.join(MOVABLE)}.")
            for name, flag in flags.items():
                flag[i] = name == kind
            if kind in NAMES:
                demand[i] = NAMES.index(kind)
        return replace(
            self, demand=demand, ended=flags["ended"], new=flags["new"], in_season_only=flags["in season only"]
        )


def find_kinds(values: Floats, timeline: Timeline, ended_after: int, n_ahead: int = 0) -> Kinds:
    """Kinds of the series in `values` [series, periods], NaN missing.

    ended_after: periods without a sale after which a series has ended; 0 for never. n_ahead: periods ahead for which it
    is told whether they lie in the season.
    """
    frequency = timeline.frequency
    year = PERIODS_PER_YEAR[frequency]
    position = (timeline.first + np.arange(timeline.n_periods)) / year
    n_bins = _BINS[frequency]
    pair = timeline.harmonics(1, 0)
    figures = np.empty((len(values), kernel.N_FIGURES))
    kernel.demand_figures(
        np.ascontiguousarray(values), np.ascontiguousarray(pair[:, 0]), np.ascontiguousarray(pair[:, 1]),
        position % 1.0, np.floor((position % 1.0) * n_bins).astype(np.int64), n_bins,
        np.floor(position).astype(np.int64), _MARGIN[frequency],
        round(2 * year) if n_bins > 1 else timeline.n_periods + 1, figures,
    )  # fmt: skip
    first, last, interval, variation, empty, gain, window, opens, lasts = figures.T
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
        first_sale=first,
        last_sale=last,
        in_season=_in_season(timeline, n_ahead, opens, lasts),
    )


def _in_season(timeline: Timeline, n_ahead: int, opens: Floats, lasts: Floats) -> Booleans:
    """Whether anything may be sold in the periods ahead, [series, n_ahead], give or take one period, by which calendars
    shift from year to year; always, for what is sold all year."""
    year = PERIODS_PER_YEAR[timeline.frequency]
    position = (timeline.last + 1 + np.arange(n_ahead)) / year
    slack = (1.0 if year > 12.0 else 0.0) / year + 1e-9
    with np.errstate(invalid="ignore"):
        into = (position[None, :] - opens[:, None] + slack) % 1.0
        return np.asarray(np.isnan(opens)[:, None] | (into <= lasts[:, None] + 2.0 * slack))
