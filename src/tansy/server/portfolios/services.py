"""Handing in a file, looking at it, loading it."""

from __future__ import annotations

import hashlib
import logging
import shutil
from collections.abc import Iterable
from dataclasses import asdict, replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.utils import timezone

from tansy.engine.cleaning.rules import Rules
from tansy.engine.errors import FileError, StructureError
from tansy.engine.graph.edges import along_edges
from tansy.engine.graph.graph import Graph
from tansy.engine.panel import Panel
from tansy.engine.reading.append import Appended, append, later_options
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import Reading, understand
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.roles import guess_roles
from tansy.engine.reading.table import Table, open_table
from tansy.engine.study.export import csv_of
from tansy.server.accounts.acts import Role
from tansy.server.api.errors import Conflict
from tansy.server.backup import durable
from tansy.server.portfolios import corrections
from tansy.server.portfolios.models import Load, Member, Portfolio, Series, Upload

logger = logging.getLogger("tansy.portfolios")

_PREVIEW_ROWS = 8
_BATCH = 500
_LONGEST_NAME = 150
ROWS_LEFT_OUT = "rows-left-out"
"""Name of the list of rows left out, beside the files of a load; those are kept as "file-0", "file-1" and so on."""


def folder_of(upload: Upload) -> Path:
    return settings.DATA / "uploads" / str(upload.pk)


def hand_in(user: Any, sales: UploadedFile, attributes: Iterable[UploadedFile]) -> Upload:
    """Keep the files of an upload, and discard those of others that were left lying. Raises FileError
    where one cannot be read as a table at all, and keeps nothing."""
    sweep()
    others = list(attributes)
    names = [Path(file.name or "file").name for file in (sales, *others)]
    if len(set(names)) < len(names):
        raise FileError("Two of the files have the same name; rename one of them.")
    if sum(file.size or 0 for file in (sales, *others)) > settings.MAX_UPLOAD_BYTES:
        raise FileError(f"The files hold more than {settings.MAX_UPLOAD_BYTES // 2**20} MB; split them by year.")
    long = next((name for name in names if len(name) > _LONGEST_NAME), None)
    if long is not None:
        raise FileError(f"The name of the file {long[:40]}... is longer than {_LONGEST_NAME} letters; shorten it.")
    upload = Upload.objects.create(
        made_by=user, file_name=names[0], attribute_names=names[1:], sha256="", size=sales.size or 0
    )
    folder = folder_of(upload)
    shutil.rmtree(folder, ignore_errors=True)  # left over from one that was rolled back
    folder.mkdir(parents=True)
    try:
        digest = hashlib.sha256()
        for i, (name, file) in enumerate(zip(names, (sales, *others), strict=True)):
            with path_of(upload, name).open("wb") as target:
                for chunk in file.chunks():
                    target.write(chunk)
                    if i == 0:
                        digest.update(chunk)
            opened(upload, name)
        upload.sha256 = digest.hexdigest()
        upload.save(update_fields=["sha256"])
    except Exception:
        discard(upload)
        raise
    return upload


def path_of(upload: Upload, name: str) -> Path:
    """Where a file of an upload is kept: under a name of our own, by its place among the files, whatever its name."""
    place = [upload.file_name, *upload.attribute_names].index(name)
    return folder_of(upload) / f"file-{place}"


def opened(upload: Upload, name: str, sheet: str | None = None) -> Table:
    """A file of an upload as a table, under the name it was handed in with."""
    return open_table(path_of(upload, name), sheet, name)


def sweep() -> int:
    """Discard uploads that nobody has loaded for a day; returns how many."""
    old = Upload.objects.filter(made_at__lt=timezone.now() - timedelta(days=1))
    for upload in old:
        discard(upload)
    return len(old)


def discard(upload: Upload) -> None:
    shutil.rmtree(folder_of(upload), ignore_errors=True)
    upload.delete()


def read(upload: Upload, options: ReadOptions, sales: Table | None = None) -> Reading:
    """Read an upload with the planner's decisions. sales: its sales, where they have been opened already."""
    table = sales or opened(upload, upload.file_name, options.sheet)
    files = options.attribute_files or dict.fromkeys(upload.attribute_names, "")
    beside = {name: opened(upload, name) for name in files}
    return understand(table, replace(options, file=upload.file_name, attribute_files=files), upload.file_name, beside)


