"""Features by which it is judged whether a node is worth a forecast of its own."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

import numpy as np
from numpy.typing import NDArray

from tansy.engine.compute.threads import run_chunks
from tansy.engine.graph.judged import Judge
from tansy.engine.profile.strengths import strengths
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

_ROWS = 4_000


def judge_of(timeline: Timeline) -> Judge:
    """What finds features of histories on a timeline."""
    return partial(features, timeline=timeline)


def features(values: Floats, names: tuple[str, ...], timeline: Timeline) -> Mapping[str, Floats]:
    """Features by name, [nodes], of histories [nodes, periods], NaN missing; see `graph.pruning.FEATURES`.

    What nobody has sold yet has a mean and a length of nothing, and is empty throughout.
    """
    found = {name: np.empty(len(values)) for name in names}
    starts = list(range(0, len(values), _ROWS))

    def some(start: int) -> None:
        own = slice(start, start + _ROWS)
        for name, one in _features(values[own], names, timeline).items():
            found[name][own] = one

    for _ in run_chunks(some, starts):
        pass
    return found


def _features(values: Floats, names: tuple[str, ...], timeline: Timeline) -> dict[str, Floats]:
    sold = values > 0.0  # what is not known is not sold
    n = values.shape[1]
    length = np.where(sold.any(axis=1), n - np.argmax(sold, axis=1), 0).astype(np.float64)
    if not set(names) - {"length", "mean", "empty"} and not (values.min(initial=0.0) < 0.0 or np.isnan(values).any()):
        # nothing comes before the first sale: counted without looking where that is
        count = np.maximum(length, 1.0)
        empty = np.where(length > 0.0, 1.0 - np.count_nonzero(sold, axis=1) / count, 1.0)
        plain = {"length": length, "mean": values.sum(axis=1) / count, "empty": empty}
        return {name: plain[name] for name in names}
    since = np.arange(n) >= (n - length)[:, None]
    known = since & ~np.isnan(values)
    count = np.maximum(known.sum(axis=1), 1)
    found = {
        "length": length,
        "mean": np.where(known, np.nan_to_num(values), 0.0).sum(axis=1) / count,
        "empty": np.where(length > 0.0, 1.0 - (sold & known).sum(axis=1) / count, 1.0),
    }
    if set(names) - set(found):
        strong = strengths(values, timeline)
        found |= {"season": strong.season, "trend": strong.trend, "entropy": strong.entropy}
    return {name: found[name] for name in names}
