"""Handing in a file, looking at it, loading it."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Iterable
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction

from tansy.engine.errors import FileError
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import Reading, read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.roles import guess_roles
from tansy.engine.reading.table import read_table
from tansy.server.portfolios.models import Load, Portfolio, Series, Upload

_PREVIEW_ROWS = 8
_BATCH = 500


def folder_of(upload: Upload) -> Path:
    return settings.DATA / "uploads" / str(upload.pk)


def hand_in(user: Any, sales: UploadedFile, attributes: Iterable[UploadedFile]) -> Upload:
    """Keep the files of an upload. Raises FileError where one cannot be read as a table at all, and keeps nothing."""
    others = list(attributes)
    names = [Path(file.name or "file").name for file in (sales, *others)]
    if len(set(names)) < len(names):
        raise FileError("Two of the files have the same name; rename one of them.")
    if sum(file.size or 0 for file in (sales, *others)) > settings.MAX_UPLOAD_BYTES:
        raise FileError(f"The files hold more than {settings.MAX_UPLOAD_BYTES // 2**20} MB; split them by year.")
    upload = Upload.objects.create(
        made_by=user, file_name=names[0], attribute_names=names[1:], sha256="", size=sales.size or 0
    )
    folder = folder_of(upload)
    folder.mkdir(parents=True)
    try:
        for name, file in zip(names, (sales, *others), strict=True):
            with (folder / name).open("wb") as target:
                for chunk in file.chunks():
                    target.write(chunk)
            read_table(folder / name)
        with (folder / names[0]).open("rb") as kept:
            upload.sha256 = hashlib.file_digest(kept, "sha256").hexdigest()
        upload.save(update_fields=["sha256"])
    except Exception:
        discard(upload)
        raise
    return upload


def discard(upload: Upload) -> None:
    shutil.rmtree(folder_of(upload), ignore_errors=True)
    upload.delete()


def read(upload: Upload, options: ReadOptions) -> Reading:
    """Read an upload with the planner's decisions."""
    files = options.attribute_files or dict.fromkeys(upload.attribute_names, "")
    return read_panel(
        folder_of(upload) / upload.file_name, replace(options, file=upload.file_name, attribute_files=files)
    )


def preview(upload: Upload, options: ReadOptions) -> dict[str, Any]:
    """What was understood of an upload: the first rows, a role and its reason per column, findings and figures.

    Where the columns cannot be told yet, `problem` says so in a sentence and the roles can be set by hand.
    """
    table = read_table(folder_of(upload) / upload.file_name, options.sheet)
    guess = guess_roles(table)
    found: dict[str, Any] = {
        "columns": [
            {"name": name, "role": role.kind, "of": role.of, "reason": role.reason}
            for name, role in guess.roles.items()
        ],
        "rows": _first_rows(table),
        "n_rows": table.height,
        "layout": guess.layout,
        "problem": None,
        "understood": None,
    }
    try:
        reading = read(upload, options)
    except FileError as error:
        return {**found, "problem": str(error)}
    settled = reading.options
    for column in found["columns"]:
        name = column["name"]
        of = (settled.attribute_columns or {}).get(name)
        kind = "attribute" if of else "key" if name in settled.keys else "ignored"
        if reading.layout == "long":
            kind = "time" if name == settled.time else "value" if name == settled.value else kind
        elif column["role"] == "period":
            kind = "period"
        if kind != column["role"] or of != column["of"]:
            column.update(role=kind, of=of, reason="as you set it")
    return {**found, "understood": understood(reading)}


def _first_rows(table: pl.DataFrame) -> list[list[str]]:
    return [list(row) for row in table.head(_PREVIEW_ROWS).rows()]


def understood(reading: Reading) -> dict[str, Any]:
    panel = reading.panel
    levels = default_levels(panel)
    return {
        "frequency": panel.timeline.frequency,
        "first": panel.timeline.labels[0],
        "last": panel.timeline.labels[-1],
        "n_periods": panel.timeline.n_periods,
        "n_series": panel.n_series,
        "n_rows": reading.n_rows,
        "n_refused": reading.n_refused,
        "total": float(np.nansum(panel.values)),
        "n_missing": int(np.isnan(panel.values).sum()),
        "keys": [{"name": key, "count": len(set(panel.keys[key])), "levels": levels[key]} for key in panel.key_names],
        "findings": [finding.to_json() for finding in reading.findings],
    }


def load(upload: Upload, options: ReadOptions, name: str, user: Any) -> Portfolio:
    """Make a portfolio of an upload: everything or nothing. The upload's files stay with the load."""
    reading = read(upload, options)
    with transaction.atomic():
        portfolio = store(reading, name, upload.file_name, upload.sha256, user)
        kept = settings.DATA / "loads" / str(portfolio.load.pk)
        if kept.exists():
            shutil.rmtree(kept)  # left over from a load that was rolled back
        kept.parent.mkdir(exist_ok=True)
        shutil.copytree(folder_of(upload), kept)
    discard(upload)
    return portfolio


def store(reading: Reading, name: str, file_name: str, sha256: str, user: Any) -> Portfolio:
    """Write a reading to the database, in one transaction."""
    panel = reading.panel
    with transaction.atomic():
        portfolio = Portfolio.objects.create(name=name, made_by=user)
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
            levels=default_levels(panel),
        )
        values = np.ascontiguousarray(panel.values, dtype="<f8")
        columns = [panel.keys[key] for key in panel.key_names]
        Series.objects.bulk_create(
            (
                Series(load=made, position=i, keys=list(keys), packed=values[i].tobytes())
                for i, keys in enumerate(zip(*columns, strict=True))
            ),
            batch_size=_BATCH,
        )
    return portfolio


def data_section(load: Load) -> ReadOptions:
    """How the load was read, as the [data] section of a recipe."""
    options = ReadOptions.from_mapping(load.options)
    return replace(options, file=load.file_name)
