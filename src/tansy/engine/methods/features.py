"""What a learner is told of a series, at one of its periods and for one of the leads after it.

All of it is relative to the series' own level at that period, so that what is learned on one series holds for others:
a value of 1 is what was sold in the mean of the last season.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Integers = NDArray[np.int64]

Columns = dict[tuple[str, str], Floats]
"""What cells are told, [cells] each, by the sort of knowledge, which is the name of a driver or one of the below in a
planner's words, and by what it is of that sort."""
RECENT, EARLIER = "recent demand", "the same time of earlier seasons"
SEASON, AGE = "season of its group, time of year", "spread, empty periods, age"
SIZE, LEAD = "size and level of the structure", "how far ahead"
AHEAD, AGAINST_MEAN, AGAINST_SEASON = "ahead", "against the last season's mean", "against the season before"
"""Of a driver."""

_BLOCK = 8192  # series whose sums are at hand at a time
_SINGLE = 3
"""Last values told one by one, and seasons back."""
_SHORT, _MIDDLE = 4, 8
_WIDTHS = (8, 13, 26)
_LEAST_SHARE = 0.05  # of the usual level: less stands for nothing in a ratio


@dataclass(frozen=True)
class _Running:
    """Sums of values [series, T] up to each period, and how many of them were known, [series, T + 1] each."""

    total: Floats
    known: NDArray[np.int32]

    @classmethod
    def of(cls, values: Floats, known: NDArray[np.int32] | None = None) -> _Running:
        """known: where another one of the same shape counted the same already."""
        seen = ~np.isnan(values)
        if known is None:
            known = _summed(seen, np.dtype(np.int32))
        return cls(_summed(np.where(seen, values, 0.0), np.dtype(np.float64)), known)

    def mean(self, rows: Integers, start: Integers, stop: Integers) -> Floats:
        """Means over the periods start..stop of each row, NaN where none is known; beyond the ends nothing is."""
        last = self.total.shape[1] - 1
        a, b = np.clip(start, 0, last), np.clip(stop, 0, last)
        count = self.known[rows, b] - self.known[rows, a]
        total = self.total[rows, b] - self.total[rows, a]
        return np.divide(total, count, out=np.full(len(rows), np.nan), where=count > 0.0)


def _summed(values: NDArray[Any], kind: np.dtype[Any]) -> NDArray[Any]:
    found = np.zeros((len(values), values.shape[1] + 1), dtype=kind)
    np.cumsum(values, axis=1, dtype=kind, out=found[:, 1:])
    return found


def reach_of(drivers: Mapping[str, Floats], n_past: int, horizon: int) -> dict[str, int]:
    """For how many leads each driver [series, T or more] is planned: until fewer than half as many series know it as in
    the last periods."""
    found = {}
    for name, one in drivers.items():
        known = np.isfinite(one)
        usual = known[:, max(0, n_past - horizon) : n_past].mean() if n_past else 0.0
        enough = known[:, n_past : n_past + horizon].mean(axis=0) >= max(0.5 * usual, 1e-9)
        found[name] = len(enough) if enough.all() else int(np.argmin(enough))
    return found


def stacked(columns: Columns) -> Singles:
    """[cells, columns]."""
    return np.stack(list(columns.values()), axis=1).astype(np.float32)


@dataclass(frozen=True)
class _Seasons:
    """length: periods of the one that is told, at least `_SHORT`; all: it, and the year where that is longer; usual:
    periods whose mean is the level, a season, of short ones up to four."""

    length: int
    all: tuple[int, ...]
    usual: int

    @classmethod
    def of(cls, timeline: Timeline) -> _Seasons:
        year = round(PERIODS_PER_YEAR[timeline.frequency])
        length = max(timeline.season_length, _SHORT)
        return cls(length, (length, year) if year > length else (length,), max(length, min(year, 4 * length)))