def preview(upload: Upload, options: ReadOptions) -> dict[str, Any]:
    """What was understood of an upload: the first rows as written and as understood, a role and its reason per column,
    findings and figures.

    Where the columns cannot be told yet, `problem` says so in a sentence and the roles can be set by hand.
    """
    sales = opened(upload, upload.file_name, options.sheet)
    table = sales.frame
    guess = guess_roles(table, options.period_columns)
    found: dict[str, Any] = {
        "columns": [
            {"name": name, "role": role.kind, "of": role.of, "reason": role.reason}
            for name, role in guess.roles.items()
        ],
        "rows": _first_rows(table),
        "n_rows": table.height,
        "layout": guess.layout,
        "sheets": list(sales.sheets),
        "sheet": sales.sheet,
        "problem": None,
        "understood": None,
    }
    try:
        reading = read(upload, options, sales)
        graph = _graph_of_edges(reading.panel)
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
    return {**found, "understood": {**understood_json(reading), "edges": _edges_json(reading.panel, graph)}}


def _graph_of_edges(panel: Panel) -> Graph | None:
    """How series add up where a file of edges says so. Raises StructureError where they cannot."""
    return along_edges(panel, panel.edges) if panel.edges else None


def _edges_json(panel: Panel, graph: Graph | None) -> dict[str, Any] | None:
    if panel.edges is None or graph is None:
        return None
    tops = int((graph.axes[0].parents < 0).sum())
    return {"file": panel.edges.name, "n_totals": graph.n_aggregates, "n_tops": tops}


def _first_rows(table: pl.DataFrame) -> list[list[str]]:
    return [list(row) for row in table.head(_PREVIEW_ROWS).rows()]


def understood_json(reading: Reading) -> dict[str, Any]:
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


def load(upload: Upload, options: ReadOptions, name: str, user: Any) -> Portfolio:
    """Make a portfolio of an upload: everything or nothing. The upload's files stay with the load."""
    reading = read(upload, options)
    _graph_of_edges(reading.panel)
    with transaction.atomic():
        portfolio = store(reading, name, upload.file_name, upload.sha256, user)
        _keep_files(upload, portfolio.load, reading)
    discard(upload)
    look_for_suspicious(portfolio.load, user)
    return portfolio


def look_for_suspicious(made: Load, user: Any) -> None:
    """Look for suspicious values by the rules used last, or the usual ones, so that nobody forecasts a slip unseen.

    What was loaded stands, even where the search cannot be done: it can be asked for again.
    """
    try:
        corrections.search(made, corrections.rules_in_use(made.portfolio) or Rules(), user)
    except Exception:
        logger.exception("search for suspicious values after load %s", made.pk)


def _keep_files(upload: Upload, made: Load, reading: Reading) -> None:
    kept = settings.DATA / "loads" / str(made.pk)
    if kept.exists():
        shutil.rmtree(kept)  # left over from a load that was rolled back
    kept.parent.mkdir(exist_ok=True)
    shutil.copytree(folder_of(upload), kept)
    if reading.n_refused:
        (kept / ROWS_LEFT_OUT).write_bytes(csv_of(reading.refused, numbers_stay=True))
    for path in kept.iterdir():
        durable(path)  # before the load is, so that it outlives a power cut as that does
    durable(kept)


def store(reading: Reading, name: str, file_name: str, sha256: str, user: Any) -> Portfolio:
    """Write a reading to the database as a new portfolio, in one transaction."""
    with transaction.atomic():
        portfolio = Portfolio.objects.create(name=name, made_by=user)
        Member.objects.create(portfolio=portfolio, user=user, role=Role.KEEPER)
        store_load(portfolio, reading, reading.panel, file_name, sha256, user)
    return portfolio


