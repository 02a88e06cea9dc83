"""The server as a process: told to end in every way a terminal or a service manager has, and killed."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from bench.kill import children_of

from tansy.server import serving
from tansy.server.settings import _secret_key


class Served:
    """A server of a folder, as a process of its own."""

    def __init__(self, folder: Path) -> None:
        self.port = free_port()
        env = {**os.environ, "TANSY_DATA": str(folder), "DJANGO_SETTINGS_MODULE": "tansy.server.settings"}
        env.pop("TANSY_DATABASE", None)
        self.process = subprocess.Popen(
            [sys.executable, "-m", "tansy.cli", "serve", "--port", str(self.port)], env=env, start_new_session=True,
            stderr=subprocess.PIPE, text=True,
        )  # fmt: skip

    def answers(self) -> bool:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{self.port}/api/session/", timeout=2) as page:
                return bool(page.status == 200)
        except OSError:
            return False

    def family(self) -> list[int]:
        found = [self.process.pid]
        for pid in found:
            found += children_of(pid)
        return found

    def end(self) -> None:
        if self.process.poll() is None:
            os.killpg(self.process.pid, signal.SIGKILL)


@pytest.fixture
def served(tmp_path: Path) -> Iterator[Served]:
    one = Served(tmp_path)
    try:
        assert until(one.answers)
        yield one
    finally:
        one.end()


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def alive(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    except OSError:
        return False


def until(holds: Any, seconds: float = 60.0) -> bool:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if holds():
            return True
        time.sleep(0.1)
    return False


@pytest.mark.parametrize("how", ["ctrl-c", "term to all", "killed"])
def test_however_it_is_ended_nothing_is_left_behind(served: Served, how: str) -> None:
    family = served.family()
    assert len(family) >= 3, "the server, the web server, and the worker of runs"
    if how == "ctrl-c":
        os.killpg(served.process.pid, signal.SIGINT)  # as a terminal does: to every process of its foreground group
    elif how == "term to all":
        for pid in family:
            os.kill(pid, signal.SIGTERM)
    else:
        served.process.kill()
    assert until(lambda: served.process.poll() is not None)
    assert until(lambda: not any(alive(pid) for pid in family[1:])), "a child holds on to port and lock"


def test_a_part_of_it_that_is_killed_is_started_again_and_said(served: Served) -> None:
    for pid in (before := served.family()[1:]):
        os.kill(pid, signal.SIGKILL)
    assert until(lambda: len(served.family()) >= 3 and not set(before) & set(served.family()))
    assert until(served.answers)
    served.process.send_signal(signal.SIGTERM)
    said = served.process.communicate(timeout=60)[1]
    for name in ("web server", "worker"):
        assert f"The {name} ended (signal 9, as where the machine has no memory left); it is started again." in said


def test_a_port_that_is_taken_is_said(tmp_path: Path) -> None:
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        port = str(other.getsockname()[1])
        env = {**os.environ, "TANSY_DATA": str(tmp_path)}
        command = [sys.executable, "-m", "tansy.cli", "serve", "--port", port]
        done = subprocess.run(command, env=env, capture_output=True, text=True, check=False, timeout=60)
    assert done.returncode != 0 and f"Port {port} of 127.0.0.1 cannot be had: Address already in use" in done.stderr
    assert "is served at" not in done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("given", "host", "expected"),
    [(None, "127.0.0.1", "localhost,127.0.0.1,[::1],127.0.0.1"), (None, "0.0.0.0", "*"), (None, "::", "*"),
     ("plan.example", "0.0.0.0", "plan.example"), ("a,b", "127.0.0.1", "a,b")],
)  # fmt: skip
def test_names_that_the_server_answers_to(
    monkeypatch: pytest.MonkeyPatch, given: str | None, host: str, expected: str
) -> None:
    monkeypatch.delenv("TANSY_HOSTS", raising=False)
    if given:
        monkeypatch.setenv("TANSY_HOSTS", given)
    assert serving.hosts(host) == expected


def test_an_empty_secret_key_is_made_anew(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tansy.server.settings.DATA", tmp_path)
    (tmp_path / "secret-key").write_text("")
    made = _secret_key()
    assert len(made) > 40 and _secret_key() == made


def test_the_first_user_can_be_made_before_anything_was_served(tmp_path: Path) -> None:
    arguments = ["admin", "createsuperuser", "--noinput", "--username", "ines", "--email", "ines@example.org"]
    more = {"TANSY_DATA": str(tmp_path / "new"), "DJANGO_SUPERUSER_PASSWORD": "quiet-garden"}
    command, env = [sys.executable, "-m", "tansy.cli", *arguments], {**os.environ, **more}
    done = subprocess.run(command, env=env, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
