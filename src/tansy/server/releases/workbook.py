"""A release as a workbook: a cover that says what it is, and a sheet per level."""

from __future__ import annotations

import io
import re
from typing import Any

import polars as pl
import xlsxwriter

from tansy.server.releases.models import Release
from tansy.server.releases.services import named_as_now

MOST_ROWS = 50_000
"""Of a sheet, which takes some five seconds to write: what is larger is no work for a spreadsheet, and stands in the
Parquet and CSV files."""

_LONGEST_NAME = 31  # of a sheet


def as_xlsx(release: Release) -> bytes:
    rows = named_as_now(pl.scan_parquet(io.BytesIO(release.content()))).collect()
    levels = rows["level"].unique(maintain_order=True).to_list()
    buffer = io.BytesIO()
    book = xlsxwriter.Workbook(
        buffer, {"constant_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    )
    bold, number = book.add_format({"bold": True}), book.add_format({"num_format": "#,##0.0"})
    names: dict[str, str] = {}
    for level in levels:
        names[level] = _sheet_name(level, set(names.values()) | {"Cover"})
    sizes = {level: int((rows["level"] == level).sum()) for level in levels}
    _cover(book, bold, release, names, sizes)
    for level in levels:
        if sizes[level] > MOST_ROWS:
            continue
        table = rows.filter(pl.col("level") == level).drop("level")
        sheet = book.add_worksheet(names[level])
        sheet.freeze_panes(1, 0)
        sheet.write_row(0, 0, table.columns, bold)
        floats = [dtype.is_float() for dtype in table.dtypes]
        for r, row in enumerate(table.iter_rows(), 1):
            for c, value in enumerate(row):
                if floats[c]:
                    sheet.write_number(r, c, value, number)
                else:
                    sheet.write(r, c, value)
        sheet.autofilter(0, 0, table.height, len(table.columns) - 1)
    book.close()
    return buffer.getvalue()


def _sheet_name(level: str, taken: set[str]) -> str:
    plain = re.sub(r"[\[\]:*?/\\']", " ", level)[:_LONGEST_NAME].strip() or "level"
    name, k = plain, 2
    while name.casefold() in {one.casefold() for one in taken}:
        name = f"{plain[: _LONGEST_NAME - 4]} ({k})"
        k += 1
    return name


def _cover(book: Any, bold: Any, release: Release, names: dict[str, str], sizes: dict[str, int]) -> None:
    sheet = book.add_worksheet("Cover")
    sheet.set_column(0, 0, 26)
    sheet.set_column(1, 4, 30)
    withdrawal = getattr(release, "withdrawal", None)
    said: list[tuple[str, Any]] = [
        ("Release", f"R{release.number} of {release.portfolio.name}"),
        ("Published", f"{release.published_at:%Y-%m-%d %H:%M} UTC by {release.published_by.username}"),
        *([("Withdrawn", f"{withdrawal.reason} ({withdrawal.made_by.username})")] if withdrawal else []),
        ("Note", release.note),
        ("Study", f"{release.study.name} #{release.study_id}"),
        ("History until", release.origin),
        ("Forecast", f"{release.first} to {release.last}"),
        ("Series, nodes", f"{release.n_series:,}, {release.n_nodes:,}"),
        ("Engine", release.engine),
        ("SHA-256 of the sales file", release.study.load.sha256),
        ("SHA-256 of the Parquet file", release.sha256),
    ]
    row = 0
    for name, value in said:
        sheet.write_string(row, 0, name, bold)
        sheet.write_string(row, 1, str(value))
        row += 1
    row = _table(sheet, bold, row + 1, ["Check", "Holds", "Found"], [
        [one["name"], "yes" if one["holds"] else "no", one["found"]] for one in release.checks
    ])  # fmt: skip
    if release.adjustments:
        row = _table(sheet, bold, row + 1, ["Adjusted", "Change", "Reason", "By"], [
            [one["name"], one["words"], one["reason"], one["made_by"]] for one in release.adjustments
        ])  # fmt: skip
    _table(sheet, bold, row + 1, ["Level", "Sheet", "Rows"], [
        [level, names[level] if size <= MOST_ROWS else "too large: see the Parquet or CSV file", f"{size:,}"]
        for level, size in sizes.items()
    ])  # fmt: skip


def _table(sheet: Any, bold: Any, row: int, head: list[str], lines: list[list[str]]) -> int:
    """Writes a small table and returns the row after it."""
    for c, title in enumerate(head):
        sheet.write_string(row, c, title, bold)
    for line in lines:
        row += 1
        for c, value in enumerate(line):
            sheet.write_string(row, c, value)
    return row + 1
