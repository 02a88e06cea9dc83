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
from tansy.engine.reading.attributes import read_attributes
from tansy.engine.reading.cells import NO_KEY, fill_gaps, is_unfinished, number_series, scatter, sum_up
from tansy.engine.reading.clock import Clock, read_clock
from tansy.engine.reading.drivers import DriverRows, gather_drivers, is_driver_table, read_driver_table
from tansy.engine.reading.edges import is_edges_table, read_edges
from tansy.engine.reading.findings import Example, Finding, Places, Refusals
from tansy.engine.reading.numbers import read_numbers
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.roles import FURTHER_NUMBERS, TOTAL_OF_PERIODS, Guess, guess_roles
from tansy.engine.reading.table import Table, open_table
from tansy.engine.reading.totals import named_total, series_of_sums
from tansy.engine.timeline import NOUN, SEASON_LENGTH, Timeline, form_of, label, number_of, usual_frequency

_MOST_CELLS = 150_000_000  # 1.2 GB

_DUPLICATE_WORDS = {
    "sum": "added up",
    "mean": "averaged",
    "first": "the first is kept",
    "last": "the last is kept",
}
_NEGATIVE_WORDS = {
    "keep": "kept, as returns",
    "drop": "these rows are left out",
    "positive": "taken without their sign",
}


@dataclass(frozen=True)
class Reading:
    """A file as understood. options: with every guess filled in. n_rows: rows read; n_refused: rows left out; refused:
    those rows as written, with their line and the reason. first_rows: as understood. has_row: [series, periods], where
    the file had a row. decimal: "comma" or "point", how texts were read as numbers, "" where none has either. named_by:
    key -> the column that says what its codes are called."""

    panel: Panel
    findings: list[Finding]
    options: ReadOptions
    layout: str
    n_rows: int
    n_refused: int
    refused: pl.DataFrame
    first_rows: pl.DataFrame
    has_row: NDArray[np.bool_]
    decimal: str
    named_by: dict[str, str]


def read_panel(path: Path, options: ReadOptions, folder: Path | None = None) -> Reading:
    """Read the sales file at `path` and the attribute and driver files that the options name (relative to `folder`)."""
    table = open_table(path, options.sheet)
    base = folder or path.parent
    beside = {name: open_table(base / name) for name in _files_beside(options)}
    return understand(table, options, path.name, beside)


def _files_beside(options: ReadOptions) -> list[str]:
    """Names of the other files: of attributes, of drivers, of edges."""
    edges = [options.edges_file] if options.edges_file else []
    return list(dict.fromkeys([*(options.attribute_files or {}), *options.driver_files, *edges]))


def sort_files(
    options: ReadOptions, names: list[str], tables: Mapping[str, pl.DataFrame], keys: tuple[str, ...]
) -> ReadOptions:
    """Tell files of drivers, which have periods, and the one of edges, which have parents, from files of attributes."""
    edges = [name for name in names if is_edges_table(tables[name])]
    if len(edges) > 1:
        raise FileError(f"{edges[0]} and {edges[1]} both have parents and children; hand in one of them.")
    if options.edges_file and not edges:
        raise FileError(f"{options.edges_file} needs the columns parent and child.")
    drivers = tuple(name for name in names if name not in edges and is_driver_table(tables[name], keys))
    given = options.attribute_files or {}
    return replace(
        options,
        driver_files=drivers,
        attribute_files={name: given.get(name, "") for name in names if name not in (*drivers, *edges)},
        edges_file=edges[0] if edges else "",
    )


