"""What whoever keeps the server running sees of it: health, figures, logs with ids, and what is said at start."""

from __future__ import annotations

import json
import logging
import os
import re
import sqlite3
import subprocess
import sys
import time
from collections import namedtuple
from collections.abc import Iterator
from contextlib import contextmanager
from io import StringIO
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from rest_framework.test import APIClient

from tansy.server.accounts.models import Scope, Token
from tansy.server.studies.models import Study
from tansy.server.watch import health
from tansy.server.watch.log import AsJson, AsText, WithIds, logging_of, run_id


def test_health_says_what_is_not_well_and_nothing_more(db: None, data_folder: Path, monkeypatch: Any) -> None:
    stranger = APIClient()
    no_worker = stranger.get("/healthz")
    assert no_worker.status_code == 503
    assert no_worker.json() == {"status": "failing", "database": True, "worker": False, "disk": True}
    (data_folder / "worker.beat").touch()
    assert stranger.get("/healthz").json() == {"status": "ok", "database": True, "worker": True, "disk": True}
    assert "no-cache" in stranger.get("/healthz")["Cache-Control"]
    os.utime(data_folder / "worker.beat", (time.time() - 1.0 - health.SILENT,) * 2)
    assert stranger.get("/healthz").json()["worker"] is False
    usage = namedtuple("usage", "total used free")
    monkeypatch.setattr("shutil.disk_usage", lambda path: usage(10, 9, 1))
    assert stranger.get("/healthz").json()["disk"] is False


def test_figures_are_for_administrators_and_count_what_there_is(user: User, done: Study, data_folder: Path) -> None:
    assert APIClient().get("/metrics").status_code == 401
    _, text = Token.issue(user, "watcher", Scope.READ, 1)
    machine = APIClient(HTTP_AUTHORIZATION=f"Bearer {text}")
    assert machine.get("/metrics").status_code == 403
    user.is_staff = True
    user.save()
    machine.get("/api/portfolios/")
    answer = machine.get("/metrics")
    assert answer["Content-Type"].startswith("text/plain")
    lines = answer.content.decode().splitlines()
    figures = dict(line.rsplit(" ", 1) for line in lines if not line.startswith("#"))
    assert figures['tansy_runs{state="done"}'] == "1.0" and figures['tansy_runs{state="failed"}'] == "0.0"
    assert (figures["tansy_portfolios"], figures["tansy_studies"], figures["tansy_releases"]) == ("1.0", "1.0", "0.0")
    assert figures["tansy_worker_well"] == "0.0" and float(figures["tansy_database_bytes"]) > 0
    assert float(figures['tansy_requests_total{method="GET",status="200"}']) >= 1
    assert float(figures["tansy_request_seconds_count"]) >= 2
    # the text format: names, HELP and TYPE before each family
    assert all(
        re.fullmatch(r'[a-z_]+(\{([a-z]+="[^"]*",?)+\})? [-+0-9.eEinfNa]+', line) for line in lines if line[0] != "#"
    )


@contextmanager
def _as_logged() -> Iterator[StringIO]:
    """What Django says of requests, as stderr has it with TANSY_LOGS=json."""
    out = StringIO()
    handler = logging.StreamHandler(out)
    handler.addFilter(WithIds())
    handler.setFormatter(AsJson())
    logger = logging.getLogger("django.request")
    logger.addHandler(handler)
    try:
        yield out
    finally:
        logger.removeHandler(handler)


def test_a_request_has_an_id_of_its_own_or_its_proxys_and_a_line(user: User, caplog: Any) -> None:
    client = APIClient()
    with caplog.at_level(logging.INFO, "tansy.access"):
        own = client.get("/api/session/")["X-Request-ID"]
        given = client.get("/api/session/?secret=1", HTTP_X_REQUEST_ID="edge-7")["X-Request-ID"]
        evil = client.get("/api/session/", HTTP_X_REQUEST_ID='a"\n{}')["X-Request-ID"]
        with _as_logged() as warned:  # by Django itself, which has the whole request
            refused = client.get("/api/session/back/?code=secret", HTTP_X_REQUEST_ID="edge-8")
    assert len(own) == 32 and given == "edge-7" and len(evil) == 32
    [told] = map(json.loads, warned.getvalue().splitlines())
    assert refused.status_code == 404 and (told["level"], told["request"]) == ("warning", "edge-8")
    assert "secret" not in warned.getvalue()
    lines = [record for record in caplog.records if record.name == "tansy.access"][:3]
    assert [record.getMessage() for record in lines] == ["GET /api/session/ 200"] * 3  # no query, which may be secret
    assert lines[0].status == 200 and lines[0].ms >= 0 and lines[0].user == ""


def test_a_line_is_one_json_object_with_its_ids_and_its_error() -> None:
    record = logging.makeLogRecord({"name": "tansy.x", "levelname": "ERROR", "msg": "run %s\n", "args": ("done",)})
    token = run_id.set("12")
    try:
        record.study, record.exc_info = 7, (ValueError, ValueError("so"), None)
        assert WithIds().filter(record)
    finally:
        run_id.reset(token)
    line = AsJson().format(record)
    assert "\n" not in line
    told = json.loads(line)
    assert (told["level"], told["message"], told["study"], told["run"]) == ("error", "run done\n", 7, "12")
    assert "request" not in told and "ValueError: so" in told["error"]
    assert AsText("%(message)s").format(record).endswith("(run 12)")
    assert logging_of("")["loggers"]["tansy"]["level"] == "WARNING"


def tansy(*arguments: str, **env: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "tansy.cli", *arguments]
    usual = {key: value for key, value in os.environ.items() if key != "TANSY_DATABASE"}
    return subprocess.run(command, env={**usual, **env}, capture_output=True, text=True, check=False, timeout=120)


def test_what_is_wrong_is_said_at_start_and_when_asked(tmp_path: Path) -> None:
    empty = tansy("verify", TANSY_DATA=str(tmp_path / "new"))
    assert empty.returncode == 2 and "nothing has been served from this folder yet" in empty.stderr
    assert tansy("admin", "migrate", "--verbosity", "0", TANSY_DATA=str(tmp_path)).returncode == 0
    whole = tansy("verify", TANSY_DATA=str(tmp_path))
    assert whole.returncode == 0 and "is whole: 0 releases" in whole.stdout
    database = tmp_path / "tansy.sqlite3"
    with sqlite3.connect(database) as connection:
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    content = bytearray(database.read_bytes())
    content[4096 : len(content) // 2] = b"\x5a" * (len(content) // 2 - 4096)
    database.write_bytes(content)
    for command in (("verify",), ("serve", "--port", "1")):
        damaged = tansy(*command, TANSY_DATA=str(tmp_path))
        assert damaged.returncode == 2 and "tansy restore FILE --into FOLDER" in damaged.stderr, damaged.stderr
        assert "Traceback" not in damaged.stderr
    (tmp_path / "a file").touch()
    no_folder = tansy("serve", TANSY_DATA=str(tmp_path / "a file" / "data"))
    assert no_folder.returncode == 2 and "cannot be written to" in no_folder.stderr


@pytest.mark.parametrize(
    ("name", "value"), [("TANSY_LOGS", "xml"), ("TANSY_BACKUPS", "daily"), ("TANSY_STORE_MB", "-1")]
)
def test_a_setting_that_says_nothing_is_named(name: str, value: str, tmp_path: Path) -> None:
    wrong = tansy("admin", "check", TANSY_DATA=str(tmp_path), **{name: value})
    assert wrong.returncode == 2 and name in wrong.stderr and "Traceback" not in wrong.stderr
