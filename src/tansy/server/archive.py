"""A portfolio as one open archive, and one taken in.

A ZIP of Parquet, TOML and JSON: `tables/` has every record of the portfolio, a Parquet file for each kind, columns as
the records have them (JSON as text, arrays as little-endian float64); `files/` what was handed in. Beside these, for
reading elsewhere and never read back, `sales/` has each load as a table, `recipes/` the studies' TOML, `releases/` what
went out. `portfolio.json` says what is in it, with sums. What belongs to a place and not to the portfolio stays there:
roles, tokens, webhooks, the trail.

Taken in, records get new numbers, and people are found by their names; who is not there is made as somebody who does
not come in. All of it is there then, or nothing.
"""

from __future__ import annotations

import hashlib
import json
import os
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path
from shutil import copyfileobj, rmtree
from tempfile import TemporaryDirectory
from typing import Any
from uuid import uuid4

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
from django.apps import apps
from django.conf import settings
from django.contrib.auth.models import User
from django.db import DatabaseError, connection, models, transaction

from tansy.engine.errors import TansyError
from tansy.server.accounts.models import Trace
from tansy.server.api.errors import Damaged
from tansy.server.backup import durable
from tansy.server.portfolios.models import Load, Portfolio
from tansy.server.releases.models import Release
from tansy.server.studies.models import Run

FORMAT, MANIFEST = 1, "portfolio.json"
_BATCH = 2_000  # rows
_TABLES: dict[str, str] = {
    "portfolios.Portfolio": "pk",
    "portfolios.Load": "portfolio",
    "portfolios.Series": "load__portfolio",
    "portfolios.Search": "load__portfolio",
    "portfolios.Correction": "portfolio",
    "portfolios.Dismissal": "portfolio",
    "portfolios.MovedSeries": "portfolio",
    "portfolios.Plan": "portfolio",
    "studies.KeptMethod": "portfolio",
    "studies.Study": "portfolio",
    "studies.Run": "study__portfolio",
    "studies.Result": "study__portfolio",
    "studies.Node": "study__portfolio",
    "studies.AdjustmentRow": "portfolio",
    "studies.Comment": "portfolio",
    "releases.Release": "portfolio",
    "releases.Withdrawal": "release__portfolio",
    "releases.Preparation": "study__portfolio",
}
"""What a portfolio consists of, each after what it refers to, and how it leads to the portfolio."""
_KINDS: list[tuple[type[models.Field[Any, Any]], Any]] = [
    (models.BooleanField, pa.bool_()),
    (models.IntegerField, pa.int64()),
    (models.FloatField, pa.float64()),
    (models.BinaryField, pa.binary()),
]
_UNENDED = (Run.State.QUEUED, Run.State.RUNNING)
"""Of a run: where it is taken in, it has stopped."""


class ArchiveError(TansyError):
    """An archive cannot be written or taken in."""


@dataclass(frozen=True)
class Told:
    """What an archive holds: rows by table."""

    name: str
    rows: dict[str, int]


def export(portfolio: Portfolio, to: Path) -> Told:
    """Write an archive. Raises ArchiveError where it cannot be written, or the file is there already."""
    if to.exists():
        raise ArchiveError(f"{to} is there already; give another name.")
    unfinished = to.with_name(f"{to.name}.{uuid4().hex}.part")
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        with TemporaryDirectory(dir=to.parent) as name, _one_state():
            told = _written(portfolio, unfinished, Path(name))
        durable(unfinished)
        unfinished.rename(to)
        durable(to)
    except OSError as error:
        raise ArchiveError(f"{to} cannot be written: {error.strerror}. Nothing is lost.") from error
    except Damaged as error:
        raise ArchiveError(f"{error.detail} No archive was written.") from None
    finally:
        unfinished.unlink(missing_ok=True)
    return told


@contextmanager
def _one_state() -> Iterator[None]:
    """Whatever is written meanwhile, what is read is of one moment; nobody who writes has to wait for it, as they
    would for one of our usual transactions."""
    if connection.in_atomic_block:
        yield
        return
    with connection.cursor() as cursor:
        cursor.execute("BEGIN DEFERRED")
        try:
            yield
        finally:
            cursor.execute("COMMIT")


