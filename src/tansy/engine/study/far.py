"""Fitting on the workers of a cluster.

What a study stands on travels once, and what its methods share at an origin once for each; a task says the rest. The
worker makes the state of knowledge itself, as it would be made here, so that results are the same to the bit on the
same kind of machine. They come back and are kept in the store of the run.
"""

from __future__ import annotations

import pickle
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.known import Known
from tansy.engine.compute.cluster import Cluster
from tansy.engine.errors import TansyError
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.ready import make_ready
from tansy.engine.study.store import Block, code
from tansy.engine.study.tasks import Task, fit_task

Integers = NDArray[np.int64]


@dataclass(frozen=True)
class _Origin:
    """level: of the longer periods of the study, -1 for those of its history. code: which makes the results."""

    n_seen: int
    level: int
    code: str


class Far:
    """A study whose methods are fitted on a cluster."""

    def __init__(self, cluster: Cluster, prepared: Prepared) -> None:
        self._cluster = cluster
        self._prepared = pickle.dumps(prepared, protocol=5)

    def fit(
        self, n_seen: int, level: int, known: Known, tasks: Sequence[Task], meanwhile: Callable[[], None]
    ) -> Iterator[tuple[Task, Block, float]]:
        """Tasks, what they give and the seconds of one processor they took, as they are done.

        known: what they are fitted to, prepared for their methods: the state of knowledge after `n_seen` periods of the
        history, in those of `level` of the study's time levels, -1 for its own.
        """
        shared = pickle.dumps((known.shared, _Origin(n_seen, level, code())), protocol=5)
        for task, (block, took) in self._cluster.each(_fit_there, [self._prepared, shared], tasks, meanwhile):
            yield task, block, took


def _fit_there(prepared: bytes, shared: bytes, task: Task) -> tuple[Block, float]:
    """On a worker."""
    with _alone:
        known = _known(prepared, shared)
    began = time.thread_time()
    block = fit_task(task, known)
    return block, time.thread_time() - began


_alone = Lock()


@lru_cache(maxsize=2)
def _known(prepared: bytes, shared: bytes) -> Known:
    make_ready()
    effects, origin = pickle.loads(shared)
    if origin.code != code():
        raise TansyError(
            "A worker of the cluster has another version of Tansy, or of what it stands on, than this machine; install "
            "the same on both."
        )
    study = _study(prepared)
    level = None if origin.level < 0 else study.time_levels[origin.level]
    known = study.known(origin.n_seen) if level is None else study.known_over(level, origin.n_seen)
    known.share(effects)
    return known


@lru_cache(maxsize=1)
def _study(prepared: bytes) -> Any:
    return pickle.loads(prepared)
