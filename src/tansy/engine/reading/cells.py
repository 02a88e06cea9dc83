"""Rows -> a matrix of series and periods: numbering series, putting rows for the same cell together, filling gaps."""

from __future__ import annotations

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.engine.panel import filled_inside
from tansy.engine.reading.findings import Example, Finding
from tansy.engine.residue import without_residue
from tansy.engine.timeline import NOUN, Timeline

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

NO_KEY = "series"

_GAP_WORDS = {
    "zero": "count as zero",
    "unknown": "count as unknown",
    "interpolate": "lie on a line between their neighbours",
}


def number_series(
    table: pl.DataFrame, key_names: tuple[str, ...]
) -> tuple[Integers, dict[str, list[str]], NDArray[np.bool_]]:
    """Series number of every row, the key of every series in sorted order, and which rows have all keys."""
    if key_names == (NO_KEY,) and NO_KEY not in table.columns:
        return np.zeros(table.height, dtype=np.int64), {NO_KEY: ["all"]}, np.ones(table.height, dtype=bool)
    code = np.zeros(table.height, dtype=np.int64)
    present = np.ones(table.height, dtype=bool)
    names: list[list[str]] = []
    for key in key_names:
        column = table[key].str.strip_chars()
        distinct = column.unique().sort().to_list()
        enum = column.cast(pl.Enum(distinct)).to_physical().to_numpy().astype(np.int64)
        code = code * len(distinct) + enum
        present &= np.asarray(column != "")
        names.append(distinct)
    kept, inverse = np.unique(code[present], return_inverse=True)
    series = np.zeros(table.height, dtype=np.int64)
    series[present] = inverse
    keys: dict[str, list[str]] = {}
    rest = kept
    for key, distinct in zip(reversed(key_names), reversed(names), strict=True):
        keys[key] = [distinct[i] for i in (rest % len(distinct)).tolist()]
        rest = rest // len(distinct)
    return series, {key: keys[key] for key in key_names}, present


def scatter(
    series: Integers,
    period: Integers,
    value: NDArray[np.float64],
    n_series: int,
    n_periods: int,
    duplicates: str,
) -> tuple[NDArray[np.float64], NDArray[np.bool_], Integers, Integers]:
    """Rows -> matrix [series, periods]; which cells have a row; the rows that repeat an earlier cell; and those that
    are passed over for another one of the same cell."""
    size = n_series * n_periods
    cell = series * n_periods + period
    rows = np.bincount(cell, minlength=size)
    twice = passed_over = np.empty(0, dtype=np.int64)
    if (rows > 1).any():
        order = np.argsort(cell, kind="stable")
        again = cell[order][1:] == cell[order][:-1]
        twice = np.sort(order[1:][again])
        if duplicates == "first":
            passed_over = twice
        elif duplicates == "last":
            passed_over = np.sort(order[:-1][again])
    if duplicates in ("sum", "mean"):
        seen = ~np.isnan(value)
        total: NDArray[np.float64] = np.bincount(cell[seen], weights=value[seen], minlength=size).astype(np.float64)
        if (value[seen] < 0.0).any():
            gross = np.bincount(cell[seen], weights=np.abs(value[seen]), minlength=size).astype(np.float64)
            total = without_residue(total, gross)
        count = np.bincount(cell[seen], minlength=size)
        if duplicates == "mean":
            total = total / np.maximum(count, 1)
        matrix = np.where(count > 0, total, np.nan)
    else:
        matrix = np.full(size, np.nan)
        backwards = -1 if duplicates == "first" else 1
        matrix[cell[::backwards]] = value[::backwards]  # of a repeated cell the last written stays
    shape = (n_series, n_periods)
    return matrix.reshape(shape), (rows > 0).reshape(shape), twice, passed_over


def sum_up(values: Floats, has_row: Booleans, coarse: Integers) -> tuple[Floats, Booleans]:
    """Add up periods that have the same number in `coarse` [periods], which does not fall. NaN counts nothing, unless
    all of a coarse period is NaN."""
    starts = np.nonzero(np.diff(coarse, prepend=coarse[0] - 1))[0]
    seen = ~np.isnan(values)
    parts = np.where(seen, values, 0.0)
    total = np.add.reduceat(parts, starts, axis=1)
    if (parts < 0.0).any():
        total = without_residue(total, np.add.reduceat(np.abs(parts), starts, axis=1))
    known = np.logical_or.reduceat(seen, starts, axis=1)
    return np.where(known, total, np.nan), np.logical_or.reduceat(has_row, starts, axis=1)


def fill_gaps(
    values: Floats, has_row: Booleans, timeline: Timeline, gaps: str, keys: dict[str, list[str]]
) -> tuple[Floats, list[Finding]]:
    """Fill missing rows as the planner says, and say which there are.

    A series counts nothing before its first row. After its last row it is zero or unknown, as its gaps are.
    """
    length = timeline.n_periods
    first = np.argmax(has_row, axis=1)
    last = length - 1 - np.argmax(has_row[:, ::-1], axis=1)
    t = np.arange(length)
    inside = ~has_row & (t > first[:, None]) & (t < last[:, None])
    after = ~has_row & (t > last[:, None])
    labels = timeline.labels
    columns = list(keys.values())

    def name(i: int) -> str:
        return " × ".join(column[i] for column in columns)

    def of_series(kind: str, remedy: str, bad: Booleans, at: Integers) -> list[Finding]:
        which = np.nonzero(bad)[0]
        examples = [Example(0, name(i), labels[int(at[i])]) for i in which[:3].tolist()]
        return [Finding(kind, len(which), remedy, examples)] if len(which) else []

    result: list[Finding] = []
    n_gaps = int(inside.sum())
    if n_gaps:
        row = np.nonzero(inside.any(axis=1))[0][:3]
        pairs = [(i, t) for i in row.tolist() for t in np.nonzero(inside[i])[0].tolist()][:3]
        examples = [Example(0, name(i), labels[j]) for i, j in pairs]
        result.append(Finding("gap", n_gaps, f"missing {NOUN[timeline.frequency]}s {_GAP_WORDS[gaps]}", examples))
    result += of_series("late-start", "nothing is assumed before the first row", first > 0, first)
    meaning = "zero" if gaps == "zero" else "unknown"
    result += of_series("early-end", f"periods after the last row count as {meaning}", last < length - 1, last)
    if gaps == "zero":
        values = np.where(inside | after, 0.0, values)
    elif gaps == "interpolate":
        values = np.where(inside, filled_inside(values), values)
    return values, result


def is_unfinished(has_row: Booleans) -> bool:
    """Whether the last period has so few rows as no other period had beside the eight before it, and less than half."""
    rows = has_row.sum(axis=0).astype(np.float64)
    if len(rows) < 10:
        return False
    before = np.lib.stride_tricks.sliding_window_view(rows, 8)[:-1]
    ratio = rows[8:] / np.maximum(np.median(before, axis=1), 1.0)
    return bool(ratio[-1] < 0.5 and ratio[-1] < 0.8 * ratio[:-1].min(initial=1.0))
