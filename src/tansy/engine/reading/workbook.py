"""Sheets of an XLSX workbook as texts: empty first rows and columns dropped, merged cells filled, sizes bounded."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

import polars as pl

from tansy.engine.errors import FileError

MOST_BYTES = 1_500_000_000
"""What an archive may unpack to. A workbook of the format's 1,048,576 rows by 20 columns stays below it."""

_CHUNK = 1 << 20
_MERGE = re.compile(rb'<mergeCell\s+ref="([A-Z]+)(\d+):([A-Z]+)(\d+)"')
_SHEET = re.compile(r'<sheet\b[^>]*?\bname="([^"]*)"[^>]*?\br:id="([^"]*)"')
_TARGET = re.compile(r"<Relationship\b[^>]*>")


def check_size(path: Path) -> None:
    """Unpack the archive to nowhere, counting. Raises FileError where it holds more than may be read."""
    try:
        with zipfile.ZipFile(path) as archive:
            left = MOST_BYTES
            for entry in archive.infolist():
                with archive.open(entry) as file:
                    while piece := file.read(_CHUNK):
                        left -= len(piece)
                        if left < 0:
                            raise FileError(f"{path.name} unpacks to more than can be read; use CSV or Parquet.")
    except (zipfile.BadZipFile, EOFError, OSError, NotImplementedError, RuntimeError):
        raise FileError(f"{path.name} is a zip archive but not a readable XLSX workbook.") from None


def sheet_names(path: Path) -> list[str]:
    return list(_sheet_files(path))


def read_sheet(path: Path, sheet: str | None) -> tuple[pl.DataFrame, int, list[str], str]:
    """Cells of a sheet as texts, the line of its header, the names of all sheets, and which one it is.

    Without a name, the first sheet with rows in it. Formulas count as the values that were saved with them.
    """
    check_size(path)
    files = _sheet_files(path)
    if sheet is not None and sheet not in files:
        raise FileError(f"{path.name} has no sheet {sheet!r}; its sheets are {', '.join(files)}.")
    for name in [sheet] if sheet is not None else list(files):
        cells = _cells(path, name)
        if cells is None:
            continue
        found = _with_header(path, files[name], cells)
        if found is not None:
            return *found, list(files), name
    raise FileError(f"{path.name} has no sheet with rows in it.")


def _sheet_files(path: Path) -> dict[str, str]:
    """Name of every sheet -> its file in the archive."""
    import html

    try:
        with zipfile.ZipFile(path) as archive:
            book = archive.read("xl/workbook.xml").decode("utf-8")
            relations = archive.read("xl/_rels/workbook.xml.rels").decode("utf-8")
    except (KeyError, zipfile.BadZipFile, UnicodeDecodeError):
        raise FileError(f"{path.name} is a zip archive but not a readable XLSX workbook.") from None
    targets: dict[str, str] = {}
    for relation in _TARGET.findall(relations):
        parts = dict(re.findall(r'(\w+)="([^"]*)"', relation))
        target = parts.get("Target", "")
        targets[parts.get("Id", "")] = target.removeprefix("/") if target.startswith("/") else f"xl/{target}"
    return {html.unescape(name): targets.get(relation, "") for name, relation in _SHEET.findall(book)}


def _cells(path: Path, sheet: str) -> pl.DataFrame | None:
    """All cells of a sheet from its first row and column on, as texts, None where it is empty."""
    try:
        table = pl.read_excel(
            path,
            sheet_name=sheet,
            engine="calamine",
            has_header=False,
            infer_schema_length=0,
            drop_empty_rows=False,
            drop_empty_cols=False,
            raise_if_empty=False,
            read_options={"skip_rows": 0},
        )
    except Exception:
        raise FileError(f"{path.name}: the sheet {sheet!r} cannot be read.") from None
    if table.height == 0 or table.width == 0:
        return None
    columns = [column.cast(pl.String, strict=False).fill_null("") for column in table.get_columns()]
    # a date is written with midnight behind it
    return pl.DataFrame([column.str.replace(r"^(\d{4}-\d\d-\d\d)[ T]00:00:00(\.0+)?$", "$1") for column in columns])


def _fill_merged(path: Path, file: str, cells: pl.DataFrame, header: int) -> pl.DataFrame:
    """Give every cell of a merged range, from the header down, the text of its first one."""
    with zipfile.ZipFile(path) as archive:
        try:
            ranges = _MERGE.findall(archive.read(file)[-5_000_000:])
        except KeyError:
            return cells
    if not ranges:
        return cells
    columns = [column.to_list() for column in cells.get_columns()]
    for left, top, right, bottom in ranges:
        rows = range(int(top) - 1, min(int(bottom), cells.height))
        across = range(_number(left) - 1, min(_number(right), cells.width))
        if not (len(rows) and len(across)) or rows[0] < header:
            continue
        text = columns[across[0]][rows[0]]
        for c in across:
            for r in rows:
                columns[c][r] = columns[c][r] or text
    return pl.DataFrame([pl.Series(str(i), column, dtype=pl.String) for i, column in enumerate(columns)])


def _number(letters: bytes) -> int:
    value = 0
    for letter in letters:
        value = value * 26 + letter - 64
    return value


def _with_header(path: Path, file: str, cells: pl.DataFrame) -> tuple[pl.DataFrame, int] | None:
    """The header is the first row with at least two filled cells; titles above it and empty columns are dropped."""
    filled = cells.select(pl.sum_horizontal((pl.all() != "").cast(pl.Int32))).to_series().to_numpy()
    wide = filled >= 2
    if not wide.any():
        return None
    at = int(wide.argmax())
    body = _fill_merged(path, file, cells, at)[at:]
    kept = [column for column in body.get_columns() if (column != "").any()]
    header = [str(column[0]).strip() for column in kept]
    for i, text in enumerate(header):
        if not text:
            raise FileError(
                f"{path.name}, row {at + 1}: column {i + 1} has no name; the first row must name every column."
            )
    twice = next((text for text in header if header.count(text) > 1), None)
    if twice is not None:
        raise FileError(f"{path.name}, row {at + 1}: two columns are named {twice!r}; give every column its own name.")
    return pl.DataFrame([column[1:].alias(text) for column, text in zip(kept, header, strict=True)]), at + 1
