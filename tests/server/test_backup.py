"""Backups: made while others write, put back whole or not at all, and kept for as long as they are asked for."""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import stat
import subprocess
import sys
import threading
import zipfile
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from django.db import connection
from rest_framework.test import APIClient

from tansy.engine.kernels import WITH_DATA
from tansy.server.backup import DATABASE, MANIFEST, BackupError, back_up, checked, restore, scheduled
from tansy.server.studies.models import Study

TABLES = """
PRAGMA journal_mode=WAL;
CREATE TABLE releases_release (number INTEGER PRIMARY KEY, forecasts BLOB, sha256 TEXT);
CREATE TABLE line (release INTEGER REFERENCES releases_release, n INTEGER);
"""


def published(own: sqlite3.Connection, number: int) -> None:
    """A release, with as many lines as it says, in one transaction."""
    content = os.urandom(200_000)
    with own:
        own.execute("INSERT INTO releases_release VALUES (?, ?, ?)", (
            number, content, hashlib.sha256(content).hexdigest()
        ))  # fmt: skip
        own.executemany("INSERT INTO line VALUES (?, ?)", [(number, n) for n in range(200)])


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A data folder with three releases, files and results."""
    made = tmp_path / "data"
    for name in ("loads/1", "store/a"):
        (made / name).mkdir(parents=True)
    (made / "loads/1/sales.csv").write_text("week,units\n")
    (made / "store/a/x.block").write_bytes(b"x")
    (made / "secret-key").write_text("quiet")
    with closing(sqlite3.connect(made / DATABASE)) as own:
        own.executescript(TABLES)
        for number in (1, 2, 3):
            published(own, number)
    return made


def everything(folder: Path) -> dict[str, bytes]:
    return {p.relative_to(folder).as_posix(): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


def releases(database: Path) -> list[tuple[int, bytes, str]]:
    with closing(sqlite3.connect(database)) as own:
        return own.execute("SELECT number, forecasts, sha256 FROM releases_release ORDER BY number").fetchall()


def test_what_is_put_back_is_what_was_there(folder: Path, tmp_path: Path) -> None:
    made = back_up(folder / DATABASE, folder, tmp_path / "all.zip", store=True)
    assert made.releases == 3 and stat.S_IMODE((tmp_path / "all.zip").stat().st_mode) == 0o600
    (tmp_path / "again" / WITH_DATA / "a").mkdir(parents=True)  # of the command itself: the folder is empty
    restore(tmp_path / "all.zip", tmp_path / "again")
    assert releases(tmp_path / "again" / DATABASE) == releases(folder / DATABASE)
    there, again = everything(folder), everything(tmp_path / "again")
    assert {k: v for k, v in there.items() if "sqlite3" not in k} == {k: v for k, v in again.items() if k != DATABASE}
    back_up(folder / DATABASE, folder, tmp_path / "little.zip", files=False)
    assert set(zipfile.ZipFile(tmp_path / "little.zip").namelist()) == {DATABASE, "secret-key", MANIFEST}


def test_a_backup_while_others_write_holds_one_state(folder: Path, tmp_path: Path) -> None:
    """Every copy has all lines of each of its releases; a release is committed with them, as fast as it goes."""
    stop = threading.Event()

    def write() -> None:
        with closing(sqlite3.connect(folder / DATABASE, timeout=30)) as own:
            number = 4
            while not stop.is_set():
                published(own, number)
                number += 1

    writer = threading.Thread(target=write)
    writer.start()
    try:
        counts = []
        for i in range(5):
            back_up(folder / DATABASE, folder, tmp_path / f"{i}.zip")
            restore(tmp_path / f"{i}.zip", tmp_path / f"again{i}")
            with closing(sqlite3.connect(tmp_path / f"again{i}" / DATABASE)) as own:
                lines = own.execute(
                    "SELECT count(line.n) FROM releases_release LEFT JOIN line ON release = number GROUP BY number"
                ).fetchall()
            assert set(lines) == {(200,)}
            counts.append(len(lines))
    finally:
        stop.set()
        writer.join()
    assert counts == sorted(counts) and counts[-1] > counts[0] >= 3, "others wrote meanwhile"


def damaged(path: Path, name: str) -> None:
    """With one byte of a file in it turned."""
    with zipfile.ZipFile(path) as archive:
        contents = {entry: archive.read(entry) for entry in archive.namelist()}
    middle = len(contents[name]) // 2
    contents[name] = contents[name][:middle] + bytes([contents[name][middle] ^ 1]) + contents[name][middle + 1 :]
    with zipfile.ZipFile(path, "w") as archive:
        for entry, content in contents.items():
            archive.writestr(entry, content)


@pytest.mark.parametrize("name", [DATABASE, "loads/1/sales.csv"])
def test_a_damaged_backup_is_not_put_back(name: str, folder: Path, tmp_path: Path) -> None:
    back_up(folder / DATABASE, folder, tmp_path / "all.zip")
    damaged(tmp_path / "all.zip", name)
    with pytest.raises(BackupError, match=f"damaged at {name}"):
        restore(tmp_path / "all.zip", tmp_path / "again")
    assert not (tmp_path / "again").exists() and not list(tmp_path.glob("*.part"))


def test_what_would_be_written_over_or_outside_is_refused(folder: Path, tmp_path: Path) -> None:
    back_up(folder / DATABASE, folder, tmp_path / "all.zip")
    with pytest.raises(BackupError, match="is not empty"):
        restore(tmp_path / "all.zip", folder)
    with pytest.raises(BackupError, match="is there already"):
        back_up(folder / DATABASE, folder, tmp_path / "all.zip")
    with pytest.raises(BackupError, match="no database"):
        back_up(tmp_path / "none", tmp_path, tmp_path / "none.zip")
    with zipfile.ZipFile(tmp_path / "all.zip") as archive:
        told = json.loads(archive.read(MANIFEST))
    for sums, says in (({"../out": ""}, "outside"), ({"gone": ""}, "cannot be put back")):
        with zipfile.ZipFile(tmp_path / "evil.zip", "w") as archive:
            archive.writestr(MANIFEST, json.dumps({**told, "sums": sums}))
            archive.writestr("../out", "x")
        with pytest.raises(BackupError, match=says):
            restore(tmp_path / "evil.zip", tmp_path / "again")
    (tmp_path / "text.zip").write_text("no archive")
    with pytest.raises(BackupError, match="cannot be put back"):
        restore(tmp_path / "text.zip", tmp_path / "again")
    assert not (tmp_path / "out").exists()


def test_a_release_that_is_not_what_was_published_is_found(folder: Path) -> None:
    with closing(sqlite3.connect(folder / DATABASE)) as own, own:
        own.execute("UPDATE releases_release SET forecasts = x'00' WHERE number = 2")
    with pytest.raises(BackupError, match="R2 is not what was published"):
        checked(folder / DATABASE)


@pytest.mark.parametrize("form", ["csv", "parquet", "xlsx", "rows"])
def test_a_release_that_was_changed_on_the_disk_is_not_given_out(client: APIClient, done: Study, form: str) -> None:
    release = client.post(f"/api/studies/{done.pk}/publish/", {}, format="json").json()
    address = f"/api/releases/{release['id']}/{form}/"
    assert client.get(address).status_code == 200
    with connection.cursor() as cursor:
        cursor.execute("UPDATE releases_release SET sha256 = 'f' || substr(sha256, 2) || 'f'")
    client.raise_request_exception = False
    answer = client.get(address)
    assert answer.status_code == 500 and "R1 of Garden is not what was published" in answer.json()["detail"]


def test_a_day_apart_and_the_newest_kept(folder: Path, tmp_path: Path) -> None:
    now, day = datetime(2026, 11, 1, 3, tzinfo=UTC), timedelta(days=1)
    to = tmp_path / "backups"
    to.mkdir()
    (to / "tansy-mine.zip").write_text("another file")
    written = [
        scheduled(folder / DATABASE, folder, to, 3, now + timedelta(hours=6 * i), day) for i in range(4 * 6)
    ]  # fmt: skip
    assert [i for i, one in enumerate(written) if one is not None] == [0, 4, 8, 12, 16, 20]
    kept = sorted(path.name for path in to.iterdir())
    assert kept == [*(f"tansy-2026110{d}T030000Z.zip" for d in (4, 5, 6)), "tansy-mine.zip"]


def test_by_the_command_line(tmp_path: Path) -> None:
    """Of a database as the server makes it."""
    env = {**os.environ, "TANSY_DATA": str(tmp_path / "data"), "DJANGO_SETTINGS_MODULE": "tansy.server.settings"}
    env.pop("TANSY_DATABASE", None)

    def tansy(*command: str, **more: str) -> subprocess.CompletedProcess[str]:
        run = [sys.executable, "-m", "tansy.cli", *command]
        return subprocess.run(run, env={**env, **more}, capture_output=True, text=True, check=False)

    assert tansy("admin", "migrate", "--verbosity", "0").returncode == 0
    assert stat.S_IMODE((tmp_path / "data").stat().st_mode) == 0o700
    made = tansy("backup", str(tmp_path / "all.zip"))
    assert made.returncode == 0 and "0 releases checked" in made.stdout
    again = tansy("restore", str(tmp_path / "all.zip"), TANSY_DATA=str(tmp_path / "again"))
    assert again.returncode == 0, again.stderr
    assert (tmp_path / "again/secret-key").read_bytes() == (tmp_path / "data/secret-key").read_bytes()
    refused = tansy("restore", str(tmp_path / "all.zip"))
    assert refused.returncode != 0 and "is not empty" in refused.stderr and "Traceback" not in refused.stderr
