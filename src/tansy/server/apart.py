"""Work on what people hand in, in processes of their own.

A file can ask for more memory than there is. Then the process that reads it ends, and must not be the web server, which
answers others. So it is the one that the kernel ends first where memory runs out; nor does reading take turns from
answering. A process that took little stays for the next file. A pool of Python's own is given up whole where one of its
processes ends, and what others were reading with it; here each goes alone.
"""

from __future__ import annotations

import logging
import resource
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import suppress
from multiprocessing import Pipe
from multiprocessing.connection import Connection
from pathlib import Path
from typing import ParamSpec, TypeVar, cast

P = ParamSpec("P")
T = TypeVar("T")

logger = logging.getLogger("tansy.apart")

AT_ONCE = 3
WAITING = 15.0
"""Seconds that others wait for their turn, so that those who wait do not take all threads of the server."""
SECONDS = 300.0
_STAYS = 400 << 20
"""Bytes of memory up to which a process stays for the next one that asks; one does."""
_FIRST_TO_GO = "1000"  # Linux ends those with the most first where memory runs out; others have 0


class Ended(Exception):
    """The process ended before it had answered."""


class Full(Exception):
    """As many as may are at work, and go on."""


class _Process:
    """A process that does one thing after another for this one, and ends when this one is gone."""

    def __init__(self) -> None:
        self._talk, theirs = Pipe()
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-m", __name__, str(theirs.fileno())], pass_fds=(theirs.fileno(),)
            )

    def ask(self, question: object) -> tuple[bool, object, bool]:
        """(whether it went well, what came of it or the error, whether the process stays)."""
        try:
            self._talk.send(question)
            if self._talk.poll(SECONDS):
                return cast(tuple[bool, object, bool], self._talk.recv())
        except (EOFError, OSError):
            logger.warning("a process that reads files ended by itself (%s)", self._process.wait())
            raise Ended from None
        logger.warning("a process that reads files took more than %d s, and was ended", SECONDS)
        raise Ended

    def is_there(self) -> bool:
        return self._process.poll() is None

    def end(self) -> None:
        self._talk.close()
        self._process.kill()
        self._process.wait()


_idle: list[_Process] = []
_one_by_one = threading.Lock()
_turns = threading.BoundedSemaphore(AT_ONCE)


def _free() -> _Process:
    with _one_by_one:
        while _idle:
            process = _idle.pop()
            if process.is_there():
                return process
            process.end()
    return _Process()


def _ask(question: object) -> tuple[bool, object]:
    process, stays = _free(), False
    try:
        well, answer, stays = process.ask(question)
        return well, answer
    finally:
        with _one_by_one:
            if stays and not _idle:
                _idle.append(process)
            else:
                process.end()


def apart(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """function(*args), done by another process; what it raises is raised here. The function is one of a module that
    needs no records; what it takes and gives can be sent.

    Raises Ended where the process ends before it has answered, as by want of memory, or takes longer than SECONDS; Full
    where there is no turn within WAITING.
    """
    if not _turns.acquire(timeout=WAITING):
        raise Full
    try:
        well, answer = _ask((function, args, kwargs))
    finally:
        _turns.release()
    if not well:
        raise cast(Exception, answer)
    return cast(T, answer)


def _memory() -> int:
    """Bytes that this process has now, or has had at most where the system does not say."""
    try:
        return int(Path("/proc/self/statm").read_text(encoding="ascii").split()[1]) * resource.getpagesize()
    except OSError:
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def _do_as_asked(talk: Connection) -> None:
    with suppress(OSError):  # where there is no such thing
        Path("/proc/self/oom_score_adj").write_text(_FIRST_TO_GO, encoding="ascii")
    while True:
        try:
            function, args, kwargs = talk.recv()
        except EOFError:
            return
        try:
            well, answer = True, function(*args, **kwargs)
        except Exception as error:
            well, answer = False, error
        talk.send((well, answer, _memory() < _STAYS))


if __name__ == "__main__":
    _do_as_asked(Connection(int(sys.argv[1])))
