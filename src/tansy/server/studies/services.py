"""Making a study, running it, keeping what it found."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import ProtectedError
from django.shortcuts import get_object_or_404
from django.utils import timezone
from numpy.typing import NDArray

from tansy.engine.graph.formula import parse as parse_formula
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.judged import History
from tansy.engine.graph.time_levels import TimeLevel
from tansy.engine.methods.notation import parse
from tansy.engine.plans.kinds import Plan, read_plan
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.forecast import Forecast, Layer
from tansy.engine.study.kept import KeptMethod as Kept
from tansy.engine.study.prepared import Prepared, check_drivers, histories_of, prepare
from tansy.engine.study.recipe import Recipe, entries_of
from tansy.engine.study.structures import Counted, CountedEdges
from tansy.server.api.errors import Conflict
from tansy.server.portfolios import corrections as ledger
from tansy.server.portfolios.models import Portfolio
from tansy.server.portfolios.overview import moved_by_hand
from tansy.server.portfolios.panels import panel_of
from tansy.server.portfolios.plans import plans_of
from tansy.server.portfolios.services import data_section
from tansy.server.studies.models import KeptMethod, Node, Result, Run, Study, unpack
from tansy.server.studies.tasks import carry_out


def make(
    portfolio: Portfolio, user: Any, recipe: Recipe | None = None, name: str = "", plans: tuple[Plan, ...] = ()
) -> Study:
    """A study with its first run in the queue; both or neither. plans: its own, beside those of the recipe.

    Without a recipe, the default one for this history. Raises RecipeError, NotationError or DriverError where the
    recipe cannot be run.
    """
    load = portfolio.load
    if recipe is None:
        recipe = default_recipe(load.panel(), load.levels, plans=(*plans_of(portfolio), *plans))
    standing = plans_of(portfolio)
    given = recipe.plans or standing
    recipe = replace(
        recipe,
        name=name or recipe.name,
        data=data_section(load),
        plans=(*given, *(one for one in plans if one not in given)),
        kept=recipe.kept or kept_of(portfolio),
        whole_units=recipe.whole_units or (portfolio.whole_units and recipe.nonnegative),
        cleaning=recipe.cleaning or ledger.rules_in_use(portfolio),
    )
    corrections = ledger.pack(ledger.standing(load))
    by_hand = moved_by_hand(load)
    check_drivers(panel_of(load), recipe)
    with transaction.atomic():
        study = Study.objects.create(
            portfolio=portfolio, load=load, name=recipe.name, recipe_text=recipe.to_toml(), made_by=user,
            corrections=corrections, kinds_by_hand=by_hand,
            own_plans=[entries_of(one) for one in recipe.plans if one not in standing],
        )  # fmt: skip
        enqueue(study)
    return study


def change(study: Study, name: str = "", archived: bool | None = None) -> None:
    """Rename a study, put it out of the way or back."""
    if name.strip():
        study.name = name.strip()
    if archived is not None:
        study.archived_at = timezone.now() if archived else None
    study.save(update_fields=["name", "archived_at"])


def delete(study: Study) -> None:
    """Delete a study with what it found; what was fitted for it stays in the store for others.

    Raises Conflict where it is running, or where a release stands on it.
    """
    if study.runs.filter(state__in=[Run.State.QUEUED, Run.State.RUNNING]).exists():
        raise Conflict("This study is running; stop it first.")
    try:
        with transaction.atomic():
            study.delete()
    except ProtectedError as error:
        held = ", ".join(sorted({str(one) for one in error.protected_objects}))
        raise Conflict(f"{held} was published from this study, so that it stays; it can be archived.") from None


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
    used = dict(study.nodes.exclude(kept="").values_list("key", "kept"))
    counts = Counter(used.values())
    return {
        pk: int(used.get(one.node) == one.words()) if one.node else counts[one.words()]
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
def prepared_of(study: Study) -> Prepared:
    """What a study stands on."""
    by_hand = {int(i): kind for i, kind in study.kinds_by_hand.items()}
    return prepare(panel_of(study.load), study.recipe, ledger.unpack(study.corrections), by_hand)


@lru_cache(maxsize=4)
def counted_of(study: Study, formula: str) -> Counted:
    """Levels of a formula over a study's panel; kept, because limits are tried one after the other on them."""
    return Counted.of(prepared_of(study).planned.panel, parse_formula(formula))


@lru_cache(maxsize=2)
def judged_of(study: Study, levels: tuple[TimeLevel, ...]) -> list[History]:
    """What a structure tried on a study is judged by; kept for the same reason."""
    return histories_of(prepared_of(study).planned.panel, levels)


