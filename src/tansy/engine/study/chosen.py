"""The choice of a method for every node and origin, from the results in the store, block by block of nodes.

No step holds the forecasts of all methods from all origins for all nodes: a block of nodes is read, judged, and left.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.choice import choose
from tansy.engine.compute.threads import run_chunks
from tansy.engine.kernels.windows import squares_by_then
from tansy.engine.study import accuracy
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.tasks import BLOCK, Ending

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]


@dataclass(frozen=True)
class Chosen:
    """method: [nodes, origins + 1], position of the method at each origin and at the end, -1 where none is defined.
    was_tested: [nodes]. base: [nodes, origins + 1, H], sigma: [nodes, origins + 1], spread: [nodes, origins + 1, H], of
    the chosen method. benchmark: [nodes, origins, H], the seasonal naive. parameters: [nodes, P], of the method chosen
    at the end, named by parameter_names[method]. scores: [nodes, methods, 5]. pooled: [levels + 1, methods, H + 1, 10],
    see `accuracy.pooled_sums`."""

    method: Integers
    was_tested: Booleans
    base: Floats
    sigma: Floats
    spread: Floats
    benchmark: Floats
    parameters: Floats
    parameter_names: tuple[tuple[str, ...], ...]
    scores: Floats
    pooled: Floats


def choose_all(
    prepared: Prepared,
    methods: tuple[str, ...],
    endings: list[Ending],
    workers: int | None,
    meanwhile: Callable[[], None],
) -> Chosen:
    """Choose for every node at every origin and at the end.

    endings: per origin and for the end, oldest first.
    """
    n, horizon, n_origins = prepared.graph.n_nodes, prepared.recipe.leads, len(prepared.seen_at)
    chosen = Chosen(
        method=np.full((n, n_origins + 1), -1, dtype=np.int64),
        was_tested=np.zeros(n, dtype=bool),
        base=np.full((n, n_origins + 1, horizon), np.nan),
        sigma=np.full((n, n_origins + 1), np.nan),
        spread=np.full((n, n_origins + 1, horizon), np.nan),
        benchmark=np.empty((n, n_origins, horizon)),
        parameters=np.empty((n, 0)),
        parameter_names=(),
        scores=np.empty((n, len(methods), 5)),
        pooled=np.empty(0),
    )
    work = _Work(prepared, methods, endings, chosen)
    starts = list(range(0, n, BLOCK))
    found = {one.start: one for one in run_chunks(work.block, starts, workers, meanwhile)}
    ordered = [found[start] for start in starts]
    names = [list(dict.fromkeys(name for one in ordered for name in one.names[j])) for j in range(len(methods))]
    parameters = np.full((n, max(map(len, names))), np.nan)
    for one in ordered:
        for j, rows, values in one.parameters:
            parameters[rows[:, None], [names[j].index(name) for name in one.names[j]]] = values
    pooled = accuracy.by_level(prepared.graph, [part for one in ordered for part in one.pooled])
    return replace(chosen, parameters=parameters, parameter_names=tuple(map(tuple, names)), pooled=pooled)


@dataclass(frozen=True)
class _Found:
    """Of a block: parameters of the methods chosen at the end (method, nodes, values), their names per method, and what
    the tables add up."""

    start: int
    names: list[tuple[str, ...]]
    parameters: list[tuple[int, Integers, Floats]]
    pooled: list[tuple[slice, Floats]]


class _Work:
    def __init__(self, prepared: Prepared, methods: tuple[str, ...], endings: list[Ending], out: Chosen) -> None:
        self._prepared, self._methods, self._endings, self._out = prepared, methods, endings, out
        self._seen = [ending.seen for ending in endings]
        self._reference = methods.index("mean")
        self._benchmark = methods.index("seasonal-naive")
        self._fallback = np.array([methods.index(text) for text in prepared.fallback_texts], dtype=np.int64)
        self._first = np.array([n - prepared.seen_at[0] for n in prepared.seen_at], dtype=np.int64)

    def block(self, start: int) -> _Found:
        """Judge the methods on some nodes and write what is chosen into `out`."""
        out, seen_at, horizon = self._out, self._prepared.seen_at, self._prepared.recipe.leads
        rows = slice(start, min(start + BLOCK, len(out.method)))
        n, n_methods, n_origins = rows.stop - start, len(self._methods), len(seen_at)
        means = np.empty((n_methods, n_origins, n, horizon))
        scale = np.stack([one.scale[rows] for one in self._seen[:-1]], axis=1)
        each = np.arange(n)
        for o, ending in enumerate(self._endings):
            seen = ending.seen
            found = [results.rows(rows.start, rows.stop) for results in ending.results]
            defined = np.stack([~np.isnan(one.mean[:, 0]) for one in found], axis=1)
            squares = np.empty((n, n_methods, o))
            squares_by_then(
                means, np.ascontiguousarray(seen.came[rows]), self._first, seen.came.shape[1], scale, squares
            )
            chosen, tested = choose(squares, defined, self._reference, self._fallback)
            kept = seen.kept[rows]
            chosen = np.where((kept >= 0) & defined[each, kept], kept, chosen)
            out.method[rows, o] = chosen
            for j in np.unique(chosen[chosen >= 0]).tolist():
                own = chosen == j
                at = start + np.nonzero(own)[0]
                out.base[at, o], out.sigma[at, o] = found[j].mean[own], found[j].sigma[own]
                out.spread[at, o] = found[j].spread[own]
            if o < n_origins:
                means[:, o] = np.stack([one.mean for one in found])
                out.benchmark[rows, o] = found[self._benchmark].mean
        out.was_tested[rows] = tested
        parameters = [
            (j, start + np.nonzero(chosen == j)[0], found[j].parameters[chosen == j])
            for j in np.unique(chosen).tolist()
            if j >= 0
        ]
        return _Found(start, [one.names for one in found], parameters, self._accuracy(rows, means, scale))

    def _accuracy(self, rows: slice, means: Floats, scale: Floats) -> list[tuple[slice, Floats]]:
        """Write the scores of every method on some nodes, and return what the tables add up, per run of one level."""
        out, prepared = self._out, self._prepared
        actuals = self._seen[-1].windows(prepared.seen_at, prepared.recipe.leads, rows)
        actuals[out.method[rows, :-1] < 0] = np.nan
        judged = accuracy.Judged(actuals, out.benchmark[rows], scale)
        runs = accuracy.runs_of(prepared.graph, rows.start, rows.stop)
        pooled = [np.empty((len(means), actuals.shape[2] + 1, 10)) for _ in runs]
        for j in range(len(means)):
            sums, counted = judged.sums(means[j].transpose(1, 0, 2))
            out.scores[rows, j] = accuracy.node_scores(sums, counted)
            for own, run in zip(pooled, runs, strict=True):
                own[j] = accuracy.pooled_sums(sums[run.start - rows.start : run.stop - rows.start])
        return list(zip(runs, pooled, strict=True))
