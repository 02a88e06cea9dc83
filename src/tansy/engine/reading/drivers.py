"""Drivers: what is known ahead by period, such as price, promotion, holiday, and stock on hand.

They stand in columns of the sales file or in files of their own, per series and period, per product and period, or per
period alone. Numbers are taken as they are; yes and no become 1 and 0; a column of names, such as events, becomes one
yes/no driver for each name.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.engine.errors import FileError
from tansy.engine.panel import Panel, is_switch
from tansy.engine.reading.clock import Clock, read_clock
from tansy.engine.reading.findings import Example, Finding, Places
from tansy.engine.reading.numbers import numbers
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.table import Table
from tansy.engine.timeline import DATE_FORMS, DOUBTFUL_FORMS, form_of, forms_of, label, read_date

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_YES = ["yes", "y", "true", "x", "on"]
_NO = ["no", "n", "false", "off", ""]
_STOCK = re.compile(r"stock|on[ _-]?hand|inventory", re.I)
_TIME_NAME = re.compile(r"date|day|week|month|period|time", re.I)
_SURE_BY_NAME = ("compact-month", "compact-week", "short-date")
"""Forms that name a period in a column so named, as a year does not: the year of a launch describes a product."""
_MOST_NAMES = 60


@dataclass(frozen=True)
class DriverRows:
    """Rows of drivers. series: [rows], or None where they hold for all; period: [rows], at the panel's frequency;
    values: per driver, [rows], NaN unknown. file: where they come from."""

    file: str
    series: Integers | None
    period: Integers
    values: dict[str, Floats]

    @classmethod
    def of_sales(
        cls,
        table: Table,
        columns: tuple[str, ...],
        codes: Integers,
        clock: Clock,
        kept: NDArray[np.bool_],
        some: NDArray[np.bool_],
    ) -> DriverRows:
        """From columns of the sales file. some: [series], which series have stayed in the panel."""
        renumbered = np.cumsum(some) - 1
        kept = kept & some[codes]
        first, last = int(clock.number[kept].min()), int(clock.number[kept].max())
        period = clock.coarse(first, last)[clock.number[kept] - first]
        values: dict[str, Floats] = {}
        for column in columns:
            values.update(_values(column, table.frame[column], table.numbers_in(column), pl.Series(kept)))
        return cls("the file", renumbered[codes[kept]].astype(np.int64), period, values)


def is_driver_table(table: pl.DataFrame, keys: tuple[str, ...]) -> bool:
    """Whether a file beside the sales has a column of periods, so that it holds drivers rather than attributes."""
    return _time_of(table, keys) is not None


def _time_of(table: pl.DataFrame, keys: tuple[str, ...]) -> str | None:
    for name in table.columns:
        texts = [text for text in table[name].head(500).unique().to_list() if text]
        forms = forms_of(texts).values()
        named = _TIME_NAME.fullmatch(name.strip()) is not None
        sure = sum(form not in (None, *DOUBTFUL_FORMS) or (named and form in _SURE_BY_NAME) for form in forms)
        if name not in keys and texts and sure >= 0.6 * len(texts):
            return name
    return None


def read_driver_table(opened: Table, panel: Panel, options: ReadOptions, name: str) -> DriverRows:
    """Rows of a driver file. Rows for keys that the panel does not have are passed over."""
    table, numbers_in = opened.frame, opened.numbers_in
    time = _time_of(table, panel.key_names)
    if time is None:
        raise FileError(f"{name} has no column of periods; files of drivers have one.")
    frequency = panel.timeline.frequency
    wanted = ReadOptions(
        time=time,
        written=_written(table[time], frequency, options.day_first is not False),
        frequency=frequency,
        day_first=options.day_first,
        week_start=options.week_start,
    )
    clock = read_clock(table[time], wanted, name, Places(table.height))
    first = int(clock.number[clock.known].min())
    last = int(clock.number[clock.known].max())
    keys = [key for key in panel.key_names if key in table.columns]
    kept = clock.known.copy()
    series: Integers | None = None
    row_of = np.arange(table.height)
    if keys:
        texts = table.select(pl.col(key).str.strip_chars() for key in keys).with_row_index("row")
        wanted_keys = pl.DataFrame({key: panel.keys[key] for key in keys}).with_row_index("series")
        joined = texts.join(wanted_keys, on=keys, how="inner", maintain_order="left")
        row_of = joined["row"].to_numpy().astype(np.int64)
        series = joined["series"].to_numpy().astype(np.int64)
        at_known = kept[row_of]
        row_of, series = row_of[at_known], series[at_known]
    else:
        row_of = row_of[kept]
    period = clock.coarse(first, last)[clock.number[row_of] - first]
    values: dict[str, Floats] = {}
    for column in table.columns:
        if column not in (time, *panel.key_names):
            values.update({n: v[row_of] for n, v in _values(column, table[column], numbers_in(column)).items()})
    return DriverRows(name, series, period, values)


def _written(column: pl.Series, frequency: str, day_first: bool) -> str | None:
    """How dates are meant: as the days of a week each where they all fall on one weekday of a weekly history, else as
    single days. A few dates of events would otherwise look yearly, or like weeks with some days off."""
    texts = column.str.strip_chars().unique().to_list()
    days = {read_date(text, form, day_first) for text in texts if (form := form_of(text)) in DATE_FORMS} - {None}
    if not days:
        return None
    weekly = frequency == "W" and len(days) >= 3 and len({day.weekday() for day in days if day}) == 1
    return "W" if weekly else "D"


def _values(
    name: str, column: pl.Series, is_number: pl.Series | None, kept: pl.Series | None = None
) -> dict[str, Floats]:
    """Numbers, or 1 and 0, or a yes/no driver for each name; nothing where the column is none of these. kept: rows that
    count, all where it is not given."""
    text = column.str.strip_chars()
    number = numbers(text, is_number)
    if kept is not None:
        text, number = text.filter(kept), number.filter(kept)
    filled = int((text != "").sum())
    if filled and int(number.is_not_null().sum()) >= 0.9 * filled:
        return {name: number.fill_null(float("nan")).to_numpy()}
    lower = text.str.to_lowercase()
    distinct = set(lower.unique().to_list())
    if distinct <= {*_YES, *_NO}:
        return {name: np.asarray(lower.is_in(_YES), dtype=np.float64)}
    names = sorted(set(text.unique().to_list()) - {""})
    if len(names) <= _MOST_NAMES:
        return {one: np.asarray(text == one, dtype=np.float64) for one in names}
    return {}


def gather_drivers(sources: list[DriverRows], panel: Panel) -> tuple[dict[str, Floats], list[Finding]]:
    """Drivers of all sources as [series, periods and those ahead]; and the gaps in their future part.

    Rows for the same cell are averaged; a switch is on if any row says so, and off where the past says nothing.
    """
    timeline = panel.timeline
    last = max((int(rows.period.max()) for rows in sources if len(rows.period)), default=timeline.last)
    n_ahead = max(0, min(last - timeline.last, 5 * timeline.n_periods))
    length = timeline.n_periods + n_ahead
    drivers: dict[str, Floats] = {}
    findings: list[Finding] = []
    for rows in sources:
        at = rows.period - timeline.first
        inside = (at >= 0) & (at < length)
        for written, values in rows.values.items():
            name = "stock" if _STOCK.search(written) else written
            kept = inside & ~np.isnan(values)
            n = panel.n_series if rows.series is not None else 1
            cell = at[kept] + (length * rows.series[kept] if rows.series is not None else 0)
            total = np.bincount(cell, weights=values[kept], minlength=n * length)
            count = np.bincount(cell, minlength=n * length)
            with np.errstate(invalid="ignore"):
                matrix = (total / count).reshape(n, length)
            if is_switch(values):
                matrix = np.where(matrix > 0.0, 1.0, matrix)
                matrix[:, : timeline.n_periods] = np.nan_to_num(matrix[:, : timeline.n_periods])
                if rows.series is None:
                    matrix = np.nan_to_num(matrix)  # a calendar of events: what is not named is not on
            drivers[name] = np.broadcast_to(matrix, (panel.n_series, length)).copy()
            findings += _gaps(name, rows.file, drivers[name], panel, n_ahead)
    return drivers, findings


def _gaps(name: str, file: str, driver: Floats, panel: Panel, n_ahead: int) -> list[Finding]:
    """Series for which a driver is known ahead, but not for all periods ahead."""
    timeline = panel.timeline
    missing = np.isnan(driver[:, timeline.n_periods :])
    gappy = np.nonzero(missing.any(axis=1) & ~missing.all(axis=1))[0]
    if not n_ahead or not len(gappy) or name == "stock":
        return []
    examples = []
    for i in gappy[:3].tolist():
        key = " × ".join(panel.keys[k][i] for k in panel.key_names)
        first = int(np.argmax(missing[i]))
        examples.append(Example(0, f"{name} of {key}", label(timeline.last + 1 + first, timeline.frequency)))
    return [Finding("driver-gap", len(gappy), f"{name} in {file} is not known for all periods ahead", examples)]
