"""Workbooks and Parquet files, read in a process of their own.

A file of a few kilobytes can ask for more memory than there is, or end the process that reads it. So the child limits
what it may take, and the parent waits for so long and no longer; what the child has read comes back as an Arrow file.
The child is this file, run by itself: it imports nothing of ours.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import zipfile
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

import polars as pl

MOST_BYTES = int(os.environ.get("TANSY_READ_BYTES", 1_500_000_000))
"""What an archive may unpack to. A workbook of the format's 1,048,576 rows by 20 columns stays below it."""
MOST_CELLS = 60_000_000
MOST_ROWS = 30_000_000
MOST_COLUMNS = 20_000
MEMORY = int(os.environ.get("TANSY_READ_MEMORY", 6_000_000_000))
SECONDS = int(os.environ.get("TANSY_READ_SECONDS", 180))

_CHUNK = 1 << 20
_REFUSED = 3  # exit status: the sentence stands on standard output


class Refused(Exception):
    """The file cannot be read; the sentence says why, without its name."""


@dataclass(frozen=True)
class Cells:
    """cells: texts by column, named "0", "1", ... in a workbook. is_number: for the columns where any cell is a number
    in the file, which ones are. sheets: all of a workbook, and sheet: the one that was read. merged: ranges (first row,
    first column, last row, last column), counted from 0."""

    cells: pl.DataFrame
    is_number: pl.DataFrame
    sheets: tuple[str, ...]
    sheet: str | None
    merged: tuple[tuple[int, int, int, int], ...]


def read_foreign(path: Path, sheet: str | None) -> Cells:
    """Cells of a workbook's sheet, the first with anything in it where none is named, or of a Parquet file.

    Raises Refused where it cannot be read within the limits.
    """
    with tempfile.TemporaryDirectory(prefix="tansy-read-") as folder:
        out = Path(folder)
        command = [sys.executable, "-I", __file__, str(path), str(out), json.dumps(sheet)]
        try:
            done = subprocess.run(
                command, capture_output=True, timeout=SECONDS, start_new_session=True, check=False,
                env={**os.environ, "POLARS_MAX_THREADS": "2"},
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            raise Refused(f"takes longer than {SECONDS} s to read; save it as CSV, or split it by year") from None
        if done.returncode == _REFUSED:
            raise Refused(done.stdout.decode())
        if done.returncode != 0:
            if b"memory" in done.stderr.lower() or b"MemoryError" in done.stderr:
                raise Refused(
                    f"asks for more memory to read than the {MEMORY / 1e9:g} GB it may have; look for a cell far "
                    "outside the table, save it as CSV, or split it by year"
                )
            raise Refused("is damaged or of an unusual kind, and cannot be read; save it anew, or as CSV")
        about = json.loads((out / "about.json").read_text())
        return Cells(
            pl.read_ipc(out / "cells.arrow"),
            pl.read_ipc(out / "numbers.arrow"),
            tuple(about["sheets"]), about["sheet"], tuple(tuple(one) for one in about["merged"]),
        )  # fmt: skip


# --- in the child


def _limit() -> None:
    """Bound what this process may take, before it opens the file."""
    resource.setrlimit(resource.RLIMIT_DATA, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _main(path: Path, out: Path, sheet: str | None) -> None:
    with path.open("rb") as file:
        is_parquet = file.read(4) == b"PAR1"
    found = _parquet(path) if is_parquet else _workbook(path, sheet)
    found.cells.write_ipc(out / "cells.arrow")
    found.is_number.write_ipc(out / "numbers.arrow")
    about = {"sheets": found.sheets, "sheet": found.sheet, "merged": found.merged}
    (out / "about.json").write_text(json.dumps(about))


def _parquet(path: Path) -> Cells:
    try:
        scan = pl.scan_parquet(path)
        if scan.select(pl.len()).collect().item() > MOST_ROWS:
            raise Refused(f"holds more than {MOST_ROWS:,} rows; split it by year")
        table = scan.collect()
    except pl.exceptions.PolarsError:
        raise Refused("starts like a Parquet file but cannot be read as one") from None
    texts, numbers = [], []
    for column in table.get_columns():
        if column.dtype.is_numeric():
            numbers.append(column.is_not_null())
        elif column.dtype == pl.Datetime:
            column = column.dt.date() if (column.dt.time() == time(0)).all() else column.dt.to_string("iso")
        texts.append(column.cast(pl.String, strict=False).fill_null(""))
    return Cells(pl.DataFrame(texts), pl.DataFrame(numbers), (), None, ())


def _workbook(path: Path, sheet: str | None) -> Cells:
    from python_calamine import CalamineError, load_workbook

    _check_size(path)
    try:
        with load_workbook(path) as book:
            names = book.sheet_names
            if sheet is not None and sheet not in names:
                raise Refused(f"has no sheet {sheet!r}; its sheets are {', '.join(names)}")
            for name in [sheet] if sheet is not None else names:
                one = book.get_sheet_by_name(name)
                if one.total_height * one.total_width > MOST_CELLS or one.total_width > MOST_COLUMNS:
                    raise Refused(
                        f"has a sheet of {one.total_height:,} rows and {one.total_width:,} columns, {name!r}; look for "
                        "a cell far outside the table"
                    )
                rows = one.to_python(skip_empty_area=False)
                if any(cell not in ("", None) for row in rows for cell in row):
                    merged = [(*start, *end) for start, end in one.merged_cell_ranges or []]
                    return _typed(rows, names, name, merged)
    except (CalamineError, KeyError, ValueError, OSError, zipfile.BadZipFile):
        raise Refused("is a zip archive but not a readable XLSX workbook") from None
    raise Refused("has no sheet with rows in it")


def _typed(rows: list[list[Any]], names: list[str], name: str, merged: list[Any]) -> Cells:
    width = max(map(len, rows))
    texts: list[pl.Series] = []
    numbers: list[pl.Series] = []
    for j in range(width):
        column = [row[j] if j < len(row) else "" for row in rows]
        flags = [isinstance(cell, (int, float)) and not isinstance(cell, bool) for cell in column]
        texts.append(pl.Series(str(j), [_text(cell) for cell in column], dtype=pl.String))
        if any(flags):
            numbers.append(pl.Series(str(j), flags))
    return Cells(pl.DataFrame(texts), pl.DataFrame(numbers), tuple(names), name, tuple(map(tuple, merged)))


def _text(cell: Any) -> str:
    if isinstance(cell, str):
        return cell
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else repr(cell)
    if isinstance(cell, datetime):
        return cell.date().isoformat() if cell.time() == time(0) else cell.isoformat(sep=" ")
    if isinstance(cell, date | time):
        return cell.isoformat()
    if isinstance(cell, timedelta):
        return str(cell)
    return "" if cell is None else str(cell)


def _check_size(path: Path) -> None:
    """Unpack the archive to nowhere, counting. Raises Refused where it holds more than may be read."""
    import zlib

    try:
        with zipfile.ZipFile(path) as archive:
            left = MOST_BYTES
            for entry in archive.infolist():
                with archive.open(entry) as file:
                    while piece := file.read(_CHUNK):
                        left -= len(piece)
                        if left < 0:
                            raise Refused("unpacks to more than can be read; use CSV or Parquet")
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, RuntimeError, ValueError):
        raise Refused("is a zip archive but not a readable XLSX workbook") from None


if __name__ == "__main__":
    _limit()
    try:
        _main(Path(sys.argv[1]), Path(sys.argv[2]), json.loads(sys.argv[3]))
    except Refused as refused:
        sys.stdout.write(str(refused))
        sys.exit(_REFUSED)
