"""What moved a forecast from one time to another: each series' change told apart by its cause, adding up exactly."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

GONE, COME, METHOD, CORRECTIONS, DRIVERS, ACTUALS, LEVELS, ADJUSTMENTS = PARTS = (
    "series that are gone", "series that have come", "another method was chosen", "past values corrected or revised",
    "drivers planned otherwise", "what actuals since have taught", "what other levels and rounding did",
    "what planners changed",
)  # fmt: skip
"""Causes, as they are said to people."""


@dataclass(frozen=True, eq=False)
class Side:
    """A forecast of series over some periods. ids: of the series. base: [series, L], by each series' own method.
    statistical: after reconciliation and rounding; forecast: after what planners changed. method: text per series,
    empty where it is zero by decision. history: [series, T], as methods saw it, over periods that both sides know.
    drivers: per name [series, L], of the periods forecast."""

    ids: list[str]
    base: Floats
    statistical: Floats
    forecast: Floats
    method: list[str]
    history: Floats
    drivers: Mapping[str, Floats]


@dataclass(frozen=True, eq=False)
class Part:
    """A cause: what it changes in all, how many series, and which of them most (`largest`)."""

    name: str
    change: float
    n_series: int
    largest: Integers


@dataclass(frozen=True, eq=False)
class Bridge:
    """changes: [parts, series], what each part changes of each series, in the order of PARTS; series that are on both
    sides first, as `after` has them, then those gone. ids: of these series. before, after: [series], sums over the
    periods, 0 where a series is not."""

    ids: list[str]
    changes: Floats
    before: Floats
    after: Floats

    def parts(self, inside: Booleans, most: int) -> list[Part]:
        """What each part changes of the series `inside` [series], in the order of PARTS; they add up to the change."""
        return [
            Part(name, float(own[inside].sum()), int(np.count_nonzero(own[inside])), self._largest(own, inside, most))
            for name, own in zip(PARTS, self.changes, strict=True)
        ]

    def movers(self, inside: Booleans, most: int) -> Integers:
        """The series that move most, whatever moves them."""
        return self._largest(self.after - self.before, inside, most)

    def because(self, series: int) -> str:
        """The part that moves a series most."""
        return PARTS[int(np.argmax(np.abs(self.changes[:, series])))]

    @staticmethod
    def _largest(change: Floats, inside: Booleans, most: int) -> Integers:
        at = np.nonzero(inside & (change != 0.0))[0]
        return np.asarray(at[np.argsort(-np.abs(change[at]), kind="stable")][:most])


def bridge(before: Side, after: Side) -> Bridge:
    """The change of every series, told apart.

    What planners changed, and what other levels and rounding did, stand by themselves. What is left is the change of
    the series' own forecast, and goes whole to the first of these that holds: it has another method; values that both
    sides know differ; a driver is planned otherwise; else it is what the actuals since have taught.
    """
    at = {name: i for i, name in enumerate(before.ids)}
    old = np.array([at.get(name, -1) for name in after.ids], dtype=np.int64)
    here = set(after.ids)
    gone = np.array([i for i, name in enumerate(before.ids) if name not in here], dtype=np.int64)
    n = len(after.ids)
    changes = np.zeros((len(PARTS), n + len(gone)))
    came, both = old < 0, np.nonzero(old >= 0)[0]
    was = old[both]
    now = after.forecast.sum(axis=1)
    changes[PARTS.index(COME), :n][came] = now[came]
    changes[PARTS.index(GONE), n:] = -before.forecast[gone].sum(axis=1)

    def change(a: Floats, b: Floats, c: Floats, d: Floats) -> Floats:
        """Of a step from b to a after, and from d to c before."""
        return np.asarray((a[both] - b[both]).sum(axis=1) - (c[was] - d[was]).sum(axis=1))

    changes[PARTS.index(ADJUSTMENTS), both] = change(
        after.forecast, after.statistical, before.forecast, before.statistical
    )
    changes[PARTS.index(LEVELS), both] = change(after.statistical, after.base, before.statistical, before.base)
    own = after.base[both].sum(axis=1) - before.base[was].sum(axis=1)
    why = _why(before, after, both, was)
    for part in (METHOD, CORRECTIONS, DRIVERS, ACTUALS):
        changes[PARTS.index(part), both] += np.where(why == PARTS.index(part), own, 0.0)
    first = np.zeros(n + len(gone))
    first[both], first[n:] = before.forecast[was].sum(axis=1), before.forecast[gone].sum(axis=1)
    last = np.concatenate([now, np.zeros(len(gone))])
    return Bridge([*after.ids, *(before.ids[i] for i in gone.tolist())], changes, first, last)


def _why(before: Side, after: Side, both: Integers, was: Integers) -> Integers:
    """The part that each series' own change goes to, [both]."""
    pairs = zip(both.tolist(), was.tolist(), strict=True)
    method = np.array([after.method[i] != before.method[j] for i, j in pairs], dtype=bool)
    corrected = _differ(after.history[both], before.history[was])
    driven = np.zeros(len(both), dtype=bool)
    for name in after.drivers.keys() & before.drivers.keys():
        driven |= _differ(after.drivers[name][both], before.drivers[name][was])
    if after.drivers.keys() != before.drivers.keys():
        driven[:] = True
    found = np.full(len(both), PARTS.index(ACTUALS), dtype=np.int64)
    for part, where in ((DRIVERS, driven), (CORRECTIONS, corrected), (METHOD, method)):
        found[where] = PARTS.index(part)
    return found


def _differ(one: Floats, other: Floats) -> Booleans:
    return np.asarray(~((one == other) | (np.isnan(one) & np.isnan(other))).all(axis=1))
