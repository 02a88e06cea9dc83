"""A sheet of a workbook as a table: merged cells filled, titles above the header and empty columns dropped."""

from __future__ import annotations

import polars as pl

from tansy.engine.reading.foreign import Cells
from tansy.engine.reading.header import LOOKED_AT, check_names, find_header


def with_header(file: str, found: Cells) -> tuple[pl.DataFrame, pl.DataFrame, int] | None:
    """The table below its header, which of its cells are numbers in the file, and the line of the header; None where
    there is no table."""
    cells = found.cells
    header = find_header([list(row) for row in cells.head(LOOKED_AT).rows()])
    if header is None:
        return None
    body = _filled(cells, [one for one in found.merged if one[0] > header.at])[header.at + 1 :]
    names = header.names + [""] * (cells.width - len(header.names))
    kept = [j for j, column in enumerate(body.get_columns()) if names[j] or (column.str.strip_chars() != "").any()]
    check_names(file, header.at + 1, [names[j] for j in kept])
    table = pl.DataFrame([body[str(j)].alias(names[j]) for j in kept])
    numbers = pl.DataFrame(
        [found.is_number[str(j)][header.at + 1 :].alias(names[j]) for j in kept if str(j) in found.is_number.columns]
    )
    return table, numbers, header.at + 1


def _filled(cells: pl.DataFrame, merged: list[tuple[int, int, int, int]]) -> pl.DataFrame:
    """Give every cell of a merged range the text of its first one."""
    columns: dict[int, list[str]] = {}

    def column(j: int) -> list[str]:
        if j not in columns:
            columns[j] = cells[str(j)].to_list()
        return columns[j]

    for top, left, bottom, right in merged:
        if top >= cells.height or left >= cells.width:
            continue
        text = column(left)[top]
        if not text:
            continue
        for j in range(left, min(right, cells.width - 1) + 1):
            own = column(j)
            for i in range(top, min(bottom, cells.height - 1) + 1):
                own[i] = own[i] or text
    return cells.with_columns(pl.Series(str(j), values, dtype=pl.String) for j, values in columns.items())
