"""Later actuals put to a history: what is new, what was revised, which series are new or have fallen silent."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import FileError
from tansy.engine.panel import Panel
from tansy.engine.reading.history import Reading, read_panel, understand
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.table import open_table
from tansy.engine.reading.totals import is_named_total
from tansy.engine.timeline import NOUN, Timeline

Floats = NDArray[np.float64]

_SHOWN = 200


def later_options(before: ReadOptions, columns: list[str]) -> ReadOptions:
    """How a file of later actuals is read: as the file before it was, but for columns that it does not have.

    before: with every guess filled in.
    """
    known = [name for name in (before.time, before.value) if name in columns]
    said: tuple[str, ...] = ()
    if before.period_columns and set(before.period_columns) <= set(columns):  # what follows them are later ones
        after = columns[columns.index(before.period_columns[-1]) + 1 :]
        said = (*before.period_columns, *(name for name in after if not is_named_total(name)))
    return replace(
        before,
        time=before.time if before.time in known else "",
        value=before.value if before.value in known else "",
        attribute_columns=None,
        attribute_files=None,
        driver_columns=tuple(name for name in before.driver_columns or () if name in columns) or None,
        driver_files=(),
        edges_file="",
        more=(),
        sheet=None,
        layout=None,
        period_columns=said,
    )


def read_history(path: Path, options: ReadOptions, folder: Path) -> Reading:
    """Read the sales at `path` and put the files of later actuals to it that the options name."""
    reading = read_panel(path, options, folder)
    for name in options.more:
        table = open_table(folder / name)
        later = understand(table, later_options(reading.options, table.frame.columns), name)
        panel, _ = append(reading.panel, later.panel, later.has_row, later.options.gaps)
        reading = replace(reading, panel=panel, findings=reading.findings + later.findings)
    return reading


@dataclass(frozen=True)
class Revision:
    key: list[str]
    period: str
    old: float | None
    new: float | None


@dataclass(frozen=True)
class Appended:
    """new_periods: labels. n_new: values in them; total_new: their sum. revisions: the largest first, at most 200 of
    n_revised; revised_by: the sum of new less old. new_series, silent_series: keys; a silent series sold in the last
    season before the new periods and has no row in them."""

    new_periods: list[str]
    n_new: int
    total_new: float
    n_revised: int
    revised_by: float
    revisions: list[Revision] = field(default_factory=list)
    n_new_series: int = 0
    new_series: list[list[str]] = field(default_factory=list)
    n_silent: int = 0
    silent_series: list[list[str]] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        return asdict(self)


def append(old: Panel, new: Panel, has_row: NDArray[np.bool_], gaps: str) -> tuple[Panel, Appended]:
    """Put `new` to `old`. Cells with a row in `new` replace those of `old`; all others stay as they were.

    has_row: [series, periods] of `new`. gaps: what a missing row of a known series within the new periods means.
    Raises FileError where frequencies or key columns differ, or where periods would be missing in between.
    """
    before, after = old.timeline, new.timeline
    if set(old.key_names) != set(new.key_names):
        raise FileError(
            f"The file has the keys {', '.join(new.key_names)}; this portfolio has {', '.join(old.key_names)}."
        )
    if before.frequency != after.frequency:
        raise FileError(f"The file holds {NOUN[after.frequency]}s; this portfolio holds {NOUN[before.frequency]}s.")
    if after.first > before.last + 1:
        missing = before.after(after.first - before.last - 1).labels
        raise FileError(
            f"The file begins with {after.labels[0]}, but history ends with {before.labels[-1]}; "
            f"{', '.join(missing[:3])}{' and more' if len(missing) > 3 else ''} would be missing."
        )
    first = min(before.first, after.first)
    timeline = Timeline(before.frequency, first, max(before.last, after.last) - first + 1, before.season_length)
    columns = [old.keys[name] for name in old.key_names]
    place = {key: i for i, key in enumerate(zip(*columns, strict=True))}
    theirs = list(zip(*(new.keys[name] for name in old.key_names), strict=True))
    unknown = [key for key in theirs if key not in place]
    place.update({key: old.n_series + k for k, key in enumerate(unknown)})

    values = np.full((len(place), timeline.n_periods), np.nan)
    from_old = slice(before.first - first, before.last - first + 1)
    values[: old.n_series, from_old] = old.values
    row = np.array([place[key] for key in theirs], dtype=np.int64)
    in_new = slice(max(after.first, before.last + 1) - first, after.last - first + 1)
    if gaps == "zero":
        # series that had begun go on at zero where the file says nothing
        values[: old.n_series, in_new] = np.where(~np.isnan(old.values).all(axis=1), 0.0, np.nan)[:, None]
    at = after.first - first
    width = slice(at, at + after.n_periods)
    was = values[row, width]
    overlap = np.arange(at, at + after.n_periods) <= before.last - first
    values[row, width] = np.where(has_row, new.values, was)
    known = row < old.n_series
    changed = has_row & overlap & known[:, None] & ~((was == new.values) | (np.isnan(was) & np.isnan(new.values)))
    if gaps == "zero":
        begun = np.maximum.accumulate(has_row[~known], axis=1)  # a new series begins with its first row
        fresh = values[row[~known], width]
        values[row[~known], width] = np.where(begun & np.isnan(fresh), 0.0, fresh)

    keys = {name: column + [key[d] for key in unknown] for d, (name, column) in enumerate(old.keys.items())}
    panel = Panel(
        timeline, old.key_names, keys, values, _joined(old, new, keys),
        _drivers(old, new, timeline, row, len(place)), new.edges or old.edges,
    )  # fmt: skip
    return _sorted(panel), _summary(
        old, panel, in_new, changed, was, new.values, theirs, after, unknown, place, has_row, row
    )


def _joined(old: Panel, new: Panel, keys: dict[str, list[str]]) -> dict[str, dict[str, dict[str, str]]]:
    """Attributes of both; what the portfolio knows already stays, so that levels do not change under a study."""
    joined: dict[str, dict[str, dict[str, str]]] = {}
    for name in old.key_names:
        joined[name] = {}
        for attribute, table in old.attributes.get(name, {}).items():
            fresh = new.attributes.get(name, {}).get(attribute, {})
            full = {**fresh, **table}
            if attribute != "name":
                full = {key: full.get(key, "unassigned") for key in dict.fromkeys(keys[name])}
            joined[name][attribute] = full
    return joined


def _drivers(old: Panel, new: Panel, timeline: Timeline, row: NDArray[np.int64], n: int) -> dict[str, Floats]:
    ends = [p.timeline.last + p.n_ahead for p in (old, new)]
    length = max(*ends, timeline.last) - timeline.first + 1
    drivers: dict[str, Floats] = {}
    for name in dict.fromkeys((*old.drivers, *new.drivers)):
        whole = np.full((n, length), np.nan)
        for panel, rows in ((old, np.arange(old.n_series)), (new, row)):
            part = panel.drivers.get(name)
            if part is not None:
                at = panel.timeline.first - timeline.first
                here = whole[rows, at : at + part.shape[1]]
                whole[rows, at : at + part.shape[1]] = np.where(np.isnan(part), here, part)
        drivers[name] = whole
    return drivers


def _sorted(panel: Panel) -> Panel:
    """Series in the order of their keys, as reading has them."""
    order = sorted(range(panel.n_series), key=lambda i: tuple(panel.keys[name][i] for name in panel.key_names))
    return replace(
        panel,
        keys={name: [column[i] for i in order] for name, column in panel.keys.items()},
        values=panel.values[order],
        drivers={name: driver[order] for name, driver in panel.drivers.items()},
    )


def _summary(
    old: Panel,
    panel: Panel,
    in_new: slice,
    changed: NDArray[np.bool_],
    was: Floats,
    now: Floats,
    theirs: list[tuple[str, ...]],
    after: Timeline,
    unknown: list[tuple[str, ...]],
    place: dict[tuple[str, ...], int],
    has_row: NDArray[np.bool_],
    row: NDArray[np.int64],
) -> Appended:
    i, t = np.nonzero(changed)
    step = np.nan_to_num(now[i, t]) - np.nan_to_num(was[i, t])
    order = np.argsort(-np.abs(step), kind="stable")[:_SHOWN]

    def number(value: float) -> float | None:
        return None if np.isnan(value) else float(value)

    revisions = [
        Revision(list(theirs[i[k]]), after.labels[t[k]], number(was[i[k], t[k]]), number(now[i[k], t[k]]))
        for k in order.tolist()
    ]
    fresh = panel.values[:, in_new]
    rows_in_new = np.zeros(len(place), dtype=bool)
    new_part = np.arange(after.first, after.last + 1) > old.timeline.last
    rows_in_new[row] = has_row[:, new_part].any(axis=1)
    season = old.values[:, -old.timeline.season_length :]
    lively = np.nan_to_num(season).sum(axis=1) > 0
    silent = np.nonzero(lively & ~rows_in_new[: old.n_series])[0] if new_part.any() else np.empty(0, dtype=np.int64)
    keys = list(zip(*(old.keys[name] for name in old.key_names), strict=True))
    return Appended(
        new_periods=panel.timeline.labels[in_new],
        n_new=int(has_row[:, new_part].sum()),
        total_new=float(np.nansum(fresh)),
        n_revised=len(i),
        revised_by=float(step.sum()),
        revisions=revisions,
        n_new_series=len(unknown),
        new_series=[list(key) for key in unknown[:_SHOWN]],
        n_silent=len(silent),
        silent_series=[list(keys[k]) for k in silent[:_SHOWN].tolist()],
    )
