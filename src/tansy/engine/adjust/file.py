"""A file of adjustments: a row each, read like any other file."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from tansy.engine.adjust.adjustment import Adjustment, place, read_adjustment
from tansy.engine.errors import AdjustmentError, FileError
from tansy.engine.graph.graph import Graph
from tansy.engine.panel import Panel
from tansy.engine.reading.numbers import numbers
from tansy.engine.reading.table import Table, open_table
from tansy.engine.timeline import Timeline

_OWN = ("from", "to", "period", "change", "amount", "over", "spread", "reason")
_MOST_ROWS = 10_000
_MOST_BYTES = 50_000_000
"""What so many rows stay far below; more is not even opened."""
_MOST_COLUMNS = 1_000
_SAID = 5


def open_adjustments(path: Path, called: str | None = None) -> Table:
    """A file of adjustments as a table. Raises FileError where it is none, or has more than can be laid at once."""
    name = called or path.name
    if path.stat().st_size > _MOST_BYTES:
        raise FileError(
            f"{name} holds {path.stat().st_size / 1e6:,.0f} MB; adjustments are at most {_MOST_ROWS:,} rows."
        )
    table = open_table(path, called=called)
    if table.frame.height > _MOST_ROWS:
        raise FileError(f"{name} has {table.frame.height:,} rows; {_MOST_ROWS:,} adjustments are the most at once.")
    if table.frame.width > _MOST_COLUMNS:
        raise FileError(f"{name} has {table.frame.width:,} columns; adjustments are laid by few.")
    return table


def read_adjustments(table: Table, name: str, graph: Graph, panel: Panel, ahead: Timeline) -> list[Adjustment]:
    """The adjustments of a file of that name, in its order.

    Columns: keys or attributes that name a node together, an empty cell for all; `from` and `to`, or `period`;
    `change` (set without one), `amount`; `over`, `spread` and `reason` where there are some. Raises FileError that
    names the first rows that cannot be used; then none is.
    """
    frame = table.frame
    heads = {column.strip().casefold(): column for column in frame.columns}
    of_node = [column for column in frame.columns if column.strip().casefold() not in _OWN]
    for column in of_node:
        if panel.column(column.strip()) is None:
            raise FileError(
                f"{name}: {column!r} is no key or attribute of this history; other columns are {', '.join(_OWN)}."
            )
    if "amount" not in heads:
        raise FileError(f"{name} has no column 'amount'.")
    if "period" not in heads and not {"from", "to"} <= heads.keys():
        raise FileError(f"{name} says no periods; it needs a column 'period', or 'from' and 'to'.")
    amounts = numbers(frame[heads["amount"]], table.numbers_in(heads["amount"])).to_list()
    rows = frame.with_columns(pl.all().cast(pl.String).fill_null("").str.strip_chars()).to_dicts()
    found: list[Adjustment] = []
    wrong: list[str] = []
    for line, (row, amount) in enumerate(zip(rows, amounts, strict=True), table.header_line + 1):
        own = {entry: row[column] for entry, column in heads.items() if entry in _OWN and row[column]}
        period = own.pop("period", "")
        entries = {"change": "set", **own, "amount": amount}
        if period:
            entries |= {"from": period, "to": period}
        entries["where"] = {column.strip(): row[column] for column in of_node if row[column]}
        try:
            if amount is None:
                raise AdjustmentError("amount", f"{row[heads['amount']]!r} is no number.")
            one = read_adjustment(entries)
            place(one, graph, panel, ahead)
            found.append(one)
        except AdjustmentError as error:
            wrong.append(f"row {line}: {error}")
    if wrong:
        more = f" And {len(wrong) - _SAID} more." if len(wrong) > _SAID else ""
        raise FileError(f"{name}, {' '.join(wrong[:_SAID])}{more} Nothing was taken.")
    return found