def understand(
    source: Table | pl.DataFrame, options: ReadOptions, name: str, beside: Mapping[str, Table] | None = None
) -> Reading:
    """Make a panel of a table of texts. beside: the tables of attribute and driver files, by name.

    Raises FileError where nothing sensible can be made of it: no time or value column, unknown columns, or periods
    written in more than one way. Everything else becomes a finding.
    """
    opened = source if isinstance(source, Table) else Table(source)
    table, others = opened.frame, beside or {}
    said = _columns_said(table, options, name)
    if options.empty_keys == "as-above":
        table = _filled_down(table, options, guess_roles(table, said))
    guess = guess_roles(table, said)
    options = _complete(table, options, guess, name)
    files = {n: others[n].frame for n in _files_beside(options)}
    options = sort_files(options, list(files), files, options.keys)
    wide = options.layout == "wide"
    lines = _filled_lines(table, opened.header_line)
    is_number = opened.is_number
    if lines is not None:
        table = table[lines - opened.header_line - 1]
        is_number = is_number[lines - opened.header_line - 1] if is_number.width else is_number
    typed = Table(table, is_number=is_number)
    places = Places(table.height, guess.columns("period") if wide else None, opened.header_line, lines)
    numbers_of_value = typed.numbers_in(options.value)
    copies = _repeated(table)
    n_periods = 1
    if wide:
        numbers_of_value = _numbers_below(typed, guess.columns("period"))
        n_periods = len(guess.columns("period"))
        table, options = _unpivot(table, options, guess, name)
    findings = _column_totals(guess)
    refusals = Refusals(table.height)
    findings += _copies(copies, table, options, places, n_periods, refusals)
    findings += _totals(table, options, places, n_periods, refusals)

    clock = read_clock(table[options.time], options, name, places)
    refusals.add(~clock.known, f"{options.time} is no period of this calendar")
    findings += clock.findings
    value, decimal, odd = _values(table[options.value], numbers_of_value, options, places, refusals, name)
    findings += odd
    codes, keys, has_key = number_series(table, options.keys)
    for key in set(options.keys) & set(table.columns):
        blank = np.asarray(table[key].str.strip_chars() == "")
        fresh = blank & refusals.kept
        refusals.add(blank, f"{key} is empty")
        findings += found.of_rows("missing-key", "these rows are left out", key, table[key], fresh, places)
    ahead = _ahead(table, options, clock, refusals.kept & has_key)
    kept = refusals.kept & has_key & ~ahead
    if not kept.any():
        raise FileError(f"{name}: no row has both a period and a key; nothing can be loaded.")

    first, last = int(clock.number[kept].min()), int(clock.number[kept].max())
    n_series = len(keys[options.keys[0]])
    if n_series * (last - first + 1) > _MOST_CELLS:
        raise FileError(
            f"{name}: {n_series:,} series over {last - first + 1:,} periods are more than fit; check the key columns, "
            "or split the file."
        )
    values, has_row, twice, passed_over = scatter(
        codes[kept], clock.number[kept] - first, value[kept], n_series, last - first + 1, options.duplicates
    )
    sums = series_of_sums(values, has_row)
    if len(sums):
        key = options.keys[0]
        done = "left out" if options.totals == "leave-out" else "kept as a series"
        remedy = f"the sum of all other series in every period: {done}"
        findings.append(Finding("total-row", 1, remedy, [Example(0, key, keys[key][int(sums[0])])]))
    if len(sums) and options.totals == "leave-out":
        of_sum = kept & (codes == sums[0])
        refusals.add(of_sum, "it is the sum of all other series")
        kept &= ~of_sum
        values, has_row, twice, passed_over = scatter(
            codes[kept], clock.number[kept] - first, value[kept], n_series, last - first + 1, options.duplicates
        )
    if len(twice):
        flags = np.zeros(table.height, dtype=bool)
        flags[np.nonzero(kept)[0][twice]] = True
        remedy = f"rows for the same series and period: {_DUPLICATE_WORDS[options.duplicates]}"
        findings += found.of_rows("duplicate", remedy, options.value, table[options.value], flags, places, True)
        flags[:] = False
        flags[np.nonzero(kept)[0][passed_over]] = True
        refusals.add(flags, "another row for the same series and period is kept")
    spans = _Span(clock, first, last)
    if clock.native != clock.frequency:
        values, has_row = sum_up(values, has_row, spans.coarse)
    start, stop, unfinished = spans.whole(has_row, options)
    findings += unfinished
    if options.unfinished == "leave-out":
        values, has_row = values[:, start:stop], has_row[:, start:stop]
        outside = clock.known & spans.outside(clock.number, start, stop) & ~ahead
        refusals.add(outside, "the period is not complete")
    else:
        start = 0
    if not has_row.any():
        raise FileError(f"{name}: no {NOUN[clock.frequency]} is complete; keep unfinished periods to load it.")
    some: NDArray[np.bool_] = np.asarray(has_row.any(axis=1))
    if not some.all():
        values, has_row = values[some], has_row[some]
        staying = np.nonzero(some)[0].tolist()
        keys = {key: [column[i] for i in staying] for key, column in keys.items()}
    season = options.season_length or SEASON_LENGTH[clock.frequency]
    timeline = Timeline(clock.frequency, int(spans.numbers[start]), values.shape[1], season)
    values, gaps = fill_gaps(values, has_row, timeline, options.gaps, keys)
    findings += gaps

    described = {file: files[file] for file in options.attribute_files or {}}
    attributes = read_attributes(table, options, described, keys)
    findings += attributes.findings
    edges = None
    if options.edges_file:
        edges, edge_findings = read_edges(files[options.edges_file], options.edges_file, keys)
        findings += edge_findings
    panel = Panel(timeline, options.keys, keys, values, attributes.values, edges=edges)
    rows = [
        read_driver_table(others[file], panel, replace(options, time="", keys=()), file)
        for file in options.driver_files
    ]
    if options.driver_columns:
        sales = Table(table, is_number=typed.is_number)
        rows.append(DriverRows.of_sales(sales, options.driver_columns, codes, clock, refusals.kept & has_key, some))
    drivers, driver_findings = gather_drivers(rows, panel)
    findings += driver_findings
    options = replace(options, written=clock.native, frequency=clock.frequency, season_length=season)
    refused = refusals.table(table, places)
    return Reading(
        panel=replace(panel, drivers=drivers),
        findings=findings,
        options=options,
        layout=options.layout or "long",
        n_rows=table.height,
        n_refused=refused.height,
        refused=refused,
        first_rows=_first_rows(table, options, clock, value, refusals, places),
        has_row=has_row,
        decimal=decimal,
        named_by=attributes.named_by,
    )


