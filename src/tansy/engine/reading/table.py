"""A file of any of the supported formats -> a table of texts, as written."""

from __future__ import annotations

import csv
import io
import re
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from tansy.engine.errors import FileError
from tansy.engine.reading.workbook import read_sheet
from tansy.engine.timeline import form_of

_DELIMITERS = (",", ";", "\t", "|")
_SAMPLE_LINES = 50
_MOST_ROWS = 30_000_000
_BLANK_LINES = re.compile(rb"^([ \t,;|]*\r?\n)*")


@dataclass(frozen=True)
class Table:
    """All columns as text, in the order of the file. header_line: line of the header. sheets: of a workbook; sheet: the
    one that was read."""

    frame: pl.DataFrame
    header_line: int = 1
    sheets: tuple[str, ...] = ()
    sheet: str | None = None


def read_table(path: Path, sheet: str | None = None) -> pl.DataFrame:
    """All columns as text. Raises FileError in one sentence where the file cannot be read."""
    return open_table(path, sheet).frame


def open_table(path: Path, sheet: str | None = None) -> Table:
    """A file of any format. Raises FileError in one sentence where it cannot be read."""
    try:
        size = path.stat().st_size
    except OSError as error:
        raise FileError(f"{path.name}: {error.strerror or 'cannot be opened'}.") from None
    if size == 0:
        raise FileError(f"{path.name} is empty.")
    with path.open("rb") as file:
        head = file.read(8192)
    if head[:4] == b"PK\x03\x04":
        frame, line, sheets, chosen = read_sheet(path, sheet)
        table = Table(frame, line, tuple(sheets), chosen)
    elif head[:4] == b"PAR1":
        table = Table(_read_parquet(path))
    else:
        table = _read_csv(path, head)
    if table.frame.height == 0:
        raise FileError(f"{path.name} has a header but no rows below it.")
    return table


def _read_parquet(path: Path) -> pl.DataFrame:
    try:
        if pl.scan_parquet(path).select(pl.len()).collect().item() > _MOST_ROWS:
            raise FileError(f"{path.name} holds more than {_MOST_ROWS:,} rows; split it by year.")
        return _as_text(pl.read_parquet(path))
    except pl.exceptions.PolarsError:
        raise FileError(f"{path.name} starts like a Parquet file but cannot be read as one.") from None


def _as_text(table: pl.DataFrame) -> pl.DataFrame:
    columns = []
    for column in table.get_columns():
        if column.dtype == pl.Datetime:
            column = column.dt.date()
        columns.append(column.cast(pl.String, strict=False).fill_null(""))
    return pl.DataFrame(columns)


def _read_csv(path: Path, head: bytes) -> Table:
    if b"\x00" in head and not head.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise FileError(f"{path.name} is a binary file; expected are CSV, XLSX or Parquet.")
    raw = path.read_bytes()
    raw = _to_utf8(raw)
    blank_lines = len(_BLANK_LINES.match(raw).group().splitlines())  # type: ignore[union-attr]
    raw = _BLANK_LINES.sub(b"", raw, count=1)
    sample = raw[:65536].decode("utf-8", errors="ignore").splitlines()[:_SAMPLE_LINES]
    delimiter = _delimiter(path.name, sample)
    _check_header(path.name, next(csv.reader(sample[:1], delimiter=delimiter)))
    try:
        return Table(pl.read_csv(raw, separator=delimiter, infer_schema=False).fill_null(""), 1 + blank_lines)
    except pl.exceptions.PolarsError:
        raise FileError(_ragged_row(path.name, raw, delimiter)) from None


def _to_utf8(raw: bytes) -> bytes:
    """UTF-8 with or without a mark, UTF-16 with one, else Latin-1 as Western spreadsheets write it."""
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        return raw.decode("utf-16").encode()
    raw = raw.removeprefix(b"\xef\xbb\xbf")
    try:
        raw.decode("utf-8")
        return raw
    except UnicodeDecodeError:
        return raw.decode("cp1252", errors="replace").encode()


def _delimiter(name: str, sample: list[str]) -> str:
    if not sample or not "".join(sample).strip():
        raise FileError(f"{name} is empty but for blanks.")
    widths = {d: len(next(csv.reader(sample[:1], delimiter=d), [])) for d in _DELIMITERS}
    best = max(_DELIMITERS, key=lambda d: widths[d])
    if widths[best] < 2:
        raise FileError(
            f"{name}, row 1: only one column was found ({sample[0][:40]!r}); "
            "columns are separated by comma, semicolon, tab or |."
        )
    return best


def _check_header(name: str, header: list[str]) -> None:
    for i, cell in enumerate(header):
        if not cell.strip():
            raise FileError(f"{name}, row 1: column {i + 1} has no name; the first row must name every column.")
    if len(set(header)) < len(header):
        twice = next(cell for cell in header if header.count(cell) > 1)
        raise FileError(f"{name}, row 1: two columns are named {twice!r}; give every column its own name.")
    periods = sum(form_of(cell) is not None for cell in header)
    numbers = [cell for cell in header if _is_number(cell) and form_of(cell) is None]
    if numbers and periods <= 2:
        at = header.index(numbers[0]) + 1
        raise FileError(
            f"{name}, row 1: column {at} is named {numbers[0]!r}, so the first row looks like data; "
            "add a header row that names the columns."
        )


def _is_number(text: str) -> bool:
    try:
        float(text.replace(",", "."))
    except ValueError:
        return False
    return True


def _ragged_row(name: str, raw: bytes, delimiter: str) -> str:
    """Which row has too few or too many cells, or a quote that is never closed."""
    width = 0
    rows = csv.reader(io.StringIO(raw.decode("utf-8"), newline=""), delimiter=delimiter)
    try:
        for row in rows:
            if not width:
                width = len(row)
            elif len(row) > width:
                return (
                    f"{name}, row {rows.line_num}: {len(row)} cells where the header names {width} columns; "
                    "a text that holds the separator must stand in double quotes."
                )
    except csv.Error as error:
        return f"{name}, row {rows.line_num}: {error}."
    return f"{name} cannot be read as a table; check its quotes near row {rows.line_num}."
