"""What is understood of files that were handed in. Needs no records, so that it can be done apart from the server."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from tansy.engine.errors import FileError, StructureError
from tansy.engine.graph.edges import along_edges
from tansy.engine.graph.graph import Graph
from tansy.engine.panel import Panel
from tansy.engine.reading.append import later_options
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import Reading, understand
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.roles import guess_roles
from tansy.engine.reading.table import Table, open_table

_PREVIEW_ROWS = 8


@dataclass(frozen=True)
class Files:
    """Files that were handed in together. sales: the name of the one of sales; paths: where each is, by the name it was
    handed in with."""

    sales: str
    paths: dict[str, Path]

    @property
    def others(self) -> list[str]:
        return [name for name in self.paths if name != self.sales]

    def opened(self, name: str, sheet: str | None = None) -> Table:
        return open_table(self.paths[name], sheet, name)


def look(files: Files) -> None:
    """Raises FileError where the file of sales cannot be read as a table at all."""
    files.opened(files.sales)


def read(files: Files, options: ReadOptions, sales: Table | None = None) -> Reading:
    """Read files with the planner's decisions. sales: theirs, where they have been opened already."""
    table = sales or files.opened(files.sales, options.sheet)
    named = options.attribute_files or dict.fromkeys(files.others, "")
    beside = {name: files.opened(name) for name in named}
    return understand(table, replace(options, file=files.sales, attribute_files=named), files.sales, beside)


def read_later(files: Files, before: ReadOptions, options: ReadOptions) -> Reading:
    """Read files of later actuals as those before, but for the column roles and the sheet that options name."""
    sales = files.opened(files.sales, options.sheet)
    chosen = {name: given for name in ("time", "value", "keys", "sheet") if (given := getattr(options, name))}
    return read(files, replace(later_options(before, sales.frame.columns), **chosen), sales)


def preview(files: Files, options: ReadOptions) -> dict[str, Any]:
    """What was understood of files: the first rows as written and as understood, a role and its reason per column,
    findings and figures.

    Where the columns cannot be told yet, `problem` says so in a sentence and the roles can be set by hand.
    """
    sales = files.opened(files.sales, options.sheet)
    table = sales.frame
    guess = guess_roles(table, options.period_columns)
    found: dict[str, Any] = {
        "columns": [
            {"name": name, "role": role.kind, "of": role.of, "reason": role.reason}
            for name, role in guess.roles.items()
        ],
        "rows": [list(row) for row in table.head(_PREVIEW_ROWS).rows()],
        "n_rows": table.height,
        "layout": guess.layout,
        "sheets": list(sales.sheets),
        "sheet": sales.sheet,
        "problem": None,
        "understood": None,
    }
    try:
        reading = read(files, options, sales)
        graph = graph_of_edges(reading.panel)
    except (FileError, StructureError) as error:
        return {**found, "problem": str(error)}
    settled = reading.options
    for column in found["columns"]:
        name = column["name"]
        of = (settled.attribute_columns or {}).get(name)
        kind = "attribute" if of else "key" if name in settled.keys else "ignored"
        if reading.layout == "long":
            kind = "time" if name == settled.time else "value" if name == settled.value else kind
            kind = "driver" if name in (settled.driver_columns or ()) else kind
        elif column["role"] == "period":
            kind = "period"
        if kind != column["role"] or of != column["of"]:
            column.update(role=kind, of=of, reason="as you set it")
    return {**found, "understood": {**_understood_json(reading), "edges": _edges_json(reading.panel, graph)}}


def graph_of_edges(panel: Panel) -> Graph | None:
    """How series add up where a file of edges says so. Raises StructureError where they cannot."""
    return along_edges(panel, panel.edges) if panel.edges else None


def _edges_json(panel: Panel, graph: Graph | None) -> dict[str, Any] | None:
    if panel.edges is None or graph is None:
        return None
    tops = int((graph.axes[0].parents < 0).sum())
    return {"file": panel.edges.name, "n_totals": graph.n_aggregates, "n_tops": tops}


def _understood_json(reading: Reading) -> dict[str, Any]:
    panel = reading.panel
    levels = default_levels(panel)
    return {
        "frequency": panel.timeline.frequency,
        "first": panel.timeline.ends[0],
        "last": panel.timeline.ends[1],
        "n_periods": panel.timeline.n_periods,
        "n_series": panel.n_series,
        "n_rows": reading.n_rows,
        "n_refused": reading.n_refused,
        "total": float(np.nansum(panel.values)),
        "decimal": reading.decimal,
        "n_missing": int(np.isnan(panel.values).sum()),
        "keys": [
            {
                "name": key,
                "count": len(set(panel.keys[key])),
                "levels": levels[key],
                "named_by": reading.named_by.get(key, ""),
            }
            for key in panel.key_names
        ],
        "drivers": [{"name": name, "ahead": panel.n_ahead} for name in panel.drivers],
        "first_rows": {"columns": reading.first_rows.columns, "rows": [list(r) for r in reading.first_rows.rows()]},
        "findings": [finding.to_json() for finding in reading.findings],
    }
