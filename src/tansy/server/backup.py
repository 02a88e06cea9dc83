"""A backup of all that is kept, made while people work, and put back into an empty folder.

The database is copied by SQLite's own backup, which sees one state of it whatever is written meanwhile; a plain copy of
the file would not. Files that people handed in come after it, so that every one that the copy names is there. All of it
stands in one ZIP with a manifest of sizes and SHA-256 sums; it is written under another name and renamed when it is
whole. Before it is renamed, and again when it is put back, the copy's integrity and references are checked, and every
release against the sum it was published with.

Knows no Django: a backup is put back where no server has run yet.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import sqlite3
import zipfile
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from importlib.metadata import version
from pathlib import Path
from tempfile import TemporaryFile
from typing import Any
from uuid import uuid4

from tansy.engine.errors import TansyError
from tansy.engine.kernels import WITH_DATA

FORMAT = 1
DATABASE, MANIFEST = "tansy.sqlite3", "manifest.json"
_ALWAYS = ("secret-key", "demo.json")
_FILES = ("uploads", "loads", "files")
_STORE = "store"
_CHUNK = 1 << 20
_STEM, _STAMP = "tansy-", "%Y%m%dT%H%M%SZ"


class BackupError(TansyError):
    """A backup cannot be made or put back."""


@dataclass(frozen=True)
class Made:
    """What a backup holds. sums: SHA-256 by name of the file."""

    made_at: str
    releases: int
    bytes: int
    sums: dict[str, str]


def back_up(database: Path, folder: Path, to: Path, *, files: bool = True, store: bool = False) -> Made:
    """Write a backup.

    Parameters
    ----------
    database, folder : the SQLite file, and the data folder that it belongs to.
    to : the file to write; one that is there is left as it is.
    files, store : whether what people handed in, and results that could be computed again, come along.

    Raises
    ------
    BackupError where there is nothing to back up, the file is there already or cannot be written, or the copy does
    not hold.
    """
    if not database.exists():
        raise BackupError(f"There is no database at {database}; nothing was written.")
    if to.exists():
        raise BackupError(f"{to} is there already; give another name.")
    unfinished = to.with_name(f"{to.name}.{uuid4().hex}.part")
    copy = to.with_name(f"{to.name}.{uuid4().hex}.sqlite3")
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        _copied(database, copy)
        releases = checked(copy)
        sums: dict[str, str] = {}
        with _private(unfinished) as raw, zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
            sums[DATABASE] = _put(archive, copy, DATABASE)
            for path in _members(folder, files, store):
                name = path.relative_to(folder).as_posix()
                try:
                    sums[name] = _put(archive, path, name)
                except FileNotFoundError:
                    continue  # taken away since, as an upload is that was loaded
            made = Made(
                datetime.now(UTC).isoformat(timespec="seconds"),
                releases,
                sum(entry.file_size for entry in archive.infolist()),
                sums,
            )
            archive.writestr(MANIFEST, json.dumps({"format": FORMAT, "version": version("tansy-bench"), **vars(made)}))
        durable(unfinished)
        unfinished.rename(to)
    except (OSError, sqlite3.Error) as error:
        raise BackupError(
            f"The backup cannot be written to {to}: {error}. Nothing is lost; what was there stays."
        ) from error
    finally:
        unfinished.unlink(missing_ok=True)
        copy.unlink(missing_ok=True)
    return made


def restore(archive: Path, folder: Path) -> Made:
    """Put a backup into an empty folder: all of it or nothing. Raises BackupError where the folder holds anything, or
    the backup is damaged."""
    kernels = folder / WITH_DATA  # made by any process that has no better place for them, such as this one
    if folder.exists() and any(one != kernels for one in folder.iterdir()):
        raise BackupError(f"{folder} is not empty; give an empty folder, so that nothing is written over.")
    unfinished = folder.with_name(f"{folder.name}.{uuid4().hex}.part")
    try:
        with zipfile.ZipFile(archive) as file:
            told = _manifest(file)
            unfinished.mkdir(parents=True, mode=0o700)
            for name, expected in told["sums"].items():
                if _taken(file, name, unfinished) != expected:
                    raise BackupError(f"{archive.name} is damaged at {name}; nothing was put back.")
        checked(unfinished / DATABASE)
        if folder.exists():
            shutil.rmtree(kernels, ignore_errors=True)
            folder.rmdir()
        unfinished.rename(folder)
    except (OSError, KeyError, ValueError, sqlite3.Error, zipfile.BadZipFile) as error:
        raise BackupError(f"{archive} cannot be put back: {error}.") from error
    finally:
        shutil.rmtree(unfinished, ignore_errors=True)
    return Made(**{name: told[name] for name in ("made_at", "releases", "bytes", "sums")})


def checked(database: Path) -> int:
    """How many releases a database holds, all as they were published. Raises BackupError where anything is not."""
    with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as connection:
        said = [row[0] for row in connection.execute("PRAGMA integrity_check")]
        if said != ["ok"]:
            raise BackupError(f"The database is damaged: {said[0]}.")
        lost = connection.execute("PRAGMA foreign_key_check").fetchone()
        if lost:
            raise BackupError(f"The database is damaged: a row of {lost[0]} names one of {lost[2]} that is not there.")
        if not connection.execute("SELECT 1 FROM sqlite_master WHERE name = 'releases_release'").fetchone():
            return 0
        n = 0
        for number, forecasts, expected in connection.execute("SELECT number, forecasts, sha256 FROM releases_release"):
            if hashlib.sha256(forecasts).hexdigest() != expected:
                raise BackupError(f"Release R{number} is not what was published: its sum is another.")
            n += 1
        return n


def check_start(folder: Path, database: Path) -> None:
    """What must hold before anything is served: the folder can be written to, and the database is whole. Raises
    BackupError with what to do."""
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        with TemporaryFile(dir=folder) as file:
            file.write(b"room")
            file.flush()
    except OSError as error:
        raise BackupError(
            f"The data folder {folder} cannot be written to: {error.strerror}. Make room, or let this user write there."
        ) from error
    if not database.exists():
        return
    try:
        with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as connection:
            said = connection.execute("PRAGMA quick_check(1)").fetchone()[0]
    except sqlite3.Error as error:
        said = str(error)
    if said != "ok":
        raise BackupError(
            f"The database {database} is damaged: {said}. Keep it aside, and put the last backup into an empty folder "
            "(tansy restore FILE --into FOLDER)."
        )


def scheduled(database: Path, folder: Path, to: Path, keep: int, now: datetime, every: timedelta) -> Path | None:
    """Write a backup where the newest is older than `every`, and let all but the newest `keep` go; what it wrote.
    Files of other names are left alone, and so are those that a clock which went ahead has dated."""
    dated = ((path, _when(path)) for path in to.glob(f"{_STEM}*.zip"))
    there = sorted(path for path, when in dated if when is not None and when <= now)
    newest = _when(there[-1]) if there else None
    if newest is not None and now - newest < every:
        return None
    path = to / f"{_STEM}{now.strftime(_STAMP)}.zip"
    back_up(database, folder, path)
    for old in [*there, path][:-keep]:
        old.unlink(missing_ok=True)
    return path


def _when(path: Path) -> datetime | None:
    try:
        return datetime.strptime(path.stem.removeprefix(_STEM), _STAMP).replace(tzinfo=UTC)
    except ValueError:
        return None


def _copied(database: Path, to: Path) -> None:
    """One state of the database, in a file by itself."""
    with (
        closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as source,
        closing(sqlite3.connect(to)) as target,
    ):
        source.backup(target)
        target.execute("PRAGMA journal_mode=DELETE")
    to.chmod(0o600)


def _members(folder: Path, files: bool, store: bool) -> Iterator[Path]:
    names = (*_ALWAYS, *(_FILES if files else ()), *((_STORE,) if store else ()))
    for name in names:
        place = folder / name
        yield from sorted(path for path in ([place] if place.is_file() else place.rglob("*")) if path.is_file())


def _put(archive: zipfile.ZipFile, path: Path, name: str) -> str:
    digest = hashlib.sha256()
    with path.open("rb") as source:
        info = zipfile.ZipInfo.from_file(path, name)
        info.compress_type = zipfile.ZIP_DEFLATED
        with archive.open(info, "w", force_zip64=True) as target:
            while chunk := source.read(_CHUNK):
                digest.update(chunk)
                target.write(chunk)
    return digest.hexdigest()


def _taken(file: zipfile.ZipFile, name: str, into: Path) -> str:
    """Write one file of an archive below a folder; its sum."""
    path = (into / name).resolve()
    if not path.is_relative_to(into.resolve()):
        raise BackupError(f"The backup names a file outside of its folder: {name}.")
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    digest = hashlib.sha256()
    with file.open(name) as source, _private(path) as target:
        while chunk := source.read(_CHUNK):
            digest.update(chunk)
            target.write(chunk)
        target.flush()
        os.fsync(target.fileno())
    return digest.hexdigest()


def _manifest(file: zipfile.ZipFile) -> dict[str, Any]:
    try:
        told = json.loads(file.read(MANIFEST))
    except KeyError:
        raise BackupError(f"{file.filename} is no backup: it has no {MANIFEST}.") from None
    if told.get("format") != FORMAT:
        raise BackupError(
            f"{file.filename} was made by a version that this one does not know; use that one or a later."
        )
    return dict(told)


def _private(path: Path) -> Any:
    """A new file that its owner alone can read."""
    return os.fdopen(os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600), "w+b")


def durable(path: Path) -> None:
    """Have a file, or the names in a folder, on the disk, and its own name too."""
    for one, flags in ((path, os.O_RDONLY), (path.parent, os.O_RDONLY | os.O_DIRECTORY)):
        handle = os.open(one, flags)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
