"""Corrected history: what was received stays, what methods see is made from it and from the corrections."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.cleaning.rules import RULES, Rules
from tansy.engine.cleaning.suspicious import Suspicions, find_suspicious
from tansy.engine.panel import Panel

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]
Integers = NDArray[np.int64]

UNKNOWN_BECAUSE = ("stock-out", "closure")
"""Reasons for which a value tells nothing about demand, so that no forecast is judged by it."""


@dataclass(frozen=True)
class MovedVolume:
    """What corrections did to the volume of a group: values changed, units added, taken away, and made unknown."""

    name: str
    count: int
    added: float
    removed: float
    unknown: float


@dataclass(frozen=True)
class Corrections:
    """One entry per changed value, all arrays [n]. series, period: where. value: what methods see, NaN for unknown.
    unjudged: no forecast is scored in this period either (stock-outs and closures). reason, score: for the report."""

    series: Integers
    period: Integers
    value: Floats
    unjudged: Booleans
    reason: tuple[str, ...]
    score: Floats

    def __len__(self) -> int:
        return len(self.series)

    @classmethod
    def none(cls) -> Corrections:
        empty = np.empty(0, dtype=np.int64)
        return cls(empty, empty, np.empty(0), np.empty(0, dtype=bool), (), np.empty(0))

    def and_then(self, later: Corrections) -> Corrections:
        """Both together; where both change the same value, this one stays."""
        mine = set(zip(self.series.tolist(), self.period.tolist(), strict=True))
        pairs = zip(later.series.tolist(), later.period.tolist(), strict=True)
        new = np.array([pair not in mine for pair in pairs], dtype=bool)
        return Corrections(
            np.concatenate([self.series, later.series[new]]),
            np.concatenate([self.period, later.period[new]]),
            np.concatenate([self.value, later.value[new]]),
            np.concatenate([self.unjudged, later.unjudged[new]]),
            self.reason + tuple(r for r, n in zip(later.reason, new.tolist(), strict=True) if n),
            np.concatenate([self.score, later.score[new]]),
        )

    def until(self, n_periods: int) -> Corrections:
        """Those of the first `n_periods` periods."""
        if not len(self) or self.period.max() < n_periods:
            return self
        inside = self.period < n_periods
        return Corrections(
            self.series[inside],
            self.period[inside],
            self.value[inside],
            self.unjudged[inside],
            tuple(reason for reason, stays in zip(self.reason, inside.tolist(), strict=True) if stays),
            self.score[inside],
        )

    def moved(self, panel: Panel, groups: list[str]) -> list[MovedVolume]:
        """What the corrections did to the volume of each group, the most changed first. panel: as received; groups: of
        every series."""
        if not len(self):
            return []
        received = np.nan_to_num(panel.values[self.series, self.period])
        lost = np.isnan(self.value)
        step = np.where(lost, 0.0, self.value - received)
        names, codes, count = np.unique(
            np.array([groups[i] for i in self.series.tolist()], dtype=object), return_inverse=True, return_counts=True
        )
        parts = (np.maximum(step, 0.0), np.maximum(-step, 0.0), np.where(lost, received, 0.0))
        added, removed, unknown = (np.bincount(codes, weights=part, minlength=len(names)) for part in parts)
        order = np.argsort(-(added + removed + unknown), kind="stable")
        return [
            MovedVolume(str(names[g]), int(count[g]), float(added[g]), float(removed[g]), float(unknown[g]))
            for g in order.tolist()
        ]

    def corrected(self, panel: Panel) -> Panel:
        """What methods see."""
        if not len(self):
            return panel
        values = panel.values.copy()
        values[self.series, self.period] = self.value
        return replace(panel, values=values)

    def judged(self, panel: Panel) -> Panel:
        """What forecasts are scored against: history as received, without stock-outs and closures."""
        if not self.unjudged.any():
            return panel
        values = panel.values.copy()
        values[self.series[self.unjudged], self.period[self.unjudged]] = np.nan
        return replace(panel, values=values)


def from_suspicions(found: Suspicions, replacement: str) -> Corrections:
    """Corrections for every period of every suspicion that is a change. Where a wild value lies in a run of another
    rule, the one whose rule comes first in RULES stands."""
    found = found.where(found.is_change())
    found = found.where(np.argsort(found.rule, kind="stable"))
    which = np.repeat(np.arange(len(found)), found.length)
    step = np.arange(len(which)) - np.repeat(np.cumsum(found.length) - found.length, found.length)
    cell = np.stack([found.series[which], found.start[which] + step], axis=1)
    _, first = np.unique(cell, axis=0, return_index=True)  # in the order of series and period
    which, step = which[first], step[first]
    stock = np.isin(found.rule, [RULES.index("zero-run"), RULES.index("out-of-stock")])
    return Corrections(
        series=found.series[which],
        period=found.start[which] + step,
        value=found.proposal(replacement)[which],
        unjudged=stock[which],
        reason=tuple(RULES[rule] for rule in found.rule[which].tolist()),
        score=found.score[which],
    )


def by_rules(panel: Panel, rules: Rules | None, levels: dict[str, list[str]]) -> Corrections:
    """Corrections that the recipe's rules make by themselves; none unless the recipe says above which score."""
    if rules is None or rules.accept_above is None:
        return Corrections.none()
    found = find_suspicious(panel, rules, levels)
    return from_suspicions(found.where(found.score >= rules.accept_above), rules.replace)
