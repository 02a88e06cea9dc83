"""Running a study: what the worker carries out, and how the result is written."""

from __future__ import annotations

import gzip
import json
import logging
import threading
import time
from typing import Any

import numpy as np
from django.conf import settings
from django.db import transaction
from numpy.typing import NDArray

from tansy.engine.errors import Stopped, TansyError
from tansy.engine.methods.drives import Drives
from tansy.engine.study import export
from tansy.engine.study.accuracy import MEASURES
from tansy.engine.study.field import sheet, trails
from tansy.engine.study.moved import Moved
from tansy.engine.study.prepared import prepare
from tansy.engine.study.report import GAIN_CUTS
from tansy.engine.study.run import Study as Findings
from tansy.engine.study.run import run_study
from tansy.server.faults import Fault, fault_of
from tansy.server.portfolios import corrections as ledger
from tansy.server.studies.models import Node, Result, Run, Study, pack
from tansy.server.studies.store import results
from tansy.server.studies.structure import structure_json
from tansy.server.watch.log import run_id

_log = logging.getLogger(__name__)
_BATCH = 200
KIND_FIGURES = ("interval", "variation", "empty", "window")
_REPORT_EVERY = 0.5  # seconds


_ending = threading.Event()


def end_worker() -> None:
    """Tell the run of this process that its worker is to end; it goes back to the queue."""
    _ending.set()


def worker_is_ending() -> bool:
    return _ending.is_set()


class Reporter:
    """Writes progress to the run at most twice a second, and hears there whether to stop."""

    def __init__(self, run: Run) -> None:
        self._run = run
        self._step_began = 0.0
        self._last = 0.0
        self._of = -1
        self._first_done = 0

    def __call__(self, step: str, done: int, of: int) -> None:
        now = time.monotonic()
        if step != self._run.step or of != self._of:  # what was kept of a run before took no time now
            self._step_began, self._first_done, self._of = now, done, of
        elif now - self._last < _REPORT_EVERY and done < of:
            return
        self._last = now
        rate = (done - self._first_done) / (now - self._step_began) if now > self._step_began else 0.0
        self._run.report(step, done, of, (of - done) / rate if rate > 0 else None)

    def should_stop(self) -> bool:
        return worker_is_ending() or Run.objects.filter(pk=self._run.pk, stop_requested=True).exists()


_OF_MACHINE = {
    Fault.MEMORY: "There is not enough memory for this study; close other programs, or run it on fewer series.",
    Fault.DISK_FULL: "The disk is full; make room on it, and run the study again: what was fitted is kept.",
    Fault.NOT_WRITABLE: "The data folder cannot be written to; let this user write there, and run the study again.",
    Fault.BUSY: "Something large was being written for ten minutes; run the study again: what was fitted is kept.",
    None: "Something went wrong that is not your doing; the server's log says what. "
    "Running it again goes on from here.",
}


def carry_out(run: Run) -> None:
    """Run a study to its end, or to where it is stopped. Safe to call again after a crash: what was fitted is kept,
    and the result is written in one transaction or not at all."""
    study = run.study
    if Result.objects.filter(study=study).exists() or not run.begin():
        return
    token = run_id.set(str(run.pk))
    began = time.monotonic()
    _log.info("run begun", extra={"study": study.pk})
    try:
        _carry_out(run, study)
    finally:
        _log.info("run %s", run.state, extra={"study": study.pk, "seconds": round(time.monotonic() - began, 1)})
        run_id.reset(token)


def _carry_out(run: Run, study: Study) -> None:
    reporter = Reporter(run)
    try:
        panel, recipe = study.load.panel(), study.recipe
        corrections = ledger.unpack(study.corrections)
        found = run_study(
            panel,
            recipe,
            corrections=corrections,
            kinds_by_hand={int(i): kind for i, kind in study.kinds_by_hand.items()},
            store=results(),
            progress=reporter,
            should_stop=reporter.should_stop,
            scheduler=settings.SCHEDULER,
        )
        reporter("save", 0, 0)
        structure = structure_json(prepare(panel, recipe))
        with transaction.atomic():
            save(study, found, structure)
            run.end(Run.State.DONE)
    except Stopped as stopped:
        if worker_is_ending():
            run.wait_again()
        else:
            run.end(Run.State.STOPPED, str(stopped))
        return
    except TansyError as error:
        run.end(Run.State.FAILED, str(error))
        return
    except Exception as error:
        run.end(Run.State.FAILED, _OF_MACHINE[fault_of(error)])
        raise


