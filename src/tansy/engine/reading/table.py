"""A file of any of the supported formats -> a table of texts as written, with which of them are numbers in the file."""

from __future__ import annotations

import csv
import io
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import polars as pl

from tansy.engine.errors import FileError
from tansy.engine.reading.foreign import Refused, read_foreign
from tansy.engine.reading.header import LOOKED_AT, check_names, find_header
from tansy.engine.reading.workbook import with_header
from tansy.engine.timeline import form_of

_DELIMITERS = (",", ";", "\t", "|")


@dataclass(frozen=True)
class Table:
    """All columns as text, in the order of the file. is_number: for the columns where any cell is a number in the file,
    and not a text that looks like one, which ones are. header_line: line of the header. sheets: of a workbook; sheet:
    the one that was read."""

    frame: pl.DataFrame
    header_line: int = 1
    sheets: tuple[str, ...] = ()
    sheet: str | None = None
    is_number: pl.DataFrame = field(default_factory=pl.DataFrame)

    def numbers_in(self, column: str) -> pl.Series | None:
        """Which cells of a column are numbers in the file; None where none is."""
        return self.is_number[column] if column in self.is_number.columns else None


def read_table(path: Path, sheet: str | None = None) -> pl.DataFrame:
    """All columns as text. Raises FileError in one sentence where the file cannot be read."""
    return open_table(path, sheet).frame


def open_table(path: Path, sheet: str | None = None, called: str | None = None) -> Table:
    """A file of any format. called: its name in sentences, where it is kept under another. Raises FileError in one
    sentence where it cannot be read."""
    name = called or path.name
    try:
        size = path.stat().st_size
    except OSError as error:
        raise FileError(f"{name}: {error.strerror or 'cannot be opened'}.") from None
    if size == 0:
        raise FileError(f"{name} is empty.")
    with path.open("rb") as file:
        head = file.read(8192)
    if head[:4] in (b"PK\x03\x04", b"PAR1"):
        table = _read_foreign(path, name, sheet, is_workbook=head[:4] != b"PAR1")
    else:
        table = _read_csv(path, name, head)
    if table.frame.height == 0:
        raise FileError(f"{name} has a header but no rows below it.")
    return table


def _read_foreign(path: Path, name: str, sheet: str | None, is_workbook: bool) -> Table:
    try:
        found = read_foreign(path, sheet)
    except Refused as refused:
        raise FileError(f"{name} {refused}.") from None
    if not is_workbook:
        return Table(found.cells, is_number=found.is_number)
    below = with_header(name, found)
    if below is None:
        raise FileError(f"{name} has no sheet with rows in it.")
    frame, is_number, line = below
    return Table(frame, line, found.sheets, found.sheet, is_number)


def _read_csv(path: Path, name: str, head: bytes) -> Table:
    if b"\x00" in head and not head.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise FileError(f"{name} is a binary file; expected are CSV, XLSX or Parquet.")
    raw = _to_utf8(name, path.read_bytes())
    sample = raw[:262_144].decode("utf-8", errors="ignore").splitlines(keepends=True)[:LOOKED_AT]
    delimiter = _delimiter(name, [line.rstrip("\r\n") for line in sample])
    try:
        rows, ends = _rows_of(sample, delimiter)
    except csv.Error as error:
        raise FileError(f"{name}, near row 1: {error}.") from None
    header = find_header(rows)
    if header is None:
        raise FileError(f"{name} is empty but for blanks.")
    line, names = ends[header.at], header.names
    _check_header(name, line, names)
    body = raw.split(b"\n", line)[line] if line < raw.count(b"\n") + 1 else b""
    if not body.strip():
        raise FileError(f"{name} has a header but no rows below it.")
    try:
        table = pl.read_csv(
            body, separator=delimiter, infer_schema=False, has_header=False, new_columns=names,
        )  # fmt: skip
    except pl.exceptions.PolarsError:
        raise FileError(_ragged_row(name, body, delimiter, len(names), line)) from None
    except BaseException as error:
        if isinstance(error, (Exception, KeyboardInterrupt, SystemExit)):  # a panic of the reader is none of these
            raise
        raise FileError(f"{name} cannot be read as a table; save it anew.") from None
    if table.width != len(names):
        raise FileError(_ragged_row(name, body, delimiter, len(names), line))
    return Table(table.fill_null(""), line)


def _rows_of(lines: list[str], delimiter: str) -> tuple[list[list[str]], list[int]]:
    """Rows of the first lines, and the line each of them ends on."""
    reader = csv.reader(lines, delimiter=delimiter)
    rows, ends = [], []
    for row in reader:
        rows.append(row)
        ends.append(reader.line_num)
    return rows, ends


def _to_utf8(name: str, raw: bytes) -> bytes:
    """UTF-8 with or without a mark, UTF-16 with one, else Latin-1 as Western spreadsheets write it."""
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        try:
            return raw.decode("utf-16").encode()
        except UnicodeError:
            raise FileError(f"{name} begins as UTF-16 but is damaged; save it anew as UTF-8.") from None
    raw = raw.removeprefix(b"\xef\xbb\xbf")
    try:
        raw.decode("utf-8")
        return raw
    except UnicodeDecodeError:
        return raw.decode("cp1252", errors="replace").encode()


def _delimiter(name: str, sample: list[str]) -> str:
    """The one that parts the most lines into the same number of cells, of those that part any."""
    lines = [line for line in sample if line.strip()]
    if not lines or not any(line.strip(" \t,;|") for line in lines):
        raise FileError(f"{name} is empty but for blanks.")

    def parted(delimiter: str) -> tuple[int, int]:
        try:
            widths = Counter(len(row) for row in csv.reader(lines, delimiter=delimiter) if len(row) > 1)
        except csv.Error:
            return (0, 0)
        width, times = max(widths.items(), key=lambda one: one[1] * (one[0] - 1), default=(0, 0))
        return times, width

    best = max(_DELIMITERS, key=parted)
    if parted(best)[0] == 0:
        raise FileError(
            f"{name}, row 1: only one column was found ({lines[0][:40]!r}); "
            "columns are separated by comma, semicolon, tab or |."
        )
    return best


def _check_header(name: str, line: int, header: list[str]) -> None:
    check_names(name, line, header)
    periods = sum(form_of(cell) is not None for cell in header)
    numbers = [cell for cell in header if _is_number(cell) and form_of(cell) is None]
    if numbers and periods <= 2:
        at = header.index(numbers[0]) + 1
        raise FileError(
            f"{name}, row {line}: column {at} is named {numbers[0]!r}, so the first row looks like data; "
            "add a header row that names the columns."
        )


def _is_number(text: str) -> bool:
    try:
        float(text.replace(",", "."))
    except ValueError:
        return False
    return True


def _ragged_row(name: str, body: bytes, delimiter: str, width: int, above: int) -> str:
    """Which row has too many cells, or a quote that is never closed. above: lines up to the header."""
    rows = csv.reader(io.StringIO(body.decode("utf-8"), newline=""), delimiter=delimiter)
    try:
        for row in rows:
            if len(row) > width:
                return (
                    f"{name}, row {rows.line_num + above}: {len(row)} cells where the header names {width} columns; "
                    "a text that holds the separator must stand in double quotes."
                )
    except csv.Error as error:
        return f"{name}, row {rows.line_num + above}: {error}."
    return f"{name} cannot be read as a table; check its quotes near row {rows.line_num + above}."