@lru_cache(maxsize=2)
def counted_edges_of(study: Study, rows: tuple[tuple[str, ...], ...]) -> CountedEdges | None:
    """The same of rows drawn by hand; without any, of the file of edges, None where the sales came without one."""
    panel = prepared_of(study).planned.panel
    if rows:
        return CountedEdges.of_rows(panel, rows)
    return CountedEdges.of(panel, panel.edges) if panel.edges else None


def graph_of(study: Study) -> Graph:
    """The graph that a study was run on."""
    return prepared_of(study).graph


def forecast_of(study: Study) -> Forecast | None:
    """What a study forecasts, from its nodes; None where it has not ended well."""
    result = Result.objects.filter(study=study).only("leads", "probabilities", "layers", "together").first()
    if result is None:
        return None
    columns = ("base", "layers", "quantiles", "chosen")
    rows = list(Node.objects.filter(study=study).order_by("position").values_list(*columns))
    h = result.leads

    def joined(column: int, *shape: int) -> NDArray[np.float64]:
        return unpack(b"".join(bytes(row[column]) for row in rows), len(rows), *shape, h)

    layers = joined(1, len(result.layers))
    return Forecast(
        graph_of(study),
        study.load.timeline.after(h),
        joined(0),
        tuple(Layer(name, layers[:, k]) for k, name in enumerate(result.layers)),
        np.array([row[3] for row in rows], dtype=np.int64),
        np.array(result.probabilities),
        joined(2, len(result.probabilities)),
        together_of(result, graph_of(study)),
    )


def together_of(result: Result, graph: Graph) -> NDArray[np.float64]:
    """How errors of leads go together, [groups, H, H]: wholly, as far as results of earlier versions say."""
    h = result.leads
    return unpack(result.together, -1, h, h) if result.together else np.ones((len(graph.levels), h, h))


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    prepared_of.cache_clear()
    counted_of.cache_clear()
    judged_of.cache_clear()
    counted_edges_of.cache_clear()


def _nothing_new(study: Study) -> bool:
    """Whether corrections, kinds by hand, plans and kept methods are those that the study has seen."""
    by_hand = {str(i): kind for i, kind in moved_by_hand(study.load).items()}
    plans = (*plans_of(study.portfolio), *_own_plans(study))
    return (
        ledger.pack(ledger.standing(study.load)) == study.corrections
        and by_hand == study.kinds_by_hand
        and len(plans) == len(study.recipe.plans)
        and all(plan in study.recipe.plans for plan in plans)
        and kept_of(study.portfolio) == study.recipe.kept
        and study.portfolio.whole_units == study.recipe.whole_units
    )


def _own_plans(study: Study) -> tuple[Plan, ...]:
    return tuple(read_plan(entries) for entries in study.own_plans)


def again(study: Study, user: Any) -> Study:
    """The same recipe on the newest history, from its new origin; what it alone had planned stays its own."""
    if study.load_id == study.portfolio.load.pk and _nothing_new(study):
        raise Conflict(
            "History, corrections, plans and kept methods are those that this study has seen; "
            "there is nothing new to run it on."
        )
    recipe = replace(study.recipe, plans=(), kept=(), whole_units=False)  # those of today
    if not recipe.anchor:  # its origins stay where they were
        recipe = replace(recipe, anchor=study.load.timeline.labels[prepared_of(study).seen_at[-1] - 1])
    name = f"{study.name} from {study.portfolio.load.timeline.labels[-1]}"
    return make(study.portfolio, user, recipe, name, _own_plans(study))


def enqueue(study: Study) -> Run:
    """Put a run of the study in the queue. A study that is done stays as it is."""
    with transaction.atomic():
        if Result.objects.filter(study=study).exists():
            raise Conflict("This study is finished; copy it to run it with other choices.")
        if study.runs.filter(state__in=[Run.State.QUEUED, Run.State.RUNNING]).exists():
            raise Conflict("This study is being run already.")
        run = Run.objects.create(study=study)
        carry_out.enqueue(run.pk)
    return run


def result_of(pk: int, *columns: str) -> Result:
    """The result of a study, of its large columns only those that are named. Raises Conflict where it has none yet."""
    large = {"sheet", "accuracy", "evidence"} - set(columns)
    unread = ("study__load__attributes", "study__load__findings", "study__load__options")
    found = Result.objects.filter(study_id=pk).defer(*large, *unread).select_related("study__load").first()
    if found is None:
        study = get_object_or_404(Study, pk=pk)
        raise Conflict(f"This study has no result yet; its run is {study.run.state}.")
    return found
