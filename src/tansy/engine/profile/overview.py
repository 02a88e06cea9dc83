"""All series at once: where there is history, how it is spread, and what has moved."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

MISSING, ZERO, NEGATIVE, FIRST_TINT = 0, 1, 2, 3
N_TINTS = 6
_SAMPLE = 200_000
SHARES = (0.0, 0.1, 0.25, 0.5, 0.75, 0.9, 1.0)
"""Quantiles over series that a spread holds: the extremes, tenths, quarters and the middle."""


@dataclass(frozen=True)
class Coverage:
    """cells: uint8 [series, periods]: MISSING, ZERO, NEGATIVE, then N_TINTS classes of sale from low to high, about as
    many in each. first: [series], period of the first sale, n_periods without one. volume, empty: [series],
    sum of sales and share of periods since the first sale that are missing or zero. orders: per name, series from first
    to last row."""

    cells: NDArray[np.uint8]
    first: Integers
    volume: Floats
    empty: Floats
    orders: dict[str, Integers]


def coverage(values: Floats) -> Coverage:
    """How full history is. values: [series, periods], NaN missing."""
    n, length = values.shape
    sold = values > 0.0
    positive = values[sold]
    sample = positive[:: max(1, len(positive) // _SAMPLE)]  # the bounds of tints need no more
    bounds = np.quantile(sample, np.arange(1, N_TINTS) / N_TINTS) if len(sample) else np.zeros(N_TINTS - 1)
    cells = np.full(values.shape, MISSING, dtype=np.uint8)
    cells[values == 0.0] = ZERO
    cells[values < 0.0] = NEGATIVE
    cells[sold] = FIRST_TINT + np.searchsorted(bounds, positive, side="right")
    first = np.where(sold.any(axis=1), sold.argmax(axis=1), length).astype(np.int64)
    volume = np.nansum(values, axis=1)
    since = np.maximum(length - first, 1)
    empty = np.where(first < length, 1.0 - sold.sum(axis=1) / since, 1.0)
    at = np.arange(n)
    orders = {
        "first sale": np.lexsort((at, -volume, first)),
        "volume": np.lexsort((at, -volume)),
        "empty periods": np.lexsort((at, -volume, -empty)),
    }
    return Coverage(cells, first, volume, empty, {name: order.astype(np.int64) for name, order in orders.items()})


@dataclass(frozen=True)
class Spread:
    """units, scaled: [shares, periods], quantiles over the series with a value; scaled: of values over the mean of
    their own series, so that large ones do not hide the rest. total, count: [periods], of the series with a value."""

    units: Floats
    scaled: Floats
    total: Floats
    count: Integers


def spread(values: Floats) -> Spread:
    """Middle, spread and extremes of many series over time."""
    seen = ~np.isnan(values)
    count = seen.sum(axis=0)
    mean = np.where(seen, values, 0.0).sum(axis=1) / np.maximum(seen.sum(axis=1), 1)
    with np.errstate(divide="ignore", invalid="ignore"):
        own = np.where(mean[:, None] > 0.0, values / mean[:, None], np.nan)
    total = np.where(count > 0, np.where(seen, values, 0.0).sum(axis=0), np.nan)
    return Spread(_quantiles(values), _quantiles(own), total, count.astype(np.int64))


def _quantiles(values: Floats) -> Floats:
    """SHARES of every column without its NaNs, linearly between neighbours; by one sort."""
    ordered = np.sort(values, axis=0)
    count = (~np.isnan(values)).sum(axis=0)
    column = np.arange(values.shape[1])
    found = np.full((len(SHARES), values.shape[1]), np.nan)
    for k, share in enumerate(SHARES):
        place = share * np.maximum(count - 1, 0)
        low = np.floor(place).astype(np.int64)
        high = np.minimum(low + 1, np.maximum(count - 1, 0))
        part = place - low
        found[k] = np.where(count > 0, ordered[low, column] * (1.0 - part) + ordered[high, column] * part, np.nan)
    return found


@dataclass(frozen=True)
class Movers:
    """Per group: now, before and a year before, [groups], sums over as many periods; NaN where history is too short."""

    now: Floats
    before: Floats
    year_before: Floats


def movers(totals: Floats, n_last: int, season_length: int) -> Movers:
    """What the last `n_last` periods sold, beside the ones before and the same ones of the last season.

    totals: [groups, periods], NaN counts as nothing.
    """
    filled = np.nan_to_num(totals)
    length = totals.shape[1]

    def window(end: int) -> Floats:
        return filled[:, end - n_last : end].sum(axis=1) if end - n_last >= 0 else np.full(len(totals), np.nan)

    return Movers(window(length), window(length - n_last), window(length - season_length))


@dataclass(frozen=True)
class GroupMove:
    """What a group of series sold lately. first: position of its first series. before, year_before: None where history
    is too short for them."""

    name: str
    n_series: int
    first: int
    now: float
    before: float | None
    year_before: float | None


def group_moves(values: Floats, names: list[str], n_last: int, season_length: int) -> list[GroupMove]:
    """Groups of series by name, those that moved most first. names: of the group of each series in `values`."""
    distinct, first, codes, sizes = np.unique(
        np.array(names, dtype=object), return_index=True, return_inverse=True, return_counts=True
    )
    totals = group_totals(values, codes, len(distinct))
    moved = movers(totals, n_last, season_length)
    order = np.argsort(-np.abs(moved.now - np.nan_to_num(moved.before)), kind="stable")

    def known(value: float) -> float | None:
        return None if np.isnan(value) else float(value)

    return [
        GroupMove(
            name=str(distinct[g]),
            n_series=int(sizes[g]),
            first=int(first[g]),
            now=float(moved.now[g]),
            before=known(moved.before[g]),
            year_before=known(moved.year_before[g]),
        )
        for g in order.tolist()
    ]


def group_totals(values: Floats, codes: Integers, n_groups: int) -> Floats:
    """Sum of the series of each group, [groups, periods]; NaN only where no series has a value."""
    seen = ~np.isnan(values)
    total = np.zeros((n_groups, values.shape[1]))
    count = np.zeros_like(total)
    np.add.at(total, codes, np.where(seen, values, 0.0))
    np.add.at(count, codes, seen)
    return np.where(count > 0, total, np.nan)