def _written(portfolio: Portfolio, to: Path, folder: Path) -> Told:
    sums: dict[str, str] = {}
    rows: dict[str, int] = {}
    columns: dict[str, list[str]] = {}
    private = os.open(to, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(private, "w+b") as raw, zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:

        def put(name: str, path: Path) -> None:
            archive.write(path, name)
            sums[name] = _sum(path)

        for table, way in _TABLES.items():
            model = apps.get_model(table)
            path = folder / "table.parquet"
            rows[table] = _table(model, model._default_manager.filter(**{way: portfolio.pk}).order_by("pk"), path)
            columns[table] = [field.attname for field in model._meta.concrete_fields]
            put(f"tables/{table}.parquet", path)
        for load in portfolio.loads.order_by("pk"):
            kept = settings.DATA / "loads" / str(load.pk)
            for path in sorted(one for one in kept.rglob("*") if one.is_file()) if kept.exists() else ():
                put(f"files/{load.pk}/{path.relative_to(kept).as_posix()}", path)
            _sales(load).write_parquet(folder / "sales.parquet")
            archive.write(folder / "sales.parquet", f"sales/{load.pk}.parquet")
        for study in portfolio.studies.order_by("pk"):
            archive.writestr(f"recipes/{study.pk}.toml", study.recipe_text)
        for release in portfolio.releases.order_by("pk").iterator(chunk_size=1):
            archive.writestr(f"releases/R{release.number}.parquet", release.content())
        told = {
            "format": FORMAT, "version": version("tansy-bench"), "name": portfolio.name, "rows": rows,
            "made_at": datetime.now(UTC).isoformat(timespec="seconds"), "columns": columns, "sums": sums,
        }  # fmt: skip
        archive.writestr(MANIFEST, json.dumps(told, indent=1))
    return Told(portfolio.name, rows)


def _sum(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _sales(load: Load) -> pl.DataFrame:
    """A load as it was received: keys, period, value, and what is known beside it."""
    panel = load.panel()
    n, t = panel.n_series, panel.timeline.n_periods
    cells: dict[str, Any] = {name: np.repeat(np.array(codes, dtype=object), t) for name, codes in panel.keys.items()}
    cells = {name: pl.Series(values.tolist(), dtype=pl.String) for name, values in cells.items()}
    cells["period"] = pl.Series(list(panel.timeline.labels) * n)
    cells["value"] = pl.Series(panel.values.ravel()).fill_nan(None)
    for name, values in panel.drivers.items():
        cells[f"driver {name}"] = pl.Series(values[:, :t].ravel()).fill_nan(None)
    return pl.DataFrame(cells)


def _kind(field: models.Field[Any, Any]) -> Any:
    if isinstance(field, models.ForeignKey):
        return pa.string() if field.related_model is User else pa.int64()
    return next((kind for own, kind in _KINDS if isinstance(field, own)), pa.string())


def _out(field: models.Field[Any, Any], names: dict[int, str]) -> Callable[[Any], Any]:
    """How a column's values are written."""
    if isinstance(field, models.ForeignKey) and field.related_model is User:
        return lambda value: None if value is None else names[value]
    if isinstance(field, models.JSONField):
        return lambda value: json.dumps(value, ensure_ascii=False)
    if isinstance(field, models.DateTimeField):
        return lambda value: None if value is None else value.isoformat()
    if isinstance(field, models.BinaryField):
        return lambda value: None if value is None else bytes(value)
    return lambda value: value


def _table(model: type[models.Model], rows: models.QuerySet[Any], path: Path) -> int:
    """Write a table; how many rows it has."""
    fields = model._meta.concrete_fields
    names = dict(User.objects.values_list("pk", "username"))
    out = [_out(field, names) for field in fields]
    schema = pa.schema([(field.attname, _kind(field)) for field in fields])
    count = 0
    with pq.ParquetWriter(path, schema, compression="zstd") as writer:
        for batch in _batches(rows.values_list(*(field.attname for field in fields)).iterator(chunk_size=_BATCH)):
            columns = zip(*batch, strict=True)
            cells = [[write(value) for value in column] for write, column in zip(out, columns, strict=True)]
            arrays = [pa.array(own, kind) for own, kind in zip(cells, schema.types, strict=True)]
            writer.write_table(pa.Table.from_arrays(arrays, schema=schema))
            count += len(batch)
    return count


def _batches(rows: Iterator[Any]) -> Iterator[list[Any]]:
    batch: list[Any] = []
    for row in rows:
        batch.append(row)
        if len(batch) == _BATCH:
            yield batch
            batch = []
    if batch:
        yield batch


def take_in(path: Path, user: User, name: str = "") -> Portfolio:
    """Make a portfolio of an archive, under its own name or another one; all of it or nothing.

    Raises ArchiveError where it is damaged or of another version, or the name is taken.
    """
    made_folders: list[Path] = []
    try:
        with zipfile.ZipFile(path) as archive, TemporaryDirectory(dir=settings.DATA) as folder, transaction.atomic():
            told = _manifest(archive, path)
            named = name or told["name"]
            if Portfolio.objects.filter(name=named).exists():
                raise ArchiveError(f"There is a portfolio named {named!r} already; give this one another name.")
            taking = _Taking(archive, Path(folder), told, user, named)
            for table in _TABLES:
                taking.table(table)
            taking.files(made_folders)
            portfolio = Portfolio.objects.get(pk=taking.numbers["portfolios.Portfolio"][told["portfolio"]])
            for release in Release.objects.filter(portfolio=portfolio).iterator(chunk_size=1):
                release.content()  # as it was published
            words = f"took in portfolio {told['name']} from an archive of {told['made_at']}"
            Trace.objects.create(who=user.get_username(), portfolio=portfolio.pk, words=words[:200])
    except BaseException as error:
        for one in made_folders:
            rmtree(one, ignore_errors=True)
        if isinstance(error, (zipfile.BadZipFile, OSError, KeyError, ValueError, TypeError, pa.ArrowException)):
            raise ArchiveError(f"{path.name} cannot be taken in: {error}. Nothing was changed.") from error
        if isinstance(error, (DatabaseError, Damaged)):
            raise ArchiveError(f"{path.name} does not hold together: {error}. Nothing was changed.") from error
        raise
    return portfolio


def _manifest(archive: zipfile.ZipFile, path: Path) -> dict[str, Any]:
    try:
        told: dict[str, Any] = json.loads(archive.read(MANIFEST))
    except (KeyError, ValueError):
        raise ArchiveError(
            f"{path.name} is no archive of a portfolio: it has no {MANIFEST} that can be read."
        ) from None
    if told.get("format") != FORMAT:
        raise ArchiveError(f"{path.name} is of another format, {told.get('format')!r}; take it in where it was made.")
    for table in _TABLES:
        known = {field.attname for field in apps.get_model(table)._meta.concrete_fields}
        new = sorted(set(told["columns"][table]) - known)
        if new:
            raise ArchiveError(
                f"{path.name} was made by Tansy {told['version']}, which keeps {new[0]} of {table} and this one "
                "does not; update this one."
            )
    return told


def _last_number(model: type[models.Model]) -> int:
    """The last that a record ever had, also one that is gone: what is kept in memory of records, and the trail, count
    on a number never being another's."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT seq FROM sqlite_sequence WHERE name = %s", [model._meta.db_table])
        found = cursor.fetchone()
    return int(found[0]) if found else 0


class _Taking:
    """An archive on its way in. numbers: by table, the new number of each old one."""

    def __init__(self, archive: zipfile.ZipFile, folder: Path, told: dict[str, Any], user: User, name: str) -> None:
        self._archive, self._folder, self._told, self._user, self._name = archive, folder, told, user, name
        self.numbers: dict[str, dict[int, int]] = {}
        self._people = {one.username: one.pk for one in User.objects.all()}

    def table(self, table: str) -> None:
        model = apps.get_model(table)
        kept = pq.ParquetFile(self._whole(f"tables/{table}.parquet"))
        fields = [one for one in model._meta.concrete_fields if one.attname in kept.schema_arrow.names]
        own = self.numbers[table] = {}
        last = _last_number(model)
        names = ", ".join(connection.ops.quote_name(field.column) for field in fields)
        marks = ", ".join(["%s"] * len(fields))
        into = f"INSERT INTO {connection.ops.quote_name(model._meta.db_table)} ({names}) VALUES ({marks})"
        for batch in kept.iter_batches(_BATCH, columns=[field.attname for field in fields]):
            columns = dict(zip(batch.schema.names, (column.to_pylist() for column in batch.columns), strict=True))
            for old in columns[model._meta.pk.attname]:
                own[old] = last + len(own) + 1
            cells = [self._in(table, field, columns[field.attname]) for field in fields]
            with connection.cursor() as cursor:
                cursor.executemany(into, list(zip(*cells, strict=True)))
        if len(own) != self._told["rows"][table]:
            raise ArchiveError(f"{table} has {len(own):,} rows of {self._told['rows'][table]:,}; nothing was changed.")
        if table == "portfolios.Portfolio":
            [self._told["portfolio"]] = own

    def _in(self, table: str, field: models.Field[Any, Any], values: list[Any]) -> list[Any]:
        """A column as the database takes it, with new numbers and what this place has of its own."""
        found: list[Any] = values
        if field.primary_key:
            found = [self.numbers[table][old] for old in values]
        elif isinstance(field, models.ForeignKey) and field.related_model is User:
            found = [None if name is None else self._person(name) for name in values]
        elif isinstance(field, models.ForeignKey):
            to = self.numbers[field.related_model._meta.label]
            # of something that was deleted since, where the record may outlive it
            found = [None if old is None else to.get(old) if field.null else to[old] for old in values]
        elif isinstance(field, models.JSONField):
            found = [self._numbered(table, field.attname, json.loads(value)) for value in values]
        elif isinstance(field, models.DateTimeField):
            found = [None if value is None else datetime.fromisoformat(value) for value in values]
        if (table, field.attname) == ("portfolios.Portfolio", "name"):
            found = [self._name]
        elif (table, field.attname) == ("studies.Run", "state"):
            found = [Run.State.STOPPED.value if state in _UNENDED else state for state in found]
        return [field.get_db_prep_save(value, connection) for value in found]

    def _numbered(self, table: str, column: str, content: Any) -> Any:
        """JSON with the new numbers of adjustments that it names."""
        laid = self.numbers.get("studies.AdjustmentRow", {})
        if (table, column) == ("releases.Preparation", "adjustments"):
            return [laid.get(old, old) for old in content]
        if (table, column) == ("releases.Release", "adjustments"):
            return [one | {"id": laid.get(one["id"], one["id"])} if "id" in one else one for one in content]
        return content

    def _person(self, name: str) -> int:
        if name not in self._people:
            made = User(username=name, is_active=False)
            made.set_unusable_password()
            made.save()
            self._people[name] = made.pk
        return self._people[name]

    def files(self, made: list[Path]) -> None:
        """Put what was handed in where the new loads have it, and say in which folders, before anything is in them."""
        for old, new in self.numbers["portfolios.Load"].items():
            start, to = f"files/{old}/", settings.DATA / "loads" / str(new)
            names = [name for name in self._told["sums"] if name.startswith(start)]
            rmtree(to, ignore_errors=True)  # left over from a load that was rolled back
            made.append(to)
            for name in names:
                at = to / Path(name.removeprefix(start)).name
                at.parent.mkdir(parents=True, exist_ok=True)
                self._whole(name).replace(at)
                durable(at)

    def _whole(self, name: str) -> Path:
        """A file of the archive, taken out and held against its sum. Raises ArchiveError."""
        to = self._folder / "member"
        with self._archive.open(name) as file, to.open("wb") as out:
            copyfileobj(file, out, 1 << 20)
        if _sum(to) != self._told["sums"].get(name):
            raise ArchiveError(f"The archive is damaged at {name}; nothing was changed.")
        return to
