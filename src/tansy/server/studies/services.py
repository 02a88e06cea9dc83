"""Making a study, running it, keeping what it found."""

from __future__ import annotations

import gzip
import io
import json
import shutil
import threading
import time
from collections import Counter
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.db import transaction
from numpy.typing import NDArray

from tansy.engine.backtest.origins import pooled_at
from tansy.engine.errors import Stopped, TansyError
from tansy.engine.methods.notation import Form, driver_of, parse
from tansy.engine.methods.pooled import Pooled
from tansy.engine.panel import Panel
from tansy.engine.structure.grouping import Structure, group
from tansy.engine.structure.node_drivers import node_drivers
from tansy.engine.structure.plans import with_plans
from tansy.engine.study import export
from tansy.engine.study.accuracy import MEASURES
from tansy.engine.study.field import sheet, trails
from tansy.engine.study.kept import KeptMethod as Kept
from tansy.engine.study.recipe import Recipe, default_recipe
from tansy.engine.study.run import Study as Findings
from tansy.engine.study.run import candidate_forms, fingerprint, run_study
from tansy.engine.study.store import FolderStore
from tansy.server.api.errors import Conflict
from tansy.server.faults import Fault, fault_of
from tansy.server.portfolios import corrections as ledger
from tansy.server.portfolios.models import Portfolio
from tansy.server.portfolios.overview import moved_by_hand
from tansy.server.portfolios.panels import panel_of
from tansy.server.portfolios.plans import plans_of
from tansy.server.portfolios.services import data_section
from tansy.server.studies.models import KeptMethod, Node, Result, Run, Study, pack, unpack

_BATCH = 200
_ROW_GROUP = 20_000  # rows: a page of a release is read from one or two groups
KIND_FIGURES = ("interval", "variation", "empty", "window")
_REPORT_EVERY = 0.5  # seconds


def make(portfolio: Portfolio, user: Any, recipe: Recipe | None = None, name: str = "") -> Study:
    """A study with its first run in the queue; both or neither.

    Without a recipe, the default one for this history. Raises RecipeError or NotationError where the recipe cannot
    be run.
    """
    load = portfolio.load
    if recipe is None:
        recipe = default_recipe(load.panel(), load.levels)
    recipe = replace(
        recipe,
        name=name or recipe.name,
        data=data_section(load),
        plans=recipe.plans or plans_of(portfolio),
        kept=recipe.kept or kept_of(portfolio),
        whole_units=recipe.whole_units or (portfolio.whole_units and recipe.nonnegative),
        cleaning=recipe.cleaning or ledger.rules_in_use(portfolio),
    )
    corrections = ledger.pack(ledger.standing(load))
    by_hand = moved_by_hand(load)
    candidate_forms(recipe)
    with transaction.atomic():
        study = Study.objects.create(
            portfolio=portfolio, load=load, name=recipe.name, recipe_text=recipe.to_toml(), made_by=user,
            corrections=corrections, kinds_by_hand=by_hand,
        )  # fmt: skip
        enqueue(study)
    return study


def kept_of(portfolio: Portfolio) -> tuple[Kept, ...]:
    """Methods kept by hand that stand, the oldest first."""
    standing = portfolio.kept_methods.filter(withdrawn_at=None).order_by("id")
    return tuple(Kept(one.method, one.reason, one.node, one.kind) for one in standing)


def used_by(portfolio: Portfolio) -> dict[int, int]:
    """How many nodes of the last finished study use each method kept by hand that it was made with: none where the node
    is gone or the method cannot be fitted there."""
    study = Study.objects.filter(portfolio=portfolio, result__isnull=False).order_by("-id").first()
    if study is None:
        return {}
    kept = {
        one.pk: Kept(one.method, one.reason, one.node, one.kind)
        for one in portfolio.kept_methods.filter(withdrawn_at=None)
    }
    used = dict(study.nodes.exclude(kept="").values_list("position", "kept"))
    counts = Counter(used.values())
    structure = structure_of(study) if used else None
    at = {structure.node_key(i): words for i, words in used.items()} if structure else {}
    return {
        pk: int(at.get(one.node) == one.words()) if one.node else counts[one.words()]
        for pk, one in kept.items()
        if one in study.recipe.kept
    }


