"""The steps of a run: what is said of them, how long they took, and whether to stop."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from tansy.engine.errors import Stopped

Progress = Callable[[str, int, int], None]
"""Called with (step, done, of)."""


class Steps:
    """seconds: per step that has ended."""

    def __init__(self, say: Progress | None, should_stop: Callable[[], bool] | None) -> None:
        self.say = say or (lambda step, done, of: None)
        self._should_stop = should_stop
        self.seconds: dict[str, float] = {}

    def stop_if_asked(self) -> None:
        if self._should_stop and self._should_stop():
            raise Stopped("The run was stopped; what was fitted is kept, and running it again goes on from there.")

    @contextmanager
    def __call__(self, name: str) -> Iterator[None]:
        self.stop_if_asked()
        self.say(name, 0, 0)
        began = time.perf_counter()
        yield
        self.seconds[name] = time.perf_counter() - began
