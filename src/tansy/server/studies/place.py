"""A node of a finished study, and what methods need to be tried on it."""

from __future__ import annotations

from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray
from rest_framework.generics import get_object_or_404

from tansy.engine.backtest.known import Known
from tansy.engine.lens import tries
from tansy.engine.lens.tested import Tested, from_origins
from tansy.engine.methods.form import Form
from tansy.engine.methods.learned import Learned
from tansy.engine.methods.method_text import driver_of
from tansy.engine.methods.pooled import Pooled
from tansy.engine.plans.drivers import names_of_calendar
from tansy.engine.timeline import Timeline
from tansy.server.studies.models import Result, Study, node_at, unpack
from tansy.server.studies.services import prepared_of
from tansy.server.studies.store import OfPages

Floats = NDArray[np.float64]


def _leaves(texts: list[str]) -> list[Form]:
    """The methods that are fitted for these texts; none for one that is wrong."""
    return [leaf for form in map(tries.form_or_none, texts) if form is not None for leaf in form.leaves]


class Place:
    """result, node, study; leads: of the study. To be had from `place_at`."""

    def __init__(self, pk: int, ref: str) -> None:
        self.result = get_object_or_404(
            Result.objects.only(
                "leads", "seen_at", "study__portfolio", "study__recipe_text", "study__corrections",
                "study__kinds_by_hand", "study__load__driver_names",
                "study__load__frequency", "study__load__first_period", "study__load__n_periods",
                "study__load__season_length",
            ).select_related("study__load"),
            study_id=pk,
        )  # fmt: skip
        self.node = node_at(pk, ref)
        self.study = self.result.study
        self.leads: int = self.result.leads

    def history(self, actuals: list[float | None]) -> tuple[Floats, Timeline]:
        """Values as methods see them, with made-up ones at the end, and their timeline."""
        timeline = self.study.load.timeline
        more = np.array([np.nan if value is None else value for value in actuals], dtype=float)
        values = np.concatenate([unpack(self.node.history), more])
        return values, timeline.until(timeline.n_periods + len(more))

    def received(self) -> Floats:
        """What forecasts are scored against."""
        return unpack(self.node.received or self.node.history)

    def driver_names(self) -> list[str]:
        """Of the history and of the plans, without reading either's values."""
        names = [*self.study.load.driver_names, *names_of_calendar(self.study.recipe.plans)]
        return [name for name in dict.fromkeys(names) if name != "stock"]

    def drivers_for(self, texts: list[str]) -> dict[str, Floats]:
        """Those of `drivers`, if a text asks for any: they are read from the whole history."""
        return self.drivers() if any(leaf.drivers or leaf.pooled for leaf in _leaves(texts)) else {}

    @cached_property
    def known(self) -> Known:
        """What the study knew of this node at the end of its history."""
        return _end_of(self.study).only(np.array([self.node.position]))

    def drivers(self) -> dict[str, Floats]:
        """Per name [1, periods and those ahead], as the study had them; none where the history has no drivers."""
        return self.known.drivers(self.driver_names())

    def pooled(self, texts: list[str]) -> dict[tuple[str, ...], Pooled]:
        """Effects that texts pool over the series of the node's group, as the study's history has them."""
        known = set(self.driver_names())
        return {
            leaf.pooled: self.known.pooled(leaf.pooled)
            for leaf in _leaves(texts)
            if leaf.pooled and all(driver_of(entry)[0] in known for entry in leaf.pooled)
        }

    def learned(self, texts: list[str], timeline: Timeline) -> Learned | None:
        """What the learner of the study says of this node, where a text asks for it; nothing of a timeline that goes on
        beyond the history, which it has not learned from. Raises Unusable where no run has learned it."""
        if timeline.n_periods != self.known.n_seen or not any(leaf.learns for leaf in _leaves(texts)):
            return None
        return self.known.learned()

    def profile(self, texts: list[str], timeline: Timeline, horizon: int) -> Floats | None:
        """Season of the node's group, where a text asks for it, on a timeline that may go on beyond the history."""
        if not any(leaf.shared_season for leaf in _leaves(texts)):
            return None
        found: Floats = self.known.season(timeline, horizon)[0]
        return found

    def tested(self, forms: list[Form]) -> list[Tested]:
        """The methods from every origin of the study. Raises Unusable where one learns that no run has learned."""
        return from_origins(prepared_of(self.study), self.node.position, forms, OfPages())


@lru_cache(maxsize=1)
def _end_of(study: Study) -> Known:
    """What a study knew of all nodes; kept, because what is learned of all of them is found by all that this says."""
    return prepared_of(study).known(keep=OfPages())


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    place_at.cache_clear()
    _end_of.cache_clear()


@lru_cache(maxsize=64)
def place_at(pk: int, ref: str) -> Place:
    """The place, read once: a result is written once and stays. Raises Http404 where there is none (yet)."""
    return Place(pk, ref)
