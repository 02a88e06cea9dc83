"""What planners change in forecasts: kept with the portfolio, laid over every study of it."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import Max, QuerySet
from django.utils import timezone
from numpy.typing import NDArray

from tansy.engine.adjust.adjustment import Adjustment, Placed, place
from tansy.engine.adjust.layer import Ground, Step, laid
from tansy.engine.errors import AdjustmentError
from tansy.engine.graph.graph import Graph
from tansy.engine.study.adjusted import bands_of, changed, ground_of
from tansy.engine.study.compare import compare
from tansy.engine.study.forecast import Forecast
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.portfolios.models import Portfolio
from tansy.server.studies.models import AdjustmentRow, Result, Study, node_at
from tansy.server.studies.services import forecast_of, prepared_of

Floats = NDArray[np.float64]

MOST_TAKEN = 1_500
"""Values that are taken from another study at once."""
_SHOWN_OF_ACT = 4


@dataclass(frozen=True, eq=False)
class Outcome:
    """What became of a standing adjustment in a study. node: number; -1 where the study has none of that name. leads:
    that it is for, none where its periods are past."""

    node: int
    leads: tuple[int, ...]
    step: Step

    @property
    def before(self) -> float:
        return self.step.before

    @property
    def after(self) -> float:
        return self.step.after

    @property
    def problem(self) -> str:
        return self.step.problem

    @property
    def past(self) -> bool:
        return not self.leads


@dataclass(frozen=True, eq=False)
class Adjusted:
    """What stands, laid over a study: mean [nodes, H]. statistical: the forecast before. outcomes: what became of each
    adjustment, by its number."""

    statistical: Forecast
    ground: Ground
    mean: Floats
    outcomes: dict[int, Outcome]

    @cached_property
    def forecast(self) -> Forecast:
        """With the bands of all nodes."""
        if not any(not one.problem for one in self.outcomes.values()):
            return self.statistical
        return changed(self.statistical, self.ground, self.mean)

    def bands(self, node: int) -> Floats:
        """[Q, H]."""
        return bands_of(self.statistical, self.ground, self.mean, node)


def rows_of(portfolio: Portfolio) -> QuerySet[AdjustmentRow]:
    """Those that stand, in the order in which they are laid."""
    return portfolio.adjustments.filter(withdrawn_at=None, undone=False).order_by("id")


def adjusted(study: Study) -> Adjusted:
    """Raises Conflict where the study has not ended well."""
    return _adjusted(study.pk, tuple(rows_of(study.portfolio).values_list("pk", flat=True)))


@lru_cache(maxsize=8)
def _statistical(pk: int) -> Forecast:
    """A result is written once and stays, so that it is read once."""
    found = forecast_of(Study.objects.select_related("load").get(pk=pk))
    if found is None:
        raise Conflict("This study has no result yet.")
    return found


@lru_cache(maxsize=8)
def _adjusted(pk: int, ids: tuple[int, ...]) -> Adjusted:
    """Rows are never edited, so that their numbers say all."""
    statistical = _statistical(pk)
    study = Study.objects.select_related("load").get(pk=pk)
    prepared = prepared_of(study)
    rows = {row.pk: row for row in AdjustmentRow.objects.filter(pk__in=ids)}
    placed: list[Placed] = []
    of: list[int] = []
    outcomes: dict[int, Outcome] = {}
    for number in ids:
        try:
            placed.append(_placed(rows[number], statistical, prepared.planned.panel))
            of.append(number)
        except AdjustmentError as error:
            outcomes[number] = Outcome(-1, (), Step((), (), str(error)))
    ground = ground_of(statistical, prepared)
    mean, steps = laid(ground, placed)
    for number, where, step in zip(of, placed, steps, strict=True):
        outcomes[number] = Outcome(where.node, tuple(where.leads.tolist()), step)
    return Adjusted(statistical, ground, mean, outcomes)


def _placed(row: AdjustmentRow, statistical: Forecast, panel: Any) -> Placed:
    made = (row.statistical, row.change)
    return place(row.adjustment, statistical.graph, panel, statistical.timeline, made)


def that_change(found: Adjusted, node: int) -> list[dict[str, Any]]:
    """What was laid and changes the forecast of a node, in its order. Of more than `_SHOWN_OF_ACT` that were made at
    once only the first is told, with how many they are (`n`)."""
    rows = list(_rows_laid(found))
    nodes = np.array([found.outcomes[row.pk].node for row in rows], dtype=np.int64)
    meets = found.statistical.graph.meet(node, nodes)
    rows = [row for row, here in zip(rows, meets.tolist(), strict=True) if here]
    sizes = Counter(row.act for row in rows)
    told: dict[int, AdjustmentRow] = {}
    for row in rows:
        told.setdefault(-row.act if sizes[row.act] > _SHOWN_OF_ACT else row.pk, row)
    return [_told_of_node(found, node, row, sizes[row.act] if key < 0 else 1) for key, row in told.items()]


def _told_of_node(found: Adjusted, node: int, row: AdjustmentRow, n: int) -> dict[str, Any]:
    one = row.adjustment
    return {
        "id": row.pk, "name": row.node_name, "words": one.words() if n == 1 else f"{n:,} changes made at once", "n": n,
        "reason": one.reason, "made_by": row.author, "first": one.first, "last": one.last,
        "own": n == 1 and found.outcomes[row.pk].node == node,
    }  # fmt: skip


def _rows_laid(found: Adjusted) -> QuerySet[AdjustmentRow]:
    """What was laid, in its order."""
    laid_here = [number for number, one in found.outcomes.items() if not one.problem]
    return AdjustmentRow.objects.filter(pk__in=laid_here).select_related("made_by").order_by("pk")


def laid_over(found: Adjusted) -> list[dict[str, Any]]:
    """What is laid over a forecast, in its order, as a release keeps it."""
    return [
        {
            "id": row.pk, "node": row.node, "name": row.node_name, "words": row.adjustment.words(),
            "reason": row.adjustment.reason, "made_by": row.author, "made_at": row.made_at.isoformat(),
            "before": found.outcomes[row.pk].before, "after": found.outcomes[row.pk].after,
            "leads": found.outcomes[row.pk].leads, "before_by_lead": found.outcomes[row.pk].step.before_by_lead,
            "after_by_lead": found.outcomes[row.pk].step.after_by_lead,
        }
        for row in _rows_laid(found)
    ]  # fmt: skip


def recipe_text(study: Study) -> str:
    """The recipe of a study with what is laid over its forecast now, so that `tansy run` gives the same numbers."""
    if not rows_of(study.portfolio).exists() or not Result.objects.filter(study=study).exists():
        return study.recipe_text
    return recipe_with(study, adjusted(study))


def recipe_with(study: Study, found: Adjusted) -> str:
    """The recipe of a study with what is laid over its forecast."""
    standing = tuple(row.adjustment for row in _rows_laid(found))
    recipe = study.recipe
    return replace(recipe, adjustments=(*recipe.adjustments, *standing)).to_toml() if standing else study.recipe_text


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _statistical.cache_clear()
    _adjusted.cache_clear()


@dataclass(frozen=True, eq=False)
class Tried:
    """What adjustments would do to all that stands (`before`): the mean after, [nodes, H], and what each changes."""

    before: Adjusted
    after: Floats
    placed: list[Placed]
    changes: list[float]

    def bands(self, node: int) -> Floats:
        """[Q, H], of the forecast after."""
        return bands_of(self.before.statistical, self.before.ground, self.after, node)


def try_out(study: Study, adjustments: Sequence[Adjustment]) -> Tried:
    """Lay adjustments over what stands without keeping them. Raises AdjustmentError where one does not fit."""
    now = adjusted(study)
    graph, panel, ahead = now.statistical.graph, prepared_of(study).planned.panel, now.statistical.timeline
    placed = [place(one, graph, panel, ahead) for one in adjustments]
    after, steps = laid(replace(now.ground, mean=now.mean), placed)
    for step in steps:
        if step.problem:
            raise AdjustmentError("amount", step.problem)
    return Tried(now, after, placed, [one.after - one.before for one in steps])


def taken(study: Study, other: Study, refs: Sequence[str], by_series: bool, reason: str) -> list[Adjustment]:
    """Adjustments that give nodes of a study the forecast that another one has for them, in the periods of both; or
    each series below them its own, of those that the other has.

    Raises Http404 where the study has no such node, RecipeError where they have no period in common, Unusable where the
    other has no such node, where nothing differs, or where it would be too many.
    """
    one, two = adjusted(study), adjusted(other)
    graph = one.statistical.graph
    nodes = np.array([node_at(study.pk, ref).position for ref in dict.fromkeys(refs)])
    found = compare(one.statistical, one.mean, two.statistical, two.mean)
    lacking = np.setdiff1d(nodes, found.nodes)
    if len(lacking):
        raise Unusable(f"{other.name} #{other.pk} has no {graph.name(int(lacking[0]))}.")
    rows, periods = found.differing(graph.n_aggregates + graph.below(nodes).series if by_series else nodes)
    if not len(rows):
        raise Unusable("There is nothing to take: both forecast the same here.")
    if len(rows) > MOST_TAKEN:
        raise Unusable(
            f"That is {len(rows):,} values, and {MOST_TAKEN:,} can be taken at once: take a smaller part, or the node "
            "as a whole."
        )
    labels = [found.periods[h] for h in periods.tolist()]
    places = [where_of(graph, node) for node in found.nodes[rows].tolist()]
    amounts = found.other[rows, periods].tolist()
    return [
        Adjustment(where, period, period, "set", amount, reason=reason)
        for where, period, amount in zip(places, labels, amounts, strict=True)
    ]


def keep(study: Study, user: Any, adjustments: Sequence[Adjustment]) -> list[AdjustmentRow]:
    """Keep adjustments as one act. Raises AdjustmentError where one does not fit, and Unusable without a reason."""
    if any(not one.reason.strip() for one in adjustments):
        raise Unusable("An adjustment needs a reason, so that others know why.")
    tried = try_out(study, adjustments)
    statistical = tried.before.statistical
    graph = statistical.graph
    signed = [replace(one, author=one.author or user.username) for one in adjustments]
    with transaction.atomic():
        study.portfolio.adjustments.filter(undone=True, made_by=user).update(
            undone=False, withdrawn_at=timezone.now(), withdrawn_by=user
        )
        act = (study.portfolio.adjustments.aggregate(Max("act"))["act__max"] or 0) + 1
        return [
            AdjustmentRow.objects.create(
                portfolio=study.portfolio,
                act=act,
                entries=one.entries(),
                node=graph.ids[where.node],
                node_name=graph.name(where.node),
                study=study,
                statistical=float(statistical.mean[where.node, where.leads].sum()),
                change=change,
                made_by=user,
            )
            for one, where, change in zip(signed, tried.placed, tried.changes, strict=True)
        ]


def undo(portfolio: Portfolio, user: Any) -> int:
    """Undo the last act of a planner that stands; returns its number. What others did is theirs to undo, and anybody's
    to withdraw. Raises Conflict where there is none."""
    with transaction.atomic():
        last = rows_of(portfolio).filter(made_by=user).order_by("-act").first()
        if last is None:
            raise Conflict("There is nothing of yours to undo.")
        portfolio.adjustments.filter(act=last.act, withdrawn_at=None).update(undone=True)
        return last.act


def redo(portfolio: Portfolio, user: Any) -> int:
    """Redo the act that the planner undid last. Raises Conflict where there is none."""
    with transaction.atomic():
        own = portfolio.adjustments.filter(undone=True, withdrawn_at=None, made_by=user)
        first = own.order_by("act").first()
        if first is None:
            raise Conflict("There is nothing of yours to redo.")
        portfolio.adjustments.filter(act=first.act, withdrawn_at=None).update(undone=False)
        return first.act


def withdraw(row: AdjustmentRow, user: Any) -> None:
    """Raises Conflict where it stands no more."""
    changed = AdjustmentRow.objects.filter(pk=row.pk, withdrawn_at=None).update(
        withdrawn_at=timezone.now(), withdrawn_by=user, undone=False
    )
    if not changed:
        raise Conflict("This adjustment does not stand any more.")


def withdraw_act(row: AdjustmentRow, user: Any) -> int:
    """All that was done at once with an adjustment and stands; how many. Raises Conflict where nothing does."""
    own = AdjustmentRow.objects.filter(portfolio=row.portfolio_id, act=row.act, withdrawn_at=None)
    changed = own.update(withdrawn_at=timezone.now(), withdrawn_by=user, undone=False)
    if not changed:
        raise Conflict("None of these adjustments stands any more.")
    return changed


def decide_again(row: AdjustmentRow, study: Study, user: Any) -> AdjustmentRow:
    """Keep an adjustment over a forecast that has moved: the same change, made anew on this study."""
    with transaction.atomic():
        withdraw(row, user)
        (found,) = keep(study, user, [row.adjustment])
    return found


def where_of(graph: Graph, node: int) -> dict[str, str]:
    """Keys and attributes that name a node."""
    found: dict[str, str] = json.loads(graph.ids[node])
    return found
