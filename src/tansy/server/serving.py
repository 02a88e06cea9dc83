"""`tansy serve`: the web server and the worker, started and stopped together."""

from __future__ import annotations

import ctypes
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

_PATIENCE = 25  # seconds: a run hears the wish to end within one or two, and a large result takes some to be written
_PR_SET_PDEATHSIG = 1
_NICE = 10
_STEADY = 60.0
"""Seconds after which a process that has lived so long is no longer one that keeps dying."""
_LONGEST_PAUSE = 10.0
"""Seconds; people wait for no longer until the web server is there again."""
_KILLED = ", as where the machine has no memory left"
_ENV = {"DJANGO_SETTINGS_MODULE": "tansy.server.settings"}


def migrate() -> None:
    """Bring the database up to date. Expects Django to be set up."""
    from django.core.management import call_command

    call_command("migrate", verbosity=0)


def _end_with_parent() -> None:
    """In a child: be told to end when the parent dies, however it does, so that none holds on to port and lock."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


def _behind_others() -> None:
    """In the worker: a run takes what processors people who click leave it."""
    _end_with_parent()
    os.nice(_NICE)
    with suppress(OSError):  # where Linux shares by sessions, it is the session that has to wait
        Path("/proc/self/autogroup").write_text(str(_NICE), encoding="ascii")


def hosts(host: str) -> str:
    """Names that the server answers to, for TANSY_HOSTS: those given there, else this machine's; on all its addresses
    any name."""
    given = os.environ.get("TANSY_HOSTS")
    if given:
        return given
    return "*" if host in ("0.0.0.0", "::") else f"localhost,127.0.0.1,[::1],{host}"


class _Child:
    """A process that is started again when it has died. It is in a session of its own, so that a Ctrl-C of the terminal
    reaches this process alone, which then ends its children once."""

    def __init__(self, name: str, command: list[str], env: dict[str, str], before: Callable[[], None]) -> None:
        self._name, self._command, self._env, self._before = name, command, env, before
        self._pause, self._began = 0.0, time.monotonic()
        self._start()

    def _start(self) -> None:
        self.process = subprocess.Popen(self._command, env=self._env, start_new_session=True, preexec_fn=self._before)
        self._ended_said = False

    def keep(self) -> None:
        """Start it again where it has died; with longer and longer pauses where it keeps dying."""
        ended = self.process.poll()
        if ended is None:
            return
        now = time.monotonic()
        if not self._ended_said:
            self._ended_said = True
            self._pause = 0.0 if now - self._began > _STEADY else min(2.0 * self._pause + 1.0, _LONGEST_PAUSE)
            why = f"signal {-ended}{_KILLED if -ended == signal.SIGKILL else ''}" if ended < 0 else f"exit {ended}"
            print(f"{self._name} ended ({why}); it is started again.", file=sys.stderr, flush=True)
        if now >= self._began + self._pause:
            self._began = now
            self._start()


def serve(host: str, port: int) -> None:
    """Serve an up-to-date database until interrupted. A worker that dies is started again, and a web server that is
    killed; one that ends by itself, as where its port is taken, ends both."""
    env = {**os.environ, **_ENV, "TANSY_HOSTS": hosts(host)}
    web = _Child("The web server", [sys.executable, "-m", "tansy.server.web", host, str(port)], env, _end_with_parent)
    worker = _Child("The worker", [sys.executable, "-m", "django", "worker"], env, _behind_others)
    stopping = False

    def stop(signum: int, frame: object) -> None:
        nonlocal stopping
        stopping = True

    signal.signal(signal.SIGINT, stop)
    signal.signal(signal.SIGTERM, stop)
    while not stopping:
        time.sleep(0.3)
        ended = web.process.poll()
        if ended is not None and ended >= 0:
            break
        if not stopping:
            worker.keep()
            web.keep()
    children = (worker.process, web.process)
    for process in children:
        process.terminate()
    for process in children:
        try:
            process.wait(timeout=_PATIENCE)
        except subprocess.TimeoutExpired:
            process.kill()
    if not stopping:
        raise SystemExit("The web server has ended, and the worker with it.")
