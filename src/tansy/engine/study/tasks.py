"""The fitting that a study asks for, task by task: one method, from one origin, for a block of nodes.

A task names what it needs (the method's text, the origin, the nodes) and carries no data: whoever carries it out takes
that from the state of knowledge at the origin. What lies in the store is not fitted again.
"""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.known import Known
from tansy.engine.backtest.measures import nan_mean
from tansy.engine.compute.threads import run_chunks
from tansy.engine.errors import Stopped
from tansy.engine.methods import registry
from tansy.engine.methods.blend import Blend
from tansy.engine.methods.fits import Fits
from tansy.engine.methods.form import Form
from tansy.engine.methods.notation import parse
from tansy.engine.study.blended import Blended
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.seen import Seen
from tansy.engine.study.store import Block, Keys, Results, Shelf, Store

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

YARDSTICK = "seasonal-naive"
"""Which every forecast is held against."""

BLOCK = 512
"""Nodes of a task: enough that Python around the kernels weighs little, few enough to stop soon."""


@dataclass(frozen=True)
class Task:
    """method: its text. n_seen: periods seen at the origin. nodes: positions [k], in the study's graph."""

    method: str
    n_seen: int
    nodes: Integers


@dataclass(frozen=True)
class Counts:
    """Tasks of a study: fitted now, and taken from the store. seconds: of one processor, per method fitted now."""

    computed: int
    reused: int
    seconds: dict[str, float]


def fit_task(task: Task, known: Known) -> Block:
    """Carry a task out. known: the state of knowledge at its origin."""
    assert known.n_seen == task.n_seen
    form = parse(task.method)
    fits = registry.fit(form, known.batch(form, task.nodes), known.horizon, bands="known")
    assert fits.distribution is not None
    spread = np.where(np.isnan(fits.forecast), np.nan, fits.distribution.spread()) * _for_freedom(fits)[:, None]
    return Block(
        fits.forecast, np.sqrt(nan_mean(fits.residuals**2, axis=1)), spread, fits.parameters, fits.parameter_names
    )


def _for_freedom(fits: Fits) -> Floats:
    """By how much errors in sample are too small for the parameters fitted to them, [nodes]: sqrt(n / (n - k)), k of
    them beside the variance; twice at most."""
    k = np.maximum(fits.n_parameters - 1.0, 0.0)
    free = np.maximum(fits.n_used - k, 0.25 * np.maximum(fits.n_used, 1.0))
    return np.sqrt(np.maximum(fits.n_used, 1.0) / free)


class Elsewhere(Protocol):
    """Where tasks are fitted if not here; see `far`."""

    def fit(
        self, n_seen: int, level: int, known: Known, tasks: Sequence[Task], meanwhile: Callable[[], None], /
    ) -> Iterator[tuple[Task, Block, float]]: ...


_Fit = Callable[[Known, Sequence[Task], Callable[[], None]], Iterator[tuple[Task, Block, float]]]


class _Watch:
    """How many tasks are done, told by the threads that work, and whether they are to stop, told by the one that waits
    for them. Only the latter speaks to the outside."""

    def __init__(self, of: int, say: Callable[[int, int], None], stop_if_asked: Callable[[], None]) -> None:
        self._of, self._done = of, 0
        self._say, self._stop_if_asked = say, stop_if_asked
        self.stopped = False

    def add(self, done: int) -> None:
        self._done += done

    def look(self) -> None:
        self._say(self._done, self._of)
        try:
            self._stop_if_asked()
        except Stopped:
            self.stopped = True
            raise


@dataclass(frozen=True)
class Ending:
    """The fits from one origin, or from the end of the history. results: per method, in the study's order; of a blend
    they are made from those of its parts. seen: what the reductions need of the state of knowledge."""

    n_seen: int
    results: list[Results | Blended]
    seen: Seen


