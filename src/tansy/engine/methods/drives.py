"""What a learner goes by, found by asking it otherwise.

How much each sort of knowledge matters: its columns are shuffled among cells, and the error grows (permutation
importance: Breiman 2001). What a driver does: it is set to other values, all else as it was, and the forecasts of all
cells change (partial dependence: Friedman 2001). Both on cells of series that were not learned from.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.features import AGAINST_MEAN, AGAINST_SEASON, AHEAD, Columns

Floats = NDArray[np.float64]

_SEED = 7
_FEW_VALUES = 6  # a driver with no more of them is set to each
_COMMON = 0.1  # share of cells with one value from which on that is the usual one; else the median is
_INNER = (0.02, 0.98)  # quantiles of what a driver was within which it is set
_PERCENT = (-50.0, -40.0, -30.0, -20.0, -15.0, -10.0, -5.0, 0.0, 5.0, 10.0, 15.0, 20.0, 30.0, 40.0, 50.0)


@dataclass(frozen=True)
class Drives:
    """groups: sorts of knowledge, in a planner's words; worse: [groups], by how many percent the root of the mean
    squared error grows without each. drivers: those whose values were set; relative: [drivers], whether to percent more
    or less than usual, else to values. effects: [points, 3], position of the driver, what it was set to, and by how
    many percent more is expected then than at its usual value."""

    groups: tuple[str, ...]
    worse: Floats
    drivers: tuple[str, ...]
    relative: NDArray[np.bool_]
    effects: Floats


NOTHING = Drives((), np.empty(0), (), np.empty(0, dtype=bool), np.empty((0, 3)))


def drives_of(
    predict: Callable[[Columns], Floats], columns: Columns, value: Floats, level: Floats, weight: Floats,
    logged: Mapping[str, bool],
) -> Drives:  # fmt: skip
    """predict: value over level of cells from their columns, as `Told.named` makes them. value, level, weight: [cells],
    the latter of squared errors over the level. logged: per driver, whether its columns are logarithms."""
    if len(value) < 2:
        return NOTHING
    groups = tuple(dict.fromkeys(sort for sort, _ in columns))
    order = np.random.default_rng(_SEED).permutation(len(value))

    def error(found: Floats) -> float:
        return float(np.sqrt(np.mean(weight * (value / level - found) ** 2)))

    usual = error(predict(columns))
    worse = []
    for group in groups:
        shuffled = {name: values[order] if name[0] == group else values for name, values in columns.items()}
        worse.append(100.0 * (error(predict(shuffled)) / usual - 1.0) if usual > 0.0 else 0.0)
    drivers: list[str] = []
    relative: list[bool] = []
    points: list[tuple[float, float, float]] = []
    for name, log in logged.items():
        known = ~np.isnan(columns[name, AHEAD])
        own = {one: values[known] for one, values in columns.items()}
        found = _effect(predict, own, level[known], name, log) if known.any() else None
        if found is not None:
            points += [(float(len(drivers)), at, change) for at, change in found[1]]
            drivers.append(name)
            relative.append(found[0])
    return Drives(
        groups, np.array(worse), tuple(drivers), np.array(relative, dtype=bool),
        np.array(points).reshape(-1, 3),
    )  # fmt: skip


def _effect(
    predict: Callable[[Columns], Floats], columns: Columns, level: Floats, name: str, log: bool
) -> tuple[bool, list[tuple[float, float]]] | None:
    """Whether in percent of the usual, and (set to, change in percent); None of a driver that hardly ever changes."""
    was = columns[name, AHEAD]
    usual, then = was - columns[name, AGAINST_MEAN], was - columns[name, AGAINST_SEASON]
    values, counts = np.unique(was, return_counts=True)
    relative = log and len(values) > _FEW_VALUES

    def expected(ahead: Floats) -> float:
        against = {(name, AHEAD): ahead, (name, AGAINST_MEAN): ahead - usual, (name, AGAINST_SEASON): ahead - then}
        return float((predict({**columns, **against}) * level).sum())

    if relative:
        moved = 100.0 * np.expm1(was - usual)
        low, high = np.nanquantile(moved, _INNER) if (~np.isnan(moved)).any() else (0.0, 0.0)
        at = [one for one in _PERCENT if min(low, 0.0) <= one <= max(high, 0.0)]
        sums = [expected(usual + np.log1p(one / 100.0)) for one in at]
        base = at.index(0.0)
    else:
        common = values[np.argmax(counts)] if counts.max() > _COMMON * len(level) else np.median(was)
        if len(values) > _FEW_VALUES:
            values = np.unique([*np.quantile(was, np.linspace(*_INNER, _FEW_VALUES)), common])
        at = [float(np.exp(one)) if log else float(one) for one in values]
        sums = [expected(np.full(len(level), one)) for one in values]
        base = int(np.argmin(np.abs(values - common)))
    if len(at) < 2 or sums[base] <= 0.0:
        return None
    return relative, [(one, 100.0 * (total / sums[base] - 1.0)) for one, total in zip(at, sums, strict=True)]
