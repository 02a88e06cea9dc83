"""A table of texts -> a panel and its findings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.engine.errors import FileError
from tansy.engine.panel import Panel
from tansy.engine.reading import findings as found
from tansy.engine.reading.findings import Example, Finding, Places
from tansy.engine.reading.numbers import numbers
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.roles import Guess, guess_roles
from tansy.engine.reading.table import read_table
from tansy.engine.timeline import (
    FORM_NAMES,
    NOUN,
    SEASON_LENGTH,
    Timeline,
    form_of,
    guess_frequency,
    label,
    ordinal,
    read_date,
)

Integers = NDArray[np.int64]
NO_KEY = "series"
UNASSIGNED = "unassigned"
_MOST_PERIODS = 20_000


@dataclass(frozen=True)
class Reading:
    """A file as understood. options: with every guess filled in. n_rows: rows read; n_refused: rows left out."""

    panel: Panel
    findings: list[Finding]
    options: ReadOptions
    layout: str
    n_rows: int
    n_refused: int


def read_panel(path: Path, options: ReadOptions, folder: Path | None = None) -> Reading:
    """Read the sales file at `path` and the attribute files that the options name (relative to `folder`)."""
    table = read_table(path, options.sheet)
    files = options.attribute_files or {}
    attributes = {name: read_table((folder or path.parent) / name) for name in files}
    return understand(table, options, path.name, attributes)


def understand(
    table: pl.DataFrame,
    options: ReadOptions,
    name: str,
    attribute_tables: Mapping[str, pl.DataFrame] | None = None,
) -> Reading:
    """Make a panel of a table of texts.

    Raises FileError where nothing sensible can be made of it: no time or value column, unknown columns, or periods
    written in more than one way. Everything else becomes a finding.
    """
    guess = guess_roles(table)
    options = _complete(table, options, guess, name)
    places = Places(table.height, guess.columns("period") if options.layout == "wide" else None)
    if options.layout == "wide":
        table = _unpivot(table, options, guess)
    n_rows = table.height
    findings: list[Finding] = []

    period, frequency, odd_time = _periods(table[options.time], options, name, places)
    findings += odd_time
    value, odd_value = _values(table[options.value], options.value, places)
    findings += odd_value
    codes, keys, has_key = _series(table, options.keys)
    for key in set(options.keys) & set(table.columns):
        blank = np.asarray(table[key].str.strip_chars() == "")
        findings += found.of_rows("missing-key", "these rows are left out", key, table[key], blank, places)
    kept = (period.known) & has_key
    if not kept.any():
        raise FileError(f"{name}: no row has both a period and a key; nothing can be loaded.")

    first, last = int(period.number[kept].min()), int(period.number[kept].max())
    if last - first + 1 > _MOST_PERIODS:
        raise FileError(
            f"{name}, column {options.time!r}: they run from {label(first, frequency)} to {label(last, frequency)}; "
            "look for a mistyped year."
        )
    timeline = Timeline(frequency, first, last - first + 1, options.season_length or SEASON_LENGTH[frequency])
    values, has_row, twice = _scatter(
        codes[kept], period.number[kept] - first, value[kept], len(keys[options.keys[0]]), timeline, options
    )
    row_of = np.nonzero(kept)[0]
    if len(twice):
        flags = np.zeros(n_rows, dtype=bool)
        flags[row_of[twice]] = True
        words = {
            "sum": "added up",
            "mean": "averaged",
            "first": "the first is kept",
            "last": "the last is kept",
        }
        remedy = f"rows for the same series and period: {words[options.duplicates]}"
        findings += found.of_rows("duplicate", remedy, options.value, table[options.value], flags, places, True)
    values, shape_findings = _gaps(values, has_row, timeline, options, keys)
    findings += shape_findings

    attributes = _attributes(table, options, attribute_tables or {}, keys)
    findings += attributes.findings
    panel = Panel(timeline, options.keys, keys, values, attributes.values)
    options = replace(options, frequency=frequency, season_length=timeline.season_length)
    return Reading(panel, findings, options, options.layout or "long", n_rows, int((~kept).sum()))


def _complete(table: pl.DataFrame, options: ReadOptions, guess: Guess, name: str) -> ReadOptions:
    layout = options.layout or guess.layout
    if layout == "wide" and guess.layout != "wide":
        raise FileError(f"{name} has no columns that are named like periods, so it is not in wide layout.")
    have = ", ".join(table.columns[:12]) + (" and more" if table.width > 12 else "")
    named_keys = () if options.keys == (NO_KEY,) else options.keys  # one series needs no key column
    wanted = [options.time, options.value, *named_keys, *(options.attribute_columns or {})]
    for column in wanted if layout == "long" else named_keys:
        if column and column not in table.columns:
            raise FileError(f"{name} has no column {column!r}; its columns are {have}.")
    if layout == "wide":
        keys = options.keys or tuple(guess.columns("key"))
        attributes = options.attribute_columns
        if attributes is None:
            attributes = {c: guess.roles[c].of or keys[0] for c in guess.columns("attribute")}
        return replace(
            options,
            layout=layout,
            time="period",
            value="value",
            keys=keys or (NO_KEY,),
            attribute_columns=attributes,
        )
    time = options.time or next(iter(guess.columns("time")), "")
    value = options.value or next(iter(guess.columns("value")), "")
    if not time:
        raise FileError(f"{name}: none of its columns ({have}) holds dates or periods; name the one that does.")
    if not value:
        numbers = guess.columns("ignored")
        which = f"several hold numbers ({', '.join(numbers[:6])})" if numbers else "none holds numbers"
        raise FileError(f"{name}: which column holds the sales cannot be told, {which}; name the one that does.")
    keys = options.keys or tuple(c for c in guess.columns("key") if c not in (time, value))
    attributes = options.attribute_columns
    if attributes is None:
        attributes = {c: of for c in guess.columns("attribute") if (of := guess.roles[c].of) in keys and of}
    attributes = {c: of for c, of in attributes.items() if c not in (*keys, time, value)}
    for column, key in attributes.items():
        if key not in keys:
            raise FileError(f"{name}: column {column!r} is to describe {key!r}, which is not a key column.")
    return replace(options, layout=layout, time=time, value=value, keys=keys or (NO_KEY,), attribute_columns=attributes)


def _unpivot(table: pl.DataFrame, options: ReadOptions, guess: Guess) -> pl.DataFrame:
    periods = guess.columns("period")
    index = [name for name in table.columns if name not in periods]
    return table.unpivot(on=periods, index=index, variable_name=options.time, value_name=options.value)


@dataclass(frozen=True)
class _Periods:
    number: Integers
    known: NDArray[np.bool_]


def _periods(column: pl.Series, options: ReadOptions, name: str, places: Places) -> tuple[_Periods, str, list[Finding]]:
    """Period number of every row. Works on the distinct texts, of which there are few."""
    texts = column.str.strip_chars()
    distinct = texts.unique(maintain_order=True).to_list()
    if len(distinct) > _MOST_PERIODS:
        raise FileError(
            f"{name}, column {options.time!r} holds {len(distinct):,} different texts; it is not a column of periods."
        )
    forms = {text: form_of(text) for text in distinct}
    seen = [form for form in forms.values() if form]
    if not seen:
        raise FileError(
            f"{name}, column {options.time!r}, row 2: {distinct[0]!r} is not a date, week, month, quarter or year."
        )
    main = max(dict.fromkeys(seen), key=seen.count)  # a tie goes to the first row
    other = next((text for text, form in forms.items() if form and form != main), None)
    if other is not None:
        row = int((texts == other).arg_max() or 0) + 2
        raise FileError(
            f"{name}, column {options.time!r}, row {row}: {other!r} is written as {FORM_NAMES[forms[other] or main]}, "
            f"but most rows hold {FORM_NAMES[main]}; write all periods in one way."
        )
    day_first, ambiguous = _day_first(distinct, main, options, name)
    days = {text: read_date(text, main, day_first) for text in distinct if forms[text]}
    known_days = sorted({day for day in days.values() if day})
    frequency = options.frequency or guess_frequency(known_days, main)
    numbers = {text: ordinal(day, frequency) for text, day in days.items() if day}
    if frequency == "W" and main in ("date", "local-date"):
        weekdays = [day.weekday() for day in known_days]
        usual = max(set(weekdays), key=weekdays.count)
        numbers = {text: n for text, n in numbers.items() if (d := days[text]) and d.weekday() == usual}
    lookup = pl.DataFrame(
        {"text": list(numbers), "number": list(numbers.values())},
        schema={"text": pl.String, "number": pl.Int64},
    )
    joined = pl.DataFrame({"text": texts}).join(lookup, on="text", how="left", maintain_order="left")["number"]
    known = joined.is_not_null().to_numpy()
    number = joined.fill_null(0).to_numpy()
    found_odd = found.of_rows("off-calendar", "these rows are left out", options.time, column, ~known, places)
    if ambiguous:
        order = "day first" if day_first else "month first"
        found_odd.append(
            Finding("ambiguous-date", len(distinct), f"read {order}", [Example(2, options.time, distinct[0])])
        )
    return _Periods(number, known), frequency, found_odd


def _day_first(distinct: list[str], form: str, options: ReadOptions, name: str) -> tuple[bool, bool]:
    """Whether dates such as 03/04/2025 start with the day, and whether that is only assumed."""
    if form != "local-date":
        return True, False
    parts = [text.replace(".", "/").replace("-", "/").split("/") for text in distinct if form_of(text) == form]
    day_first = any(int(part[0]) > 12 for part in parts)
    month_first = any(int(part[1]) > 12 for part in parts)
    if day_first and month_first:
        raise FileError(f"{name}, column {options.time!r} mixes dates with the day first and with the month first.")
    if day_first or month_first:
        return day_first, False
    return options.day_first is not False, options.day_first is None


def _values(column: pl.Series, name: str, places: Places) -> tuple[NDArray[np.float64], list[Finding]]:
    """Numbers with a decimal point or comma; NaN where the cell is empty or not a number."""
    filled = np.asarray(column.str.strip_chars() != "")
    value = numbers(column).fill_null(float("nan")).to_numpy().copy()
    value[np.isinf(value)] = np.nan
    result = found.of_rows(
        "not-a-number", "these values are unknown", name, column, np.isnan(value) & filled, places, True
    )
    result += found.of_rows("negative", "kept, as returns", name, column, value < 0.0, places, True)
    return value, result


def _series(
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


def _scatter(
    series: Integers,
    period: Integers,
    value: NDArray[np.float64],
    n_series: int,
    timeline: Timeline,
    options: ReadOptions,
) -> tuple[NDArray[np.float64], NDArray[np.bool_], Integers]:
    """Rows -> matrix [series, periods]; which cells have a row; and the rows that repeat an earlier cell."""
    size = n_series * timeline.n_periods
    cell = series * timeline.n_periods + period
    rows = np.bincount(cell, minlength=size)
    twice = np.empty(0, dtype=np.int64)
    if (rows > 1).any():
        order = np.argsort(cell, kind="stable")
        repeats = order[1:][cell[order][1:] == cell[order][:-1]]
        twice = np.sort(repeats)
    if options.duplicates in ("sum", "mean"):
        seen = ~np.isnan(value)
        total: NDArray[np.float64] = np.bincount(cell[seen], weights=value[seen], minlength=size).astype(np.float64)
        count = np.bincount(cell[seen], minlength=size)
        if options.duplicates == "mean":
            total = total / np.maximum(count, 1)
        matrix = np.where(count > 0, total, np.nan)
    else:
        matrix = np.full(size, np.nan)
        backwards = -1 if options.duplicates == "first" else 1
        matrix[cell[::backwards]] = value[::backwards]  # of a repeated cell the last written stays
    shape = (n_series, timeline.n_periods)
    return matrix.reshape(shape), (rows > 0).reshape(shape), twice


def _gaps(
    values: NDArray[np.float64],
    has_row: NDArray[np.bool_],
    timeline: Timeline,
    options: ReadOptions,
    keys: dict[str, list[str]],
) -> tuple[NDArray[np.float64], list[Finding]]:
    """Fill missing rows as the planner says, and say which there are."""
    length = timeline.n_periods
    first = np.argmax(has_row, axis=1)
    last = length - 1 - np.argmax(has_row[:, ::-1], axis=1)
    t = np.arange(length)
    inside = ~has_row & (t > first[:, None]) & (t < last[:, None])
    after = ~has_row & (t > last[:, None])
    labels = timeline.labels

    def of_series(kind: str, remedy: str, bad: NDArray[np.bool_], at: Integers) -> list[Finding]:
        which = np.nonzero(bad)[0]
        examples = [
            Example(0, " × ".join(column[i] for column in keys.values()), labels[int(at[i])])
            for i in which[:3].tolist()
        ]
        return [Finding(kind, len(which), remedy, examples)] if len(which) else []

    result: list[Finding] = []
    n_gaps = int(inside.sum())
    if n_gaps:
        row, column = np.nonzero(inside)
        examples = [
            Example(0, " × ".join(c[i] for c in keys.values()), labels[j])
            for i, j in zip(row[:3].tolist(), column[:3].tolist(), strict=True)
        ]
        result.append(Finding("gap", n_gaps, f"missing {NOUN[timeline.frequency]}s count as {options.gaps}", examples))
    result += of_series("late-start", "nothing is assumed before the first row", first > 0, first)
    meaning = "zero" if options.gaps == "zero" else "unknown"
    result += of_series("early-end", f"periods after the last row count as {meaning}", last < length - 1, last)
    rows_per_period = has_row.sum(axis=0)
    if length > 8 and rows_per_period[-1] < 0.5 * np.median(rows_per_period[-9:-1]):
        remedy = "the last period has far fewer rows than the ones before; leave it out if it is not over"
        result.append(Finding("unfinished-period", 1, remedy, [Example(0, options.time, labels[-1])]))
    if options.gaps == "zero":
        values = np.where(inside | after, 0.0, values)
    return values, result


@dataclass(frozen=True)
class _Attributes:
    values: dict[str, dict[str, dict[str, str]]]
    findings: list[Finding]


def _attributes(
    table: pl.DataFrame, options: ReadOptions, tables: Mapping[str, pl.DataFrame], keys: dict[str, list[str]]
) -> _Attributes:
    values: dict[str, dict[str, dict[str, str]]] = {key: {} for key in options.keys}
    findings: list[Finding] = []
    wanted = {key: set(names) for key, names in keys.items()}
    for column, key in (options.attribute_columns or {}).items():
        _take(table, "the file", key, column, values[key], findings)
    for name, other in tables.items():
        key = (options.attribute_files or {})[name] or _key_of(other, options.keys, name)
        if key not in options.keys:
            raise FileError(f"{name} is to describe {key!r}, which is not a key column ({', '.join(options.keys)}).")
        if key not in other.columns:
            raise FileError(
                f"{name} has no column {key!r} to match its rows by; its columns are {', '.join(other.columns)}."
            )
        for column in other.columns:
            if column != key:
                _take(other, name, key, column, values[key], findings)
        unknown = sorted(wanted[key] - set(other[key].str.strip_chars().to_list()))
        if unknown:
            examples = [Example(0, key, text) for text in unknown[:3]]
            findings.append(
                Finding("missing-attribute", len(unknown), f"not in {name}; grouped as {UNASSIGNED}", examples)
            )
    for key, attributes in values.items():
        for attribute, mapping in attributes.items():
            if attribute != "name":
                attributes[attribute] = {k: mapping.get(k) or UNASSIGNED for k in dict.fromkeys(keys[key])}
    return _Attributes(values, findings)


def _key_of(table: pl.DataFrame, keys: tuple[str, ...], name: str) -> str:
    """The key column that an attribute file shares with the sales."""
    shared = [key for key in keys if key in table.columns]
    if len(shared) != 1:
        raise FileError(
            f"{name} must have exactly one of the key columns {', '.join(keys)}; it has {', '.join(table.columns)}."
        )
    return shared[0]


def _take(
    table: pl.DataFrame,
    name: str,
    key: str,
    column: str,
    into: dict[str, dict[str, str]],
    findings: list[Finding],
) -> None:
    pairs = table.select(pl.col(key).str.strip_chars(), pl.col(column).str.strip_chars()).unique(maintain_order=True)
    doubled = pairs.filter(pl.col(key).is_duplicated() & (pl.col(key) != ""))
    if doubled.height:
        examples = [Example(0, f"{key} {k}", v) for k, v in doubled.rows()[:3]]
        findings.append(
            Finding(
                "contradiction",
                doubled[key].n_unique(),
                f"{column} in {name} has several values; the first is kept",
                examples,
            )
        )
    label_names = ("name", f"{key}_name", f"{key} name")
    mapping = {k: v for k, v in reversed(pairs.rows()) if k}
    into["name" if column.lower() in label_names else column] = mapping


def default_levels(panel: Panel) -> dict[str, list[str]]:
    """Attributes that make good levels: each groups the keys, and each is a refinement of the one above it."""
    levels: dict[str, list[str]] = {}
    for key in panel.key_names:
        known = {name: mapping for name, mapping in panel.attributes.get(key, {}).items() if name != "name"}
        distinct = sorted(set(panel.keys[key]))
        sizes = {name: len({mapping.get(k) for k in distinct}) for name, mapping in known.items()}
        chosen: list[str] = []
        for name in sorted(known, key=lambda n: -sizes[n]):
            if not 1 < sizes[name] < len(distinct):
                continue
            finer = known[chosen[0]] if chosen else None
            nested = finer is None or len({(finer.get(k), known[name].get(k)) for k in distinct}) == sizes[chosen[0]]
            if nested and (not chosen or sizes[name] < sizes[chosen[0]]):
                chosen.insert(0, name)
        levels[key] = chosen[-3:]
    return levels