def _filled_down(table: pl.DataFrame, options: ReadOptions, guess: Guess) -> pl.DataFrame:
    """Keys, what describes them, and periods: with that of the row above where they and all to their left are empty and
    one to their right is not, as reports have it. Any other empty key stands for a sum, and stays as it is."""
    said = {options.time, *options.keys, *(options.attribute_columns or {})}
    wanted = {*guess.columns("time"), *guess.columns("key"), *guess.columns("attribute"), *said}
    order = [name for name in table.columns if name in wanted]
    filled = {name: pl.col(name).str.strip_chars() != "" for name in order}
    return table.with_columns(
        pl.when(~pl.any_horizontal(filled[left] for left in order[: i + 1]), pl.any_horizontal(*filled.values()))
        .then(pl.when(filled[name]).then(name).forward_fill())
        .otherwise(name)
        .fill_null("")
        .alias(name)
        for i, name in enumerate(order)
    )


def _column_totals(guess: Guess) -> list[Finding]:
    """Columns that are left out because they are the sum of the periods."""
    named = [name for name, role in guess.roles.items() if role.reason == TOTAL_OF_PERIODS]
    return (
        [Finding("total-column", len(named), "no key and no period: left out", [Example(1, n, n) for n in named[:3]])]
        if named
        else []
    )


def _repeated(table: pl.DataFrame) -> NDArray[np.bool_]:
    """Which rows are the same in every column as one above. They are compared where their hashes are the same:
    comparing all of them takes several times the memory of the file."""
    found = np.zeros(table.height, dtype=bool)
    hashes = table.hash_rows()
    alike = np.nonzero(np.asarray(hashes.is_duplicated()))[0]
    if len(alike):
        found[alike] = ~np.asarray(table[alike].select(pl.struct(pl.all()).is_first_distinct()).to_series())
    return found


def _copies(
    copies: NDArray[np.bool_],
    table: pl.DataFrame,
    options: ReadOptions,
    places: Places,
    n_periods: int,
    refusals: Refusals,
) -> list[Finding]:
    """Rows that are the same in every column as one above."""
    if not copies.any():
        return []
    if options.copies == "one":
        refusals.add(np.tile(copies, n_periods), "an exact copy of a row above")
    column = table.columns[0]
    remedy = "the same in every column as a row above: " + ("one is kept" if options.copies == "one" else "all count")
    return found.of_rows("copy", remedy, column, table[column][: len(copies)], copies, places)