def store_load(
    portfolio: Portfolio,
    reading: Reading,
    panel: Panel,
    file_name: str,
    sha256: str,
    user: Any,
    appended: Appended | None = None,
) -> Load:
    """Write a load and its series, in one transaction. panel: the whole history after this load."""
    with transaction.atomic():
        made = Load.objects.create(
            portfolio=portfolio,
            file_name=file_name,
            sha256=sha256,
            loaded_by=user,
            options=asdict(reading.options),
            findings=[finding.to_json() for finding in reading.findings],
            n_rows=reading.n_rows,
            n_refused=reading.n_refused,
            n_series=panel.n_series,
            total=float(np.nansum(panel.values)),
            frequency=panel.timeline.frequency,
            first_period=panel.timeline.first,
            n_periods=panel.timeline.n_periods,
            season_length=panel.timeline.season_length,
            key_names=list(panel.key_names),
            attributes=panel.attributes,
            levels=default_levels(panel) if appended is None else portfolio.load.levels,
            edges=asdict(panel.edges) if panel.edges else None,
            driver_names=list(panel.drivers),
            n_ahead=panel.n_ahead,
            appended=appended.to_json() if appended else None,
        )
        values = np.ascontiguousarray(panel.values, dtype="<f8")
        drivers = (
            np.ascontiguousarray(np.stack(list(panel.drivers.values()), axis=1), dtype="<f8") if panel.drivers else None
        )
        columns = [panel.keys[key] for key in panel.key_names]
        Series.objects.bulk_create(
            (
                Series(
                    load=made,
                    position=i,
                    keys=list(keys),
                    packed=values[i].tobytes(),
                    drivers=b"" if drivers is None else drivers[i].tobytes(),
                )
                for i, keys in enumerate(zip(*columns, strict=True))
            ),
            batch_size=_BATCH,
        )
    return made


def appended(upload: Upload, portfolio: Portfolio, options: ReadOptions) -> tuple[Reading, Panel, Appended]:
    """What the portfolio's history would be with this upload, and what that changes. Nothing is loaded.

    options: decisions that differ from those of the newest load; only its column roles and sheet count.
    """
    sales = opened(upload, upload.file_name, options.sheet)
    as_before = later_options(ReadOptions.from_mapping(portfolio.load.options), sales.frame.columns)
    chosen = {name: given for name in ("time", "value", "keys", "sheet") if (given := getattr(options, name))}
    reading = read(upload, replace(as_before, **chosen), sales)
    panel, summary = append(portfolio.load.panel(), reading.panel, reading.has_row, reading.options.gaps)
    _graph_of_edges(panel)
    return reading, panel, summary


def append_upload(upload: Upload, portfolio: Portfolio, options: ReadOptions, user: Any) -> Load:
    """Put later actuals to a portfolio as a new load: everything or nothing. Raises Conflict where nothing is new."""
    before = portfolio.load.pk
    reading, panel, summary = appended(upload, portfolio, options)
    if not (summary.n_new or summary.n_revised):
        raise Conflict("Nothing in this file is new: every value is in the portfolio already.")
    with transaction.atomic():
        if portfolio.load.pk != before:
            raise Conflict("Somebody else has just added to this portfolio; look at what the file brings again.")
        made = store_load(portfolio, reading, panel, upload.file_name, upload.sha256, user, summary)
        _keep_files(upload, made, reading)
    discard(upload)
    look_for_suspicious(made, user)
    return made


def undo(made: Load) -> None:
    """Take the newest load of a portfolio back; its first load goes with the portfolio alone.

    Raises Conflict where a study has used it, or where it is not the newest.
    """
    if made.pk != made.portfolio.load.pk:
        raise Conflict("Only the newest load can be undone.")
    if made.appended is None:
        raise Conflict("This is the first load of the portfolio; nothing would be left.")
    if made.is_used:
        raise Conflict("A study has used this load, so it stays.")
    folder = settings.DATA / "loads" / str(made.pk)
    with transaction.atomic():
        made.delete()
    shutil.rmtree(folder, ignore_errors=True)


def data_section(load: Load) -> ReadOptions:
    """How the history up to this load was read, as the [data] section of a recipe."""
    loads = list(load.portfolio.loads.filter(pk__lte=load.pk).order_by("id"))
    options = ReadOptions.from_mapping(loads[0].options)
    return replace(options, file=loads[0].file_name, more=tuple(later.file_name for later in loads[1:]))