def keep(portfolio: Portfolio, user: Any, method: str, reason: str, *, node: str = "", kind: str = "") -> KeptMethod:
    """Keep a method for a node or a kind in place of one kept before. Raises NotationError where the text is wrong."""
    text = str(parse(method))
    with transaction.atomic():
        for before in portfolio.kept_methods.filter(node=node, kind=kind, withdrawn_at=None):
            before.withdraw()
        return KeptMethod.objects.create(
            portfolio=portfolio, node=node, kind=kind, method=text, reason=reason.strip(), made_by=user
        )


@lru_cache(maxsize=2)
def planned_panel(study: Study) -> Panel:
    """The panel that a study was run on, as received, with its plans."""
    return with_plans(panel_of(study.load), study.recipe.plans).panel


@lru_cache(maxsize=4)
def structure_of(study: Study) -> Structure:
    """The structure that a study was run on."""
    return group(planned_panel(study), study.recipe.structure)


@lru_cache(maxsize=8)
def pooled_of_group(
    study: Study, entries: tuple[str, ...], group: int, at_origins: bool
) -> tuple[list[int], tuple[Pooled, ...]]:
    """Positions of the nodes of a group, as `Structure.effect_groups` numbers the widest ones, and their pooled effects
    as the study had them: at each origin where that is asked for, and at the end.

    Kept, because a slider asks for them with every move.
    """
    structure, panel = structure_of(study), planned_panel(study)
    groups = structure.effect_groups()
    positions = np.nonzero(groups[-1] == group)[0]
    rows = dict(study.nodes.filter(position__in=positions.tolist()).values_list("position", "history"))
    history = np.stack([unpack(rows[position]) for position in positions.tolist()])
    form = Form("regression", pooled=entries)
    seen_at = study.result.seen_at
    names = sorted({driver_of(entry)[0] for entry in entries})
    drivers = {name: one[positions] for name, one in node_drivers(structure, panel, seen_at[0], names).items()}
    found = pooled_at(
        [form], history, drivers, study.load.timeline, seen_at if at_origins else [],
        tuple(one[positions] for one in groups),
    )  # fmt: skip
    return positions.tolist(), found[entries]


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    pooled_of_group.cache_clear()
    planned_panel.cache_clear()
    structure_of.cache_clear()


def _nothing_new(study: Study) -> bool:
    """Whether corrections, kinds by hand, plans and kept methods are those that the study has seen."""
    by_hand = {str(i): kind for i, kind in moved_by_hand(study.load).items()}
    return (
        ledger.pack(ledger.standing(study.load)) == study.corrections
        and by_hand == study.kinds_by_hand
        and plans_of(study.portfolio) == study.recipe.plans
        and kept_of(study.portfolio) == study.recipe.kept
        and study.portfolio.whole_units == study.recipe.whole_units
    )


def again(study: Study, user: Any) -> Study:
    """The same recipe on the newest history, from its new origin."""
    if study.load_id == study.portfolio.load.pk and _nothing_new(study):
        raise Conflict(
            "History, corrections, plans and kept methods are those that this study has seen; "
            "there is nothing new to run it on."
        )
    recipe = replace(study.recipe, plans=(), kept=(), whole_units=False)  # those of today
    return make(study.portfolio, user, recipe, f"{study.name} from {study.portfolio.load.timeline.labels[-1]}")


def enqueue(study: Study) -> Run:
    """Put a run of the study in the queue. A study that is done stays as it is."""
    from tansy.server.studies.tasks import carry_out

    with transaction.atomic():
        if Result.objects.filter(study=study).exists():
            raise Conflict("This study is finished; copy it to run it with other choices.")
        if study.runs.filter(state__in=[Run.State.QUEUED, Run.State.RUNNING]).exists():
            raise Conflict("This study is being run already.")
        run = Run.objects.create(study=study)
        carry_out.enqueue(run.pk)
    return run


def work_folder(study: Study) -> Path:
    """Where finished chunks of a running study lie until it is done."""
    return settings.DATA / "work" / str(study.pk)


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
    None: "Something went wrong that is not your doing; the server's log says what. "
    "Running it again goes on from here.",
}


