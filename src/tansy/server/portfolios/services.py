"""Handing in a file, looking at it, loading it."""

from __future__ import annotations

import hashlib
import logging
import shutil
from collections.abc import Callable, Iterable
from dataclasses import asdict, replace
from datetime import timedelta
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

import numpy as np
from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.utils import timezone

from tansy.engine.cleaning.rules import Rules
from tansy.engine.errors import FileError
from tansy.engine.panel import Panel
from tansy.engine.reading.append import Appended, append
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import Reading
from tansy.engine.reading.options import ReadOptions
from tansy.engine.study.export import csv_of
from tansy.server.accounts.acts import Role
from tansy.server.apart import Ended, Full, apart
from tansy.server.api.errors import Busy, Conflict
from tansy.server.backup import durable
from tansy.server.portfolios import corrections, understanding
from tansy.server.portfolios.models import Load, Member, Portfolio, Series, Upload
from tansy.server.portfolios.understanding import Files

P = ParamSpec("P")
T = TypeVar("T")

logger = logging.getLogger("tansy.portfolios")

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
            read_apart(name, understanding.look, Files(name, {name: path_of(upload, name)}))
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


def files_of(upload: Upload) -> Files:
    return Files(upload.file_name, {n: path_of(upload, n) for n in (upload.file_name, *upload.attribute_names)})


def sweep() -> int:
    """Discard uploads that nobody has loaded for a day; returns how many."""
    old = Upload.objects.filter(made_at__lt=timezone.now() - timedelta(days=1))
    for upload in old:
        discard(upload)
    return len(old)


def discard(upload: Upload) -> None:
    shutil.rmtree(folder_of(upload), ignore_errors=True)
    upload.delete()


def preview(upload: Upload, options: ReadOptions) -> dict[str, Any]:
    """What is understood of an upload with the planner's decisions: see `understanding.preview`."""
    return read_apart(upload.file_name, understanding.preview, files_of(upload), options)


def read(upload: Upload, options: ReadOptions) -> Reading:
    """Read an upload with the planner's decisions."""
    return read_apart(upload.file_name, understanding.read, files_of(upload), options)


def read_apart(name: str, function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """What a function makes of a file of that name, apart. Raises FileError where it takes more than the machine has,
    Busy where others take long."""
    try:
        return apart(function, *args, **kwargs)
    except Ended:
        raise FileError(
            f"{name} takes more memory or time to read than this machine has for it now; split it by year, or "
            "try again when less is going on."
        ) from None
    except Full:
        raise Busy("Other files are being read, which takes long; try again in a minute.") from None


def load(upload: Upload, options: ReadOptions, name: str, user: Any) -> Portfolio:
    """Make a portfolio of an upload: everything or nothing. The upload's files stay with the load."""
    reading = read(upload, options)
    understanding.graph_of_edges(reading.panel)
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
    before = ReadOptions.from_mapping(portfolio.load.options)
    reading = read_apart(upload.file_name, understanding.read_later, files_of(upload), before, options)
    panel, summary = append(portfolio.load.panel(), reading.panel, reading.has_row, reading.options.gaps)
    understanding.graph_of_edges(panel)
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
