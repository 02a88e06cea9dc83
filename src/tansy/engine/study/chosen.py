"""The choice of a method for every node and origin, from the results in the store, block by block of nodes.

No step holds the forecasts of all methods from all origins for all nodes: a block of nodes is read, judged, and left.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.choice import MEASURES, Choices, groups_of
from tansy.engine.compute.threads import run_chunks
from tansy.engine.kernels.windows import losses_by_then
from tansy.engine.study import accuracy
from tansy.engine.study.evidence import Early, Evidence
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.seen import IN_SEASON, Seen
from tansy.engine.study.tasks import BLOCK, Ending

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

_MOST_LOSS = 1e30  # what half the digits can hold, and far beyond what a choice looks at


@dataclass(frozen=True)
class Chosen:
    """method: [nodes, origins + 1], position of the method at each origin and at the end, -1 where none is defined.
    evidence: what the choice stands on. base: [nodes, origins + 1, H], sigma: [nodes,
    origins + 1], spread: [nodes, origins + 1, H], of the chosen method. benchmark: [nodes, origins, H], the seasonal
    naive. parameters: [nodes, P], of the method chosen at the end, named by parameter_names[method]. scores: [nodes,
    methods, 5]. pooled: [levels + 1, methods, H + 1, 10], see `accuracy.pooled_sums`; by_kind: the same over the series
    of some kinds and all leads, [kinds, methods, 10]."""

    method: Integers
    evidence: Evidence
    base: Floats
    sigma: Floats
    spread: Floats
    benchmark: Floats
    parameters: Floats
    parameter_names: tuple[tuple[str, ...], ...]
    scores: Floats
    pooled: Floats
    by_kind: Floats


def choose_all(
    prepared: Prepared,
    methods: tuple[str, ...],
    endings: list[Ending],
    kinds: Booleans,
    workers: int | None,
    meanwhile: Callable[[], None],
) -> tuple[Chosen, Choices]:
    """Choose for every node at every origin and at the end; the choices are those at the end, and why.

    endings: per origin and for the end, oldest first. kinds: [kinds, nodes], which are of a kind.
    """
    n, horizon, n_origins = prepared.graph.n_nodes, prepared.recipe.leads, len(prepared.seen_at)
    chosen = Chosen(
        method=np.full((n, n_origins + 1), -1, dtype=np.int64),
        evidence=_evidence(prepared, methods, [ending.seen for ending in endings]),
        base=np.full((n, n_origins + 1, horizon), np.nan),
        sigma=np.full((n, n_origins + 1), np.nan),
        spread=np.full((n, n_origins + 1, horizon), np.nan),
        benchmark=np.empty((n, n_origins, horizon)),
        parameters=np.empty((n, 0)),
        parameter_names=(),
        scores=np.empty((n, len(methods), 5)),
        pooled=np.empty(0),
        by_kind=np.zeros((len(kinds), len(methods), 10)),
    )
    work = _Work(prepared, methods, endings, kinds, chosen)
    starts = list(range(0, n, BLOCK))
    judged = sorted(run_chunks(work.judge, starts, workers, meanwhile), key=lambda one: one.start)
    for block in judged:  # in their order, so that sums are the same for any number of threads
        chosen.by_kind[:] += block.by_kind
    chosen.evidence.early.sort(key=lambda one: (one.o, one.window, one.start))
    choices = [work.decide(o) for o in range(len(endings))]
    found = {one.start: one for one in run_chunks(work.take, starts, workers, meanwhile)}
    ordered = [found[start] for start in starts]
    names = [list(dict.fromkeys(name for one in ordered for name in one.names.get(j, ()))) for j in range(len(methods))]
    parameters = np.full((n, max(map(len, names))), np.nan)
    for one in ordered:
        for j, rows, values in one.parameters:
            parameters[rows[:, None], [names[j].index(name) for name in one.names[j]]] = values
    pooled = accuracy.by_level(prepared.graph, [part for block in judged for part in block.pooled])
    chosen = replace(chosen, parameters=parameters, parameter_names=tuple(map(tuple, names)), pooled=pooled)
    return chosen, choices[-1]


def _evidence(prepared: Prepared, methods: tuple[str, ...], seen: list[Seen]) -> Evidence:
    """With the losses still to come."""
    n, ends, level_of = prepared.graph.n_nodes, len(seen), prepared.graph.level_of
    in_season = methods.index(prepared.in_season_text) if prepared.in_season_text else -1
    return Evidence(
        losses=np.full((len(MEASURES), n, len(methods), ends - 1), np.nan, dtype=np.float32),
        early=[],
        defined=np.zeros((ends, n, len(methods)), dtype=bool),
        group=np.stack([groups_of(level_of, one.kind) for one in seen]),
        kept=np.stack([one.kept for one in seen]),
        eligible=np.isin(methods, prepared.eligible_texts),
        fallback=np.array([methods.index(text) for text in prepared.fallback_texts], dtype=np.int64),
        first=np.stack([np.where(one.kind == IN_SEASON, in_season, -1) for one in seen]),
        level_of=level_of,
    )


def forecasts_of(ending: Ending, methods: Integers, nodes: Integers, horizon: int) -> tuple[Floats, Floats, Floats]:
    """What some nodes' methods forecast from an origin: means [k, H], sigmas [k], spreads [k, H]. methods, nodes: [k],
    the latter ascending."""
    mean, sigma = np.full((len(nodes), horizon), np.nan), np.full(len(nodes), np.nan)
    spread = mean.copy()
    block = nodes // BLOCK
    for b in np.unique(block).tolist():
        for j in np.unique(methods[block == b]).tolist():
            here = np.nonzero((block == b) & (methods == j))[0]
            found = ending.results[j].rows(b * BLOCK, int(nodes[here[-1]]) + 1)
            own = nodes[here] - b * BLOCK
            mean[here], sigma[here], spread[here] = found.mean[own], found.sigma[own], found.spread[own]
    return mean, sigma, spread


@dataclass(frozen=True)
class _Judged:
    """Of a block: what tables add up, per run of one level, and per kind."""

    start: int
    pooled: list[tuple[slice, Floats]]
    by_kind: Floats


@dataclass(frozen=True)
class _Taken:
    """Of a block: parameters of the methods chosen at the end (method, nodes, values), and their names per method."""

    start: int
    names: dict[int, tuple[str, ...]]
    parameters: list[tuple[int, Integers, Floats]]


class _Work:
    """First all methods are judged on every block of nodes, then the choice is made for all nodes at once, because
    series of a group choose together, then what is chosen is taken block by block."""

    def __init__(
        self, prepared: Prepared, methods: tuple[str, ...], endings: list[Ending], kinds: Booleans, out: Chosen
    ) -> None:
        self._kinds = kinds
        self._prepared, self._methods, self._endings, self._out = prepared, methods, endings, out
        self._seen = [ending.seen for ending in endings]
        self._benchmark = methods.index("seasonal-naive")
        self._first = np.array([n - prepared.seen_at[0] for n in prepared.seen_at], dtype=np.int64)
        self.evidence = out.evidence

    def judge(self, start: int) -> _Judged:
        """Keep the losses of every method on some nodes as they were known at every origin, and their scores; returns
        what the tables add up."""
        out, seen_at, horizon = self._out, self._prepared.seen_at, self._prepared.recipe.leads
        rows = self._rows(start)
        n, n_methods, n_origins = rows.stop - start, len(self._methods), len(seen_at)
        means = np.empty((n_methods, n_origins, n, horizon))
        scale = np.stack([one.scale[rows] for one in self._seen[:-1]], axis=1)
        known = []
        for o, ending in enumerate(self._endings):
            own = np.stack([results.rows(rows.start, rows.stop).mean for results in ending.results])
            self.evidence.defined[o, rows] = ~np.isnan(own[:, :, 0]).T
            came = np.ascontiguousarray(ending.seen.came[rows])
            losses = np.empty((len(MEASURES), n, n_methods, o))
            for measure, of in zip(MEASURES, losses, strict=True):
                losses_by_then(means, came, self._first, came.shape[1], scale, measure == "absolute", of)
            known.append(np.minimum(losses, _MOST_LOSS).astype(np.float32))
            if o < n_origins:
                means[:, o] = own
                out.benchmark[rows, o] = own[self._benchmark]
        self.evidence.losses[:, rows] = known[-1]
        for o, losses in enumerate(known[:-1]):
            for w in range(o):
                if not np.array_equal(losses[..., w], known[-1][..., w], equal_nan=True):
                    self.evidence.early.append(Early(o, w, start, losses[..., w].copy()))
        return self._accuracy(rows, means, scale)

    def decide(self, o: int) -> Choices:
        """Choose at one of the origins, or at the end, for all nodes."""
        found = self.evidence.choose(o, self._prepared.recipe.choice)
        self._out.method[:, o] = self.evidence.taken(o, found.method)
        return found

    def take(self, start: int) -> _Taken:
        """Write what the methods chosen for some nodes forecast."""
        out, rows = self._out, self._rows(start)
        names: dict[int, tuple[str, ...]] = {}
        parameters: list[tuple[int, Integers, Floats]] = []
        for o, ending in enumerate(self._endings):
            chosen = out.method[rows, o]
            for j in np.unique(chosen[chosen >= 0]).tolist():
                found = ending.results[j].rows(rows.start, rows.stop)
                own = chosen == j
                at = start + np.nonzero(own)[0]
                out.base[at, o], out.sigma[at, o], out.spread[at, o] = (
                    found.mean[own],
                    found.sigma[own],
                    found.spread[own],
                )
                if o == len(self._endings) - 1:
                    names[j] = found.names
                    parameters.append((j, at, found.parameters[own]))
        return _Taken(start, names, parameters)

    def _rows(self, start: int) -> slice:
        return slice(start, min(start + BLOCK, len(self._out.method)))

    def _accuracy(self, rows: slice, means: Floats, scale: Floats) -> _Judged:
        """Write the scores of every method on some nodes, and return what the tables add up."""
        out, prepared = self._out, self._prepared
        actuals = self._seen[-1].windows(prepared.seen_at, prepared.recipe.leads, rows)
        actuals[~self.evidence.defined[:-1, rows].any(axis=2).T] = np.nan
        judged = accuracy.Judged(actuals, out.benchmark[rows], scale)
        runs = accuracy.runs_of(prepared.graph, rows.start, rows.stop)
        pooled = [np.empty((len(means), actuals.shape[2] + 1, 10)) for _ in runs]
        by_kind = np.zeros(self._out.by_kind.shape)
        kinds = [(k, np.nonzero(which[rows])[0]) for k, which in enumerate(self._kinds)]
        kinds = [(k, which) for k, which in kinds if len(which)]
        for j in range(len(means)):
            sums, counted = judged.sums(means[j].transpose(1, 0, 2))
            out.scores[rows, j] = accuracy.node_scores(sums, counted)
            for own, run in zip(pooled, runs, strict=True):
                own[j] = accuracy.pooled_sums(sums[run.start - rows.start : run.stop - rows.start])
            for k, which in kinds:
                by_kind[k, j] = accuracy.pooled_sums(sums[which])[0]
        return _Judged(rows.start, list(zip(runs, pooled, strict=True)), by_kind)
