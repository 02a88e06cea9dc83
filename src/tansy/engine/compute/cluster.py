"""Where batches run, past one machine: on the workers of a Dask cluster.

What batches have in common is sent to every worker once, as bytes; a batch itself says only which part of it is wanted.
A batch whose worker dies is given to another one. What is sent is unpickled there, so that a scheduler is one to trust.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from queue import Empty, SimpleQueue
from types import TracebackType
from typing import Any, TypeVar

from tansy.engine.errors import TansyError

_PAUSE = 0.25  # seconds
_ANSWERS_WITHIN = 10.0
_WORKERS_WITHIN = 60.0
"""How long none may be there before it is given up."""
_ATTEMPTS = 5
"""At a batch, while workers die under it."""

Job = TypeVar("Job")
Result = TypeVar("Result")


class Cluster:
    """A connection to a scheduler; a context."""

    def __init__(self, address: str) -> None:
        """Raises TansyError where nothing answers there."""
        try:
            from distributed import Client
        except ImportError:
            raise TansyError(
                "To run on a cluster, install what it needs: pip install 'tansy-bench[cluster]', here and on every "
                "machine of it."
            ) from None
        self.address = address
        connect: Callable[..., Any] = Client
        try:
            self._client = connect(address, timeout=_ANSWERS_WITHIN, set_as_default=False)
        except (OSError, ValueError) as error:
            raise TansyError(
                f"No scheduler answers at {address} ({error}); start one there, or leave the setting out to run here."
            ) from None
        self._sent: dict[bytes, Any] = {}
        self._n_lost = 0

    def __enter__(self) -> Cluster:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._client.close(timeout=_ANSWERS_WITHIN)

    def each(
        self,
        work: Callable[..., Result],
        given: Sequence[bytes],
        jobs: Sequence[Job],
        meanwhile: Callable[[], None],
    ) -> Iterator[tuple[Job, Result]]:
        """Jobs and what work(*given, job) returns, as they are done. When the caller stops iterating, jobs not yet
        begun are dropped.

        given: what all jobs have in common; what was sent before is not sent again. meanwhile: called here, between
        results and at least every `_PAUSE` seconds; what it raises ends all. Raises TansyError where no worker is left.
        """
        from distributed import CancelledError, KilledWorker

        done: SimpleQueue[Any] = SimpleQueue()
        pending: dict[Any, tuple[Job, int, int]] = {}  # also how often what is given had been lost by then

        def submit(job: Job, attempt: int) -> None:
            future = self._client.submit(work, *map(self._there, given), job, pure=False)
            pending[future] = job, attempt, self._n_lost
            future.add_done_callback(done.put)

        self._wait_for_workers(meanwhile)
        try:
            for job in jobs:
                submit(job, 1)
            while pending:
                try:
                    future = done.get(timeout=_PAUSE)
                except Empty:
                    meanwhile()
                    self._wait_for_workers(meanwhile)
                    continue
                job, attempt, n_lost = pending.pop(future)
                try:
                    yield job, future.result(timeout=_ANSWERS_WITHIN)
                except (KilledWorker, CancelledError, TimeoutError) as error:
                    if attempt == _ATTEMPTS:
                        raise TansyError(
                            f"Workers of {self.address} died or went silent {_ATTEMPTS} times under the same batch "
                            f"({error}); look into their logs: most often they lack memory."
                        ) from None
                    if n_lost == self._n_lost:  # it may have lain on the worker that died; once for all its batches
                        self._sent.clear()
                        self._n_lost += 1
                    self._wait_for_workers(meanwhile)
                    submit(job, attempt + 1)
                meanwhile()
        finally:
            self._client.cancel(list(pending))

    def _there(self, given: bytes) -> Any:
        """What stands for `given` on the workers."""
        if given not in self._sent:
            [self._sent[given]] = self._client.scatter([given], broadcast=True, hash=False)
        return self._sent[given]

    def _wait_for_workers(self, meanwhile: Callable[[], None]) -> None:
        began = time.monotonic()
        while not self._n_workers():
            if time.monotonic() - began > _WORKERS_WITHIN:
                raise TansyError(
                    f"No worker is left at {self.address}, and none came within {_WORKERS_WITHIN:.0f} s. What was "
                    "fitted is kept: start workers, and run it again."
                )
            time.sleep(_PAUSE)
            meanwhile()

    def _n_workers(self) -> int:
        return len(self._client.scheduler_info(n_workers=-1)["workers"])