class Told:
    """Makes the columns of a panel.

    values: [series, T], NaN missing. drivers: per name [series, T or more], NaN not known; reach: for how many leads
    each is planned, beyond which nothing is told of it, at no period: what was not planned that far ahead then either
    would be missed when it counts. profiles: [groups, T + H or more], seasons as factors about one; group_of: [series],
    the one of each. level_of: [series], its level of the structure.
    """

    def __init__(
        self, values: Floats, timeline: Timeline, drivers: Mapping[str, Floats], reach: Mapping[str, int],
        profiles: Floats, group_of: Integers, level_of: Integers,
    ) -> None:  # fmt: skip
        self._given = values, timeline, drivers, reach, profiles, group_of, level_of
        self.usual = _Seasons.of(timeline).usual
        self._sums = _Running.of(values)
        self.logged: dict[str, bool] = {}
        """Per driver, whether its columns are logarithms."""
        for name, one in drivers.items():
            past = one[:, : values.shape[1]]
            self.logged[name] = bool((past[np.isfinite(past)] > 0.0).all())
        self._at_hand: tuple[int, _Rows] | None = None

    def level(self, rows: Integers, at: Integers) -> Floats:
        """Mean of each row over the last season when `at` periods had been seen; NaN where nothing was known."""
        return self._sums.mean(rows, at - self.usual, at)

    def named(self, rows: Integers, at: Integers, lead: Integers, level: Floats) -> Columns:
        """Of the series `rows`, when `at` periods had been seen, for the lead, from 1 on, [cells] each.

        Sums of a block of series are at hand at a time: those of all would take more memory than all else of a study.
        """
        block, found = rows // _BLOCK, Columns()
        for k in np.unique(block).tolist():
            here = np.nonzero(block == k)[0]
            own = self._block(k).named(rows[here] - k * _BLOCK, at[here], lead[here], level[here])
            for name, values in own.items():
                found.setdefault(name, np.empty(len(rows)))[here] = values
        return found

    def _block(self, k: int) -> _Rows:
        if self._at_hand is None or self._at_hand[0] != k:
            values, timeline, drivers, reach, profiles, group_of, level_of = self._given
            own = slice(k * _BLOCK, (k + 1) * _BLOCK)
            sums = _Running(self._sums.total[own], self._sums.known[own])
            of_drivers = {name: (one[own], self.logged[name], reach[name]) for name, one in drivers.items()}
            rows = _Rows(values[own], sums, timeline, of_drivers, profiles, group_of[own], level_of[own])
            self._at_hand = k, rows
        return self._at_hand[1]