def save(study: Study, found: Findings, structure: dict[str, Any]) -> None:
    """Write the result and its nodes; call inside a transaction. structure: of `structure.structure_json`."""
    page = json.dumps(sheet(found), separators=(",", ":"), allow_nan=False)
    summary = export.summary(found)
    published = summary["published"]["finest"]
    Result.objects.create(
        study=study,
        summary=summary,
        accuracy={**accuracy_json(found), "structure": structure},
        evidence=found.evidence.packed(),
        sheet=gzip.compress(page.encode(), 6),
        together=pack(found.published.together),
        methods=list(found.methods),
        parameter_names=[list(names) for names in found.parameter_names],
        probabilities=found.probabilities.tolist(),
        layers=[layer.name for layer in found.published.layers],
        band_levels=list(found.tables.band_levels),
        seen_at=found.seen_at,
        leads=found.forecast.shape[1],
        levels=level_list(found),
        rmsse=published["RMSSE"],
        gain=published["gain"],
        tasks_computed=found.tasks.computed,
        tasks_reused=found.tasks.reused,
    )
    graph, ways = found.graph, trails(found.graph)
    layers = np.stack([layer.mean for layer in found.published.layers], axis=1)
    scores = np.where(np.isfinite(found.node_scores), found.node_scores, np.nan)
    same = ((found.history == found.received) | (np.isnan(found.history) & np.isnan(found.received))).all(axis=1)

    def number(value: float) -> float | None:
        return None if np.isnan(value) else float(value)

    Node.objects.bulk_create(
        (
            Node(
                study=study,
                position=i,
                key=graph.ids[i],
                ref=graph.refs[i],
                level=int(graph.level_of[i]),
                name=graph.name(i),
                trail=ways[i],
                chosen=int(found.chosen[i]),
                reason=found.reasons[i],
                kind=found.kinds.words(i),
                plan=found.notes.get(i, ""),
                kept=found.kept.get(i, ""),
                kind_figures={name: number(getattr(found.kinds, name)[i]) for name in KIND_FIGURES},
                wape=number(scores[i, 1]),
                rmsse=number(scores[i, 2]),
                gain=number(scores[i, 3]),
                history=pack(found.history[i]),
                received=b"" if same[i] else pack(found.received[i]),
                base=pack(found.base[i]),
                layers=pack(layers[i]),
                quantiles=pack(found.quantiles[i]),
                tested=pack(found.tested[i]),
                tested_quantiles=pack(found.tested_quantiles[i]),
                chosen_at=pack(found.chosen_at[i]),
                scores=pack(found.method_scores[i]),
                node_scores=pack(found.node_scores[i]),
                hits=pack(found.report.bands.hits[i]),
                origin_wape=pack(found.origin_wape[i]),
                parameters=pack(found.parameters[i]),
            )
            for i in range(graph.n_nodes)
        ),
        batch_size=_BATCH,
    )


def level_list(found: Findings) -> list[dict[str, Any]]:
    """Name, its parts and number of nodes of each level, then of all."""
    levels = [
        {"name": level.name, "labels": list(level.labels), "n_nodes": level.n_nodes} for level in found.graph.levels
    ]
    return [*levels, {"name": found.tables.level_names[-1], "labels": [], "n_nodes": found.graph.n_nodes}]


def report_json(found: Findings) -> dict[str, Any]:
    """What the Backtest screen shows beyond the pooled tables."""
    said = found.report
    return {
        "kinds": [{"name": name, "n_series": int(n)} for name, n in zip(said.kind_names, said.kind_sizes, strict=True)],
        "by_kind": _lists(said.by_kind),
        "kind_coverage": _lists(said.bands.by_kind),
        "coverage_error": _lists(said.bands.coverage_error),
        "between": _lists(said.bands.between),
        "probabilities": found.probabilities.tolist(),
        "interval_score": _lists(said.bands.interval_score),
        "gain_cuts": list(GAIN_CUTS),
        "gains": said.gains.tolist(),
        "n_worse": said.n_worse,
        "drives": drives_json(found.drives),
        "seconds": [round(found.tasks.seconds.get(name, 0.0), 2) for name in found.methods],
    }


def drives_json(drives: Drives | None) -> dict[str, Any] | None:
    """What a learner goes by, what matters most first; None without one."""
    if drives is None or not drives.groups:
        return None
    effects: list[dict[str, Any]] = [
        {"driver": name, "relative": bool(relative), "points": []}
        for name, relative in zip(drives.drivers, drives.relative, strict=True)
    ]
    for of, at, change in drives.effects.tolist():
        effects[int(of)]["points"].append({"at": round(at, 4), "change": round(change, 2)})
    order = np.argsort(-drives.worse, kind="stable").tolist()
    return {
        "groups": [{"name": drives.groups[k], "worse": round(float(drives.worse[k]), 2)} for k in order],
        "effects": effects,
    }


def _lists(values: NDArray[np.float64]) -> Any:
    rounded = (np.round(values, 4) + 0.0).astype(object)
    rounded[~np.isfinite(values)] = None
    return rounded.tolist()


def moved_json(found: Findings, one: Moved) -> dict[str, Any]:
    """A node that reconciliation moved, and what pulled it."""
    graph = found.graph
    return {
        "node": graph.refs[one.node],
        "name": graph.name(one.node),
        "level": graph.levels[int(graph.level_of[one.node])].name,
        "base": round(one.base, 4),
        "reconciled": round(one.reconciled, 4),
        "moved_errors": round(one.errors, 3),
        "of_series": round(one.of_series, 4),
        "pulls": [
            {"node": graph.refs[i], "name": graph.name(i), "amount": round(amount, 4)} for i, amount in one.pulls
        ],
    }


def accuracy_json(found: Findings) -> dict[str, Any]:
    """The pooled tables as the screens show them."""
    tables, finest = found.tables, found.graph.n_aggregates

    return {
        "levels": level_list(found),
        "cells": tables.cells.tolist(),
        "shared": tables.shared.tolist(),
        "measures": list(MEASURES),
        "methods": list(tables.method_names),
        "reconciled_by": list(found.reconciled_by),
        "reconciliations": list(tables.reconciliation_names),
        "bands": list(tables.band_levels),
        "by_method": _lists(tables.by_method),
        "by_reconciliation": _lists(tables.by_reconciliation),
        "coverage": _lists(tables.coverage),
        "made": list(tables.made_names),
        "coverage_by_making": _lists(tables.coverage_by_making),
        "chosen": {name: int((found.chosen == j).sum()) for j, name in enumerate(found.methods)},
        "report": report_json(found),
        "gaps": [round(float(gap), 6) for gap in found.gaps],
        "moved": [moved_json(found, one) for one in found.moved],
        "zero_by_decision": int(((found.chosen < 0) & (found.forecast == 0.0).all(axis=1))[finest:].sum()),
    }
