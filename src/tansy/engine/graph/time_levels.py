"""Levels of time: periods gathered into longer ones, which add up as nodes do.

Weeks make periods of four weeks, quarters of thirteen and years of fifty-two; days make weeks, four weeks and so on;
months make quarters and years. Longer periods are counted back from the last one that was seen, so that all of them are
whole at every origin, and ahead from the first lead: a level has as many blocks as fit into the leads whole.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import StructureError
from tansy.engine.panel import Panel, filled_inside
from tansy.engine.timeline import NOUN, SEASON_LENGTH, Timeline, first_day, ordinal

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]


@dataclass(frozen=True)
class TimeLevel:
    """periods: how many of the history's make one of these. frequency: that its history is fitted as."""

    name: str
    periods: int
    frequency: str

    @property
    def words(self) -> str:
        return self.name if self.name[0].isdigit() else f"a {self.name}"


_FROM_DAYS = (
    TimeLevel("week", 7, "W"),
    TimeLevel("4 weeks", 28, "4W"),
    TimeLevel("quarter", 91, "Q"),
    TimeLevel("year", 364, "Y"),
)
LEVELS: dict[str, tuple[TimeLevel, ...]] = {
    "D": _FROM_DAYS,
    "W": tuple(replace(one, periods=one.periods // 7) for one in _FROM_DAYS[1:]),
    "4W": (TimeLevel("year", 13, "Y"),),
    "M": (TimeLevel("quarter", 3, "Q"), TimeLevel("year", 12, "Y")),
    "Q": (TimeLevel("year", 4, "Y"),),
}
"""By frequency, from the finest to the coarsest. A quarter of weeks has thirteen, a year fifty-two: whole periods are
what adds up."""


def named_levels(frequency: str, names: Sequence[str], leads: int) -> tuple[TimeLevel, ...]:
    """Time levels by their names, from the finest to the coarsest. Raises StructureError where there is no such level,
    or where not one block of it fits into the leads."""
    there = {one.name: one for one in LEVELS.get(frequency, ())}
    for name in names:
        if name not in there:
            known = ", ".join(map(repr, there)) or "none"
            raise StructureError(f"There is no time level {name!r} above a {NOUN[frequency]}; there are: {known}.")
        if there[name].periods > leads:
            raise StructureError(
                f"{name!r} takes {there[name].periods} {NOUN[frequency]}s, and the forecast has {leads} leads; "
                "forecast further ahead, or leave this time level out."
            )
    return tuple(one for one in there.values() if one.name in names)


def gathered(values: Floats, periods: int) -> Floats:
    """Sums of each `periods` values, counted back from the last: [..., T] -> [..., T // periods]. NaN where one of them
    is not known."""
    n = values.shape[-1] // periods
    tail = values[..., values.shape[-1] - n * periods :]
    return np.asarray(tail.reshape(*values.shape[:-1], n, periods).sum(axis=-1))


def panel_over(panel: Panel, level: TimeLevel) -> Panel:
    """The history of a panel in longer periods, without drivers. Values that are not known between others count as the
    straight line between these."""
    values = gathered(filled_inside(panel.values), level.periods)
    return replace(panel, timeline=timeline_over(panel.timeline, level), values=values, drivers={})


def timeline_over(timeline: Timeline, level: TimeLevel) -> Timeline:
    """Of the same last day; its periods are named after those of the calendar that they overlap."""
    n = timeline.n_periods // level.periods
    last = ordinal(first_day(timeline.last, timeline.frequency), level.frequency)
    return Timeline(level.frequency, last - n + 1, n, SEASON_LENGTH[level.frequency])


@dataclass(frozen=True, eq=False)
class Blocks:
    """Blocks of all time levels ahead, those of the finest level first.

    holds: [blocks, H], one where a lead lies in a block. level: [blocks], position of its time level; n_of: blocks of
    each.
    """

    holds: Floats
    level: Integers
    n_of: tuple[int, ...]

    @classmethod
    def of(cls, levels: Sequence[TimeLevel], leads: int) -> Blocks:
        n_of = tuple(leads // one.periods for one in levels)
        at = np.arange(leads)
        holds = [at // one.periods == b for one, n in zip(levels, n_of, strict=True) for b in range(n)]
        level = np.repeat(np.arange(len(levels)), n_of)
        return cls(np.array(holds, dtype=np.float64).reshape(len(level), leads), level, n_of)

    def block_of(self, level: int) -> Integers:
        """In which block of a time level each lead lies, [H]; those that lie in none come after the last."""
        leads = self.holds.shape[1]
        first, n = sum(self.n_of[:level]), self.n_of[level]
        periods = int(self.holds[first].sum())
        return first + np.minimum(np.arange(leads) // periods, n - 1)