def _totals(
    table: pl.DataFrame, options: ReadOptions, places: Places, n_periods: int, refusals: Refusals
) -> list[Finding]:
    """Rows with a key that says it is a total."""
    once = table[: table.height // n_periods]  # a wide table has its keys again for every period
    left_out = options.totals == "leave-out"
    remedy = "totals of other rows: " + ("left out" if left_out else "kept as series")
    findings, flags = [], np.zeros(once.height, dtype=bool)
    for key in options.keys:
        if key in once.columns:
            named = named_total(once[key]) & ~flags
            findings += found.of_rows("total-row", remedy, key, once[key], named, places)
            flags |= named
    if flags.all():
        return []
    if left_out:
        refusals.add(np.tile(flags, n_periods), "a total, not a series")
    return findings


def _filled_lines(table: pl.DataFrame, header_line: int) -> NDArray[np.int64] | None:
    """Lines of the rows that hold anything, None where all do. Spreadsheets leave empty rows behind."""
    empty = table.select(pl.all_horizontal(pl.all() == "")).to_series().to_numpy()
    return np.nonzero(~empty)[0] + header_line + 1 if empty.any() else None


class _Span:
    """The native periods of a file and the coarse ones that they make."""

    def __init__(self, clock: Clock, first: int, last: int) -> None:
        self._clock, self._first, self._last = clock, first, last
        self.coarse = clock.coarse(first, last)
        self.numbers = np.unique(self.coarse)

    def whole(self, has_row: NDArray[np.bool_], options: ReadOptions) -> tuple[int, int, list[Finding]]:
        """First and end of the coarse periods that are complete, and what is to be said of the others."""
        clock = self._clock
        start, stop = 0, len(self.numbers)
        odd: list[int] = []
        if clock.native != clock.frequency:
            if not clock.is_whole(int(self.numbers[-1]), self._first, self._last):
                around = clock.coarse(self._last, self._last + 1)
                if around[0] == around[1]:
                    stop -= 1
                    odd.append(int(self.numbers[-1]))
            around = clock.coarse(self._first - 1, self._first)
            if around[0] == around[1] and stop > 1:
                start = 1
                odd.append(int(self.numbers[0]))
        elif is_unfinished(has_row):
            stop -= 1
            odd.append(int(self.numbers[-1]))
        if not odd:
            return start, stop, []
        done = "left out" if options.unfinished == "leave-out" else "kept as they are"
        examples = [Example(0, options.time, label(number, clock.frequency)) for number in odd]
        remedy = f"periods at an end of the file that are not complete: {done}"
        return start, stop, [Finding("unfinished-period", len(odd), remedy, examples)]

    def outside(self, number: NDArray[np.int64], start: int, stop: int) -> NDArray[np.bool_]:
        inside = np.zeros(len(self.coarse), dtype=bool)
        inside[np.isin(self.coarse, self.numbers[start:stop])] = True
        at = np.clip(number - self._first, 0, len(self.coarse) - 1)
        return np.asarray(~inside[at])


def _ahead(table: pl.DataFrame, options: ReadOptions, clock: Clock, kept: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Rows after the last value, which only say what drivers will be."""
    none = np.zeros(table.height, dtype=bool)
    if not options.driver_columns:
        return none
    filled = np.asarray(table[options.value].str.strip_chars() != "") & kept
    if not filled.any():
        return none
    return kept & (clock.number > clock.number[filled].max())


def _complete(table: pl.DataFrame, options: ReadOptions, guess: Guess, name: str) -> ReadOptions:
    layout = options.layout or guess.layout
    if layout == "wide" and guess.layout != "wide":
        raise FileError(
            f"{name} has no columns that are named like periods, so it is not in wide layout; or say which ones are."
        )
    have = ", ".join(table.columns[:12]) + (" and more" if table.width > 12 else "")
    named_keys = () if options.keys == (NO_KEY,) else options.keys  # one series needs no key column
    drivers = options.driver_columns
    wanted = [options.time, options.value, *named_keys, *(options.attribute_columns or {}), *(drivers or ())]
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
            driver_columns=(),
        )
    time = options.time or next(iter(guess.columns("time")), "")
    value = options.value or next(iter(guess.columns("value")), "")
    if not time:
        raise FileError(f"{name}: none of its columns ({have}) holds dates or periods; name the one that does.")
    if not value:
        numeric = [column for column, role in guess.roles.items() if role.reason == FURTHER_NUMBERS]
        which = f"several hold numbers ({', '.join(numeric[:6])})" if numeric else "none holds numbers in most rows"
        raise FileError(f"{name}: which column holds the sales cannot be told, {which}; name the one that does.")
    if drivers is None:
        drivers = tuple(c for c in guess.columns("driver") if c not in (time, value, *options.keys))
    keys = options.keys or tuple(c for c in guess.columns("key") if c not in (time, value, *drivers))
    attributes = options.attribute_columns
    if attributes is None:
        attributes = {c: of for c in guess.columns("attribute") if (of := guess.roles[c].of) in keys and of}
    attributes = {c: of for c, of in attributes.items() if c not in (*keys, time, value, *drivers)}
    for column, key in attributes.items():
        if key not in keys:
            raise FileError(f"{name}: column {column!r} is to describe {key!r}, which is not a key column.")
    return replace(
        options,
        layout=layout,
        time=time,
        value=value,
        keys=keys or (NO_KEY,),
        attribute_columns=attributes,
        driver_columns=drivers,
    )


def _columns_said(table: pl.DataFrame, options: ReadOptions, name: str) -> tuple[str, ...]:
    missing = next((column for column in options.period_columns if column not in table.columns), None)
    if missing is not None:
        raise FileError(f"{name} has no column {missing!r}, which is to be a period.")
    return options.period_columns


def _unpivot(table: pl.DataFrame, options: ReadOptions, guess: Guess, name: str) -> tuple[pl.DataFrame, ReadOptions]:
    """The columns of periods under each other; those whose headings say nothing are named one after the other."""
    periods = guess.columns("period")
    index = [column for column in table.columns if column not in periods]
    long = table.unpivot(on=periods, index=index, variable_name=options.time, value_name=options.value)
    if not options.period_columns or (not options.first_period and all(map(form_of, periods))):
        return long, options
    first = options.first_period or "1"
    frequency = options.written or usual_frequency(first)
    number = number_of(first, frequency)
    if number is None:
        raise FileError(f"{name}: {first!r}, the first period, is not a week, month, quarter or year such as 2023-01.")
    names = {column: label(number + i, frequency) for i, column in enumerate(periods)}
    return long.with_columns(pl.col(options.time).replace_strict(names)), replace(options, written=frequency)


def _numbers_below(table: Table, periods: list[str]) -> pl.Series | None:
    """Which cells of the columns of periods, laid under each other, are numbers in the file."""
    if not table.is_number.width:
        return None
    none = pl.repeat(False, table.frame.height, eager=True)
    flags = [table.numbers_in(name) for name in periods]
    return pl.concat([none if flag is None else flag for flag in flags])


def _values(
    column: pl.Series, is_number: pl.Series | None, options: ReadOptions, places: Places, refusals: Refusals, file: str
) -> tuple[NDArray[np.float64], str, list[Finding]]:
    """Numbers, NaN where the cell is empty or not a number; how texts were read; and what is odd. Raises FileError
    where there is something and none of it a number."""
    filled = np.asarray(column.str.strip_chars() != "")
    read = read_numbers(column, is_number)
    value = read.value.fill_null(float("nan")).to_numpy().copy()
    name = options.value
    at = int(filled.argmax()) if filled.any() else 0
    if filled.any() and np.isnan(value[filled]).all():
        raise FileError(
            f"{file}, column {places.column(at, name, True)!r}, row {places.line(at)}: {column[at]!r} is no number, "
            "nor is any other cell for sales; another column may hold them."
        )
    result = []
    if read.other.any():
        usual, other = ("comma", "point") if read.decimal == "comma" else ("point", "comma")
        remedy = f"written with a decimal {other} among others with a decimal {usual}; each is read as it is written"
        result += found.of_rows("two-decimals", remedy, name, column, read.other, places, True)
    result += found.of_rows(
        "not-a-number", "these values are unknown", name, column, np.isnan(value) & filled, places, True
    )
    negative = value < 0.0
    result += found.of_rows("negative", _NEGATIVE_WORDS[options.negatives], name, column, negative, places, True)
    if options.negatives == "drop":
        refusals.add(negative, f"{name} is negative")
    elif options.negatives == "positive":
        value = np.abs(value)
    return value, read.decimal, result


_SHOWN = 8


def _first_rows(
    table: pl.DataFrame,
    options: ReadOptions,
    clock: Clock,
    value: NDArray[np.float64],
    refusals: Refusals,
    places: Places,
) -> pl.DataFrame:
    """The first rows as understood: line of the file, keys, period, value, and "left out" where it is."""
    n = min(_SHOWN, table.height)
    kept = refusals.kept[:n]
    numbers_known = zip(clock.number[:n].tolist(), clock.known[:n].tolist(), strict=True)
    shown_as = [label(int(clock.coarse(p, p)[0]), clock.frequency) if known else "" for p, known in numbers_known]
    columns: dict[str, list[str]] = {"line": [str(places.line(i)) for i in range(n)]}
    for key in options.keys:
        columns[key] = table[key][:n].str.strip_chars().to_list() if key in table.columns else ["all"] * n
    columns["period"] = shown_as
    shown = ["unknown" if np.isnan(v) else f"{v:g}" for v in value[:n].tolist()]
    columns["value"] = [v if k else "left out" for v, k in zip(shown, kept.tolist(), strict=True)]
    return pl.DataFrame(columns)