def carry_out(run: Run) -> None:
    """Run a study to its end, or to where it is stopped. Safe to call again after a crash: what was fitted is kept,
    and the result is written in one transaction or not at all."""
    study = run.study
    if Result.objects.filter(study=study).exists() or not run.begin():
        return
    reporter = Reporter(run)
    try:
        panel, recipe = study.load.panel(), study.recipe
        corrections = ledger.unpack(study.corrections)
        found = run_study(
            panel,
            recipe,
            corrections=corrections,
            kinds_by_hand={int(i): kind for i, kind in study.kinds_by_hand.items()},
            store=FolderStore(work_folder(study), fingerprint(panel, recipe, corrections)),
            progress=reporter,
            should_stop=reporter.should_stop,
        )
        reporter("save", 0, 0)
        with transaction.atomic():
            save(study, found)
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
    shutil.rmtree(work_folder(study), ignore_errors=True)


def save(study: Study, found: Findings) -> None:
    """Write the result and its nodes; call inside a transaction."""
    page = json.dumps(sheet(found), separators=(",", ":"), allow_nan=False)
    summary = export.summary(found)
    published = summary["published"]["finest"]
    Result.objects.create(
        study=study,
        summary=summary,
        accuracy=accuracy_json(found),
        sheet=gzip.compress(page.encode(), 6),
        forecasts=_parquet(found),
        methods=list(found.methods),
        parameter_names=[list(names) for names in found.parameter_names],
        probabilities=found.probabilities.tolist(),
        band_levels=list(found.tables.band_levels),
        seen_at=found.seen_at,
        leads=found.forecast.shape[1],
        levels=level_list(found),
        rmsse=published["RMSSE"],
        gain=published["gain"],
    )
    structure, ways = found.structure, trails(found.structure)
    scores = np.where(np.isfinite(found.node_scores), found.node_scores, np.nan)
    same = ((found.history == found.received) | (np.isnan(found.history) & np.isnan(found.received))).all(axis=1)

    def number(value: float) -> float | None:
        return None if np.isnan(value) else float(value)

    Node.objects.bulk_create(
        (
            Node(
                study=study,
                position=i,
                level=int(structure.level_of[i]),
                name=structure.node_name(i),
                trail=ways[i],
                chosen=int(found.chosen[i]),
                was_tested=bool(found.was_tested[i]),
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
                forecast=pack(found.forecast[i]),
                quantiles=pack(found.quantiles[i]),
                tested=pack(found.tested[i]),
                tested_quantiles=pack(found.tested_quantiles[i]),
                chosen_at=pack(found.chosen_at[i]),
                scores=pack(found.method_scores[i]),
                node_scores=pack(found.node_scores[i]),
                hits=pack(found.hits[i]),
                origin_wape=pack(found.origin_wape[i]),
                parameters=pack(found.parameters[i]),
            )
            for i in range(structure.n_nodes)
        ),
        batch_size=_BATCH,
    )


def _parquet(found: Findings) -> bytes:
    buffer = io.BytesIO()
    export.forecasts(found).write_parquet(buffer, row_group_size=_ROW_GROUP)
    return buffer.getvalue()


def level_list(found: Findings) -> list[dict[str, Any]]:
    """Name and number of nodes of each level, then of all."""
    n_nodes = [*(level.n_nodes for level in found.structure.levels), found.structure.n_nodes]
    return [{"name": name, "n_nodes": n} for name, n in zip(found.tables.level_names, n_nodes, strict=True)]


def accuracy_json(found: Findings) -> dict[str, Any]:
    """The pooled tables as the screens show them."""
    tables, finest = found.tables, found.structure.n_aggregates

    def lists(values: NDArray[np.float64]) -> Any:
        rounded = (np.round(values, 4) + 0.0).astype(object)
        rounded[~np.isfinite(values)] = None
        return rounded.tolist()

    return {
        "levels": level_list(found),
        "cells": tables.cells.tolist(),
        "shared": tables.shared.tolist(),
        "measures": list(MEASURES),
        "methods": list(tables.method_names),
        "reconciliations": list(tables.reconciliation_names),
        "bands": list(tables.band_levels),
        "by_method": lists(tables.by_method),
        "by_reconciliation": lists(tables.by_reconciliation),
        "coverage": lists(tables.coverage),
        "chosen": {name: int((found.chosen == j).sum()) for j, name in enumerate(found.methods)},
        "zero_by_decision": int(((found.chosen < 0) & (found.forecast == 0.0).all(axis=1))[finest:].sum()),
    }