class _Rows:
    """What `Told` is of some series. drivers: per name values, whether to take logarithms, and its reach."""

    def __init__(
        self, values: Floats, sums: _Running, timeline: Timeline, drivers: Mapping[str, tuple[Floats, bool, int]],
        profiles: Floats, group_of: Integers, level_of: Integers,
    ) -> None:  # fmt: skip
        self._values, self._timeline, self._profiles = values, timeline, profiles
        self._group_of, self._level_of = group_of, level_of
        seasons = _Seasons.of(timeline)
        self._season, self._seasons, self.usual = seasons.length, seasons.all, seasons.usual
        self._sums = sums
        self._squares = _Running.of(values**2, sums.known)
        self._empty = _Running.of(np.where(np.isnan(values), np.nan, values == 0.0), sums.known)
        self._season_sums = _Running.of(profiles)
        sold = np.nan_to_num(values) != 0.0
        at = np.arange(values.shape[1], dtype=np.int32)
        self._last_sold = np.maximum.accumulate(np.where(sold, at, -1), axis=1)
        self._began = np.where(sold.any(axis=1), np.argmax(sold, axis=1), values.shape[1])
        self._drivers: dict[str, tuple[Floats, _Running, int]] = {}
        for name, (one, logged, reach) in drivers.items():
            scaled = np.log(np.where(one > 0.0, one, np.nan)) if logged else one
            self._drivers[name] = (scaled, _Running.of(scaled), reach)

    def named(self, rows: Integers, at: Integers, lead: Integers, level: Floats) -> Columns:
        target = at + lead - 1
        now = np.clip(at - 1, 0, self._values.shape[1] - 1)
        found: Columns = {
            (LEAD, "lead"): np.asarray(lead + 0.0),
            (SIZE, "size"): np.asarray(np.log(level)),
            (SIZE, "level"): np.asarray(self._level_of[rows] + 0.0),
        }
        for k in range(_SINGLE):
            found[RECENT, f"value {k + 1} back"] = self._values[rows, np.maximum(now - k, 0)] / level
        for width in sorted({_SHORT, *_WIDTHS, self._season, 2 * self._season}):
            found[RECENT, f"mean of the last {width}"] = self._sums.mean(rows, at - width, at) / level
        usual = at - self.usual
        spread = self._squares.mean(rows, usual, at) / level**2 - 1.0
        found[AGE, "spread over the last season"] = np.asarray(np.sqrt(np.maximum(spread, 0.0)))
        found[AGE, f"share of empty periods in the last {_MIDDLE}"] = self._empty.mean(rows, at - _MIDDLE, at)
        found[AGE, "share of empty periods in the last season"] = self._empty.mean(rows, usual, at)
        found[AGE, "periods since the last sale"] = np.asarray(at - 1.0 - self._last_sold[rows, now])
        found[AGE, "periods since the first sale"] = at - 0.0 - self._began[rows]
        found |= self._earlier_seasons(rows, at, lead, level)
        group = self._group_of[rows]
        season, short = self._profiles[group, target], self._season_sums.mean(group, at - _SHORT, at)
        whole = self._season_sums.mean(group, usual, at)
        found[SEASON, "season of its group"] = season / np.maximum(whole, _LEAST_SHARE)
        recent = self._sums.mean(rows, at - _SHORT, at) / level
        found[SEASON, "last periods, moved on by it"] = season / np.maximum(short, _LEAST_SHARE) * recent
        period = self._timeline.first + target
        found[SEASON, "time of year"] = np.mod(period, PERIODS_PER_YEAR[self._timeline.frequency])
        if self._timeline.frequency == "D":
            found[SEASON, "day of the week"] = np.mod(period, 7) + 0.0
        for name in self._drivers:
            found |= self._driver(name, rows, at, lead)
        return found

    def _earlier_seasons(self, rows: Integers, at: Integers, lead: Integers, level: Floats) -> Columns:
        """The same time of earlier seasons, and how much higher the series stands now than it did then."""
        found, target = Columns(), at + lead - 1
        for k in range(1, _SINGLE + 1):
            back = target - k * self._season * (-(-lead // self._season))
            found[EARLIER, f"same period {k} seasons back"] = self._sums.mean(rows, back, back + 1) / level
        now = self._sums.mean(rows, at - _MIDDLE, at) / level
        for length in self._seasons:
            ago = length * (-(-lead // length))
            wide = 1 if length == self._season else 3
            around = self._sums.mean(rows, target - ago - wide, target - ago + wide + 1) / level
            then = self._sums.mean(rows, at - ago - _MIDDLE, at - ago) / level
            found[EARLIER, f"around the same period {length} back"] = around
            grown = around / np.maximum(then, _LEAST_SHARE) * now
            found[EARLIER, f"the same, moved on by growth since, {length} back"] = grown
        return found

    def _driver(self, name: str, rows: Integers, at: Integers, lead: Integers) -> Columns:
        scaled, sums, reach = self._drivers[name]
        target, last = at + lead - 1, scaled.shape[1] - 1
        planned = (lead <= reach) & (target <= last)
        ahead = np.where(planned, scaled[rows, np.minimum(target, last)], np.nan)
        usual = sums.mean(rows, at - self.usual, at)
        back = target - self._season * (-(-lead // self._season))
        then = np.where(back >= 0, scaled[rows, np.maximum(back, 0)], np.nan)
        return {
            (name, AHEAD): ahead,
            (name, AGAINST_MEAN): ahead - usual,
            (name, "of the last periods against that"): sums.mean(rows, at - _SHORT, at) - usual,
            (name, AGAINST_SEASON): ahead - then,
        }