def carry_out(
    prepared: Prepared,
    forms: Sequence[Form],
    store: Store,
    say: Callable[[int, int], None],
    stop_if_asked: Callable[[], None],
    workers: int | None,
    elsewhere: Elsewhere | None = None,
) -> tuple[list[Ending], Counts]:
    """Fit all methods from every origin and from the end, oldest first.

    say(done, of): hears of tasks. stop_if_asked: called several times a second; what it raises ends the work, and what
    was fitted stays in the store.
    """
    methods = tuple(str(form) for form in forms)
    leaves = list({str(leaf): leaf for form in forms for leaf in form.leaves}.values())
    asked = {str(leaf): _asked(prepared, leaf) for leaf in leaves}
    ends = [*prepared.seen_at, prepared.timeline.n_periods]
    in_all = len(ends) * sum(len(np.unique(np.nonzero(one)[0] // BLOCK)) for one in asked.values())
    watch = _Watch(in_all, say, stop_if_asked)
    watch.look()

    def plan(n_seen: int) -> _Plan:
        known = prepared.known(n_seen, store)
        wanted = [_Wanted(form, known, store, asked[str(form)]) for form in leaves]
        return _Plan(n_seen, wanted, Seen.of(known, prepared, methods))

    # Planned first, each state of knowledge for itself, and made again where anything is to be fitted: so no more of
    # them are held than there are threads.
    plans = {one.n_seen: one for one in run_chunks(plan, ends, workers, watch.look)}
    computed = sum(one.n_touched for own in plans.values() for one in own.wanted)
    watch.add(in_all - computed)
    seconds: dict[str, float] = defaultdict(float)
    for n_seen in ends:
        wanted = [one for one in plans[n_seen].wanted if one.n_touched]
        if wanted:
            known = prepared.known(n_seen, store)
            for one in wanted:
                began = time.process_time()
                known.prepare([one.form])
                seconds[str(one.form)] += time.process_time() - began
            fit = partial(elsewhere.fit, n_seen, -1) if elsewhere else None
            _fit_missing(known, wanted, watch, workers, seconds, fit)
    watch.look()
    found = [{str(leaf): one.found() for leaf, one in zip(leaves, plans[n].wanted, strict=True)} for n in ends]
    endings = [
        Ending(n, [_of(form, found[: o + 1], ends, plans[n].seen) for form in forms], plans[n].seen)
        for o, n in enumerate(ends)
    ]
    return endings, Counts(computed, in_all - computed, dict(seconds))


def fit_known(
    known: Known, forms: Sequence[Form], asked: Booleans, store: Store, stop_if_asked: Callable[[], None],
    workers: int | None, fit: _Fit | None = None,
) -> dict[str, Results]:  # fmt: skip
    """Results by method of forms that are no blends, from one state of knowledge; what lies in the store is not fitted
    again. asked: [nodes], for which. fit: fits them elsewhere."""
    wanted = [_Wanted(form, known, store, asked) for form in forms]
    missing = [one for one in wanted if one.n_touched]
    if missing:
        watch = _Watch(sum(one.n_touched for one in missing), lambda done, of: None, stop_if_asked)
        known.prepare([one.form for one in missing])
        _fit_missing(known, missing, watch, workers, defaultdict(float), fit)
    return {str(one.form): one.found() for one in wanted}


def _asked(prepared: Prepared, form: Form) -> Booleans:
    """For which nodes a method is fitted, [nodes]: those that pruning left, at the periods of the history, and the
    yardstick for all."""
    every = np.ones(prepared.graph.n_nodes, dtype=bool)
    return every if prepared.pruned is None or str(form) == YARDSTICK else prepared.pruned.fitted_at(0)


def _of(form: Form, found: list[dict[str, Results]], ends: list[int], seen: Seen) -> Results | Blended:
    """Results of a method at the last of the origins in `found`, which holds those of all that was fitted."""
    if not isinstance(form, Blend):
        return found[-1][str(form)]
    *earlier, now = [[one[str(part)] for part in form.parts] for one in found]
    return Blended(form, now, earlier, [n - ends[0] for n in ends[: len(earlier)]], seen)


def _fit_missing(
    known: Known,
    wanted: list[_Wanted],
    watch: _Watch,
    workers: int | None,
    seconds: dict[str, float],
    fit: _Fit | None,
) -> None:
    """Add to the seconds that each method took. fit: fits elsewhere all but what learns, whose model is here."""
    richest_first = wanted[::-1]
    learners = [(one, one.chunks()) for one in richest_first if one.form.learns]  # learns once: all chunks together
    others = [(one, nodes) for one in richest_first if not one.form.learns for nodes in one.chunks()]
    here = learners if fit else learners + [(one, [nodes]) for one, nodes in others]  # what takes longest first
    done = 0.0

    def count(share: float, method: str, took: float) -> None:
        nonlocal done
        done += share
        seconds[method] += took
        watch.add(int(done + 1e-6))
        done -= int(done + 1e-6)

    def work(job: tuple[_Wanted, list[Integers]]) -> tuple[float, str, float]:
        one, chunks = job
        began = time.thread_time()
        for nodes in chunks:
            if watch.stopped:
                raise Stopped("The run was stopped.")
            one.keep(nodes, fit_task(Task(str(one.form), known.n_seen, nodes), known))
        return one.share(len(chunks)), str(one.form), time.thread_time() - began

    for share, method, took in run_chunks(work, here, workers, watch.look):
        count(share, method, took)
    if fit and others:
        of = {str(one.form): one for one in wanted}
        tasks = [Task(str(one.form), known.n_seen, nodes) for one, nodes in others]
        for task, block, took in fit(known, tasks, watch.look):
            of[task.method].keep(task.nodes, block)
            count(of[task.method].share(1), task.method, took)


class _Wanted:
    """What one method is asked for at one origin, and what of it is there. asked: [nodes], for which nodes. n_touched:
    tasks with anything missing."""

    def __init__(self, form: Form, known: Known, store: Store, asked: Booleans) -> None:
        self.form = form
        self.keys: Keys = known.keys(form)
        self._store = store
        self._content = f"{form} {known.timeline!r} {known.horizon}"
        self._shelf: Shelf = store.shelf(self._content)
        self._horizon = known.horizon
        self._results = Results(self._shelf, self.keys, known.horizon)
        self._results.touch()
        missing = self._results.missing
        self._missing = _once(self.keys, missing[asked[missing]])
        self.n_touched = len(np.unique(self._missing // BLOCK))
        self.n_chunks = -(-len(self._missing) // BLOCK)

    def chunks(self) -> list[Integers]:
        """Nodes without a result, in as few blocks as hold them."""
        missing = self._missing
        return np.split(missing, range(BLOCK, len(missing), BLOCK)) if len(missing) else []

    def share(self, n_chunks: int) -> float:
        """How many of the tasks touched so many chunks are."""
        return self.n_touched * n_chunks / self.n_chunks

    def keep(self, nodes: Integers, block: Block) -> None:
        self._shelf.add(self.keys[nodes], block)

    def found(self) -> Results:
        """Where the results lie, now that none is missing."""
        return Results(self._store.shelf(self._content), self.keys, self._horizon) if self.n_touched else self._results


def _once(keys: Keys, nodes: Integers) -> Integers:
    """Of nodes that a method sees the same of, such as a region of one store and that store, the first."""
    _, first = np.unique(keys[nodes], axis=0, return_index=True)
    return nodes[np.sort(first)]


@dataclass(frozen=True)
class _Plan:
    n_seen: int
    wanted: list[_Wanted]
    seen: Seen
