"""A pool of threads over chunks; kernels release the GIL."""

from __future__ import annotations

import mmap
import os
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from typing import TypeVar

_PAUSE = 0.25  # seconds
_TO_BEGIN = 9 << 20
"""Bytes that a thread needs to begin: its stack, and some of its own."""

Chunk = TypeVar("Chunk")
Result = TypeVar("Result")


def n_workers() -> int:
    """Cores this process may use."""
    return max(1, len(os.sched_getaffinity(0)))


def run_chunks(
    work: Callable[[Chunk], Result],
    chunks: list[Chunk],
    workers: int | None = None,
    meanwhile: Callable[[], None] | None = None,
) -> Iterator[Result]:
    """Results of `work` as they come, in any order. When the caller stops iterating, chunks not yet begun are
    dropped, and those begun are waited for.

    meanwhile: called here, between results and at least every `_PAUSE` seconds; what it raises ends all.

    Raises MemoryError where the threads have no room to begin: one that finds none then is waited for without end.
    """
    workers = workers or n_workers()
    try:
        mmap.mmap(-1, workers * _TO_BEGIN).close()
    except OSError:
        raise MemoryError(f"There is no room for {workers} threads.") from None
    with ThreadPoolExecutor(workers) as pool:
        pending: set[Future[Result]] = {pool.submit(work, chunk) for chunk in chunks}
        try:
            while pending:
                done, pending = wait(pending, _PAUSE if meanwhile else None, return_when=FIRST_COMPLETED)
                for future in done:
                    yield future.result()
                if meanwhile:
                    meanwhile()
        finally:
            for future in pending:
                future.cancel()
