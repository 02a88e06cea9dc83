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


def serve(host: str, port: int) -> None:
    """Serve an up-to-date database until interrupted. A worker that dies is started again; the web server's end ends
    both."""
    env = {**os.environ, **_ENV, "TANSY_HOSTS": hosts(host)}

    def start(command: list[str], before: Callable[[], None]) -> subprocess.Popen[bytes]:
        """A child in a session of its own, so that a Ctrl-C of the terminal reaches this process alone, which then ends
        its children once."""
        return subprocess.Popen(command, env=env, start_new_session=True, preexec_fn=before)

    web = start([sys.executable, "-m", "tansy.server.web", host, str(port)], _end_with_parent)

    def start_worker() -> subprocess.Popen[bytes]:
        return start([sys.executable, "-m", "django", "worker"], _behind_others)

    worker = start_worker()
    stopping = False
    pause, restart_at = 1.0, 0.0

    def stop(signum: int, frame: object) -> None:
        nonlocal stopping
        stopping = True

    signal.signal(signal.SIGINT, stop)
    signal.signal(signal.SIGTERM, stop)
    print(f"Tansy is served at http://{host}:{port}  (Ctrl-C stops it)", file=sys.stderr, flush=True)
    while not stopping and web.poll() is None:
        time.sleep(0.3)
        if worker.poll() is not None and not stopping and time.monotonic() >= restart_at:
            pause = min(2.0 * pause, 60.0)  # a worker that keeps dying is not started without end
            restart_at = time.monotonic() + pause
            worker = start_worker()
    for process in (worker, web):
        process.terminate()
    for process in (worker, web):
        try:
            process.wait(timeout=_PATIENCE)
        except subprocess.TimeoutExpired:
            process.kill()
    if not stopping:
        raise SystemExit("The web server ended; is the port taken?")
