"""A file of any of the supported formats -> a table of texts as written, with which of them are numbers in the file."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import polars as pl

from tansy.engine.errors import FileError
from tansy.engine.reading.delimited import read_delimited
from tansy.engine.reading.foreign import Refused, read_foreign
from tansy.engine.reading.workbook import with_header

_LONGEST_CELL = 32_767
"""Letters, as many as a spreadsheet's cell holds; a longer one is a quote that is closed far below, or no table."""


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
        if b"\x00" in head and not head.startswith((b"\xff\xfe", b"\xfe\xff")):
            raise FileError(f"{name} is a binary file; expected are CSV, XLSX or Parquet.")
        table = Table(*read_delimited(name, path.read_bytes()))
    if table.frame.height == 0:
        raise FileError(f"{name} has a header but no rows below it.")
    _check_lengths(name, table)
    return table


def _check_lengths(name: str, table: Table) -> None:
    longest = table.frame.select(pl.all().str.len_chars().max()).row(0)
    for column, length in zip(table.frame.columns, longest, strict=True):
        if length is not None and length > _LONGEST_CELL:
            row = int(table.frame[column].str.len_chars().arg_max() or 0) + table.header_line + 1
            raise FileError(
                f"{name}, about row {row}: a cell of {column!r} holds more than {_LONGEST_CELL:,} letters; look for a "
                "quote that is not closed."
            )


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
