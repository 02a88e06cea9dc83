"""A node of a finished study, and what methods need to be tried on it."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from rest_framework.generics import get_object_or_404

from tansy.engine.backtest.origins import Seasons
from tansy.engine.methods.notation import driver_of
from tansy.engine.methods.pooled import Pooled
from tansy.engine.methods.shared_season import season_profiles
from tansy.engine.structure.node_drivers import node_drivers
from tansy.engine.structure.plans import Event
from tansy.engine.study import tries
from tansy.engine.timeline import Timeline
from tansy.server.studies.models import Node, Result, unpack
from tansy.server.studies.services import planned_panel, pooled_of_group, structure_of

Floats = NDArray[np.float64]


class Place:
    """result, node, study; leads: of the study. To be had from `place_at`."""

    def __init__(self, pk: int, position: int) -> None:
        self.result = get_object_or_404(
            Result.objects.only(
                "leads", "seen_at", "study__portfolio", "study__recipe_text", "study__load__driver_names",
                "study__load__frequency", "study__load__first_period", "study__load__n_periods",
                "study__load__season_length",
            ).select_related("study__load"),
            study_id=pk,
        )  # fmt: skip
        self.node = get_object_or_404(Node, study_id=pk, position=position)
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
        events = [plan.name for plan in self.study.recipe.plans if isinstance(plan, Event)]
        return [name for name in dict.fromkeys([*self.study.load.driver_names, *events]) if name != "stock"]

    def drivers_for(self, texts: list[str]) -> dict[str, Floats]:
        """Those of `drivers`, if a text asks for any: they are read from the whole history."""
        forms = [form for form in map(tries.form_or_none, texts) if form is not None]
        return self.drivers() if any(form.drivers or form.pooled for form in forms) else {}

    def drivers(self) -> dict[str, Floats]:
        """Per name [1, periods and those ahead], as the study had them; none where the history has no drivers."""
        panel = planned_panel(self.study)
        names = self.driver_names()
        seen = self.result.seen_at[0]
        return node_drivers(structure_of(self.study), panel, seen, names, self.node.position)

    def pooled(self, texts: list[str], at_origins: bool = False) -> dict[tuple[str, ...], tuple[Pooled, ...]]:
        """Effects that texts pool over the series of the node's group, as the study's history has them: at each origin
        where that is asked for, and at the end."""
        found = {}
        for form in map(tries.form_or_none, texts):
            if form is not None and form.pooled and not self._unknown(form.pooled):
                group = int(structure_of(self.study).effect_groups()[-1][self.node.position])
                positions, effects = pooled_of_group(self.study, form.pooled, group, at_origins)
                at = positions.index(self.node.position)
                found[form.pooled] = tuple(one.rows(slice(at, at + 1)) for one in effects)
        return found

    def _unknown(self, entries: tuple[str, ...]) -> bool:
        return any(driver_of(entry)[0] not in planned_panel(self.study).drivers for entry in entries)

    def profile(self, texts: list[str], timeline: Timeline, horizon: int) -> Floats | None:
        """Season of the node's group, where a text asks for it."""
        known = self._source(texts)
        if known is None:
            return None
        ahead = timeline.n_periods - len(known) + horizon
        found: Floats = season_profiles(known[None, :], timeline.until(len(known)), ahead)[0]
        return found

    def seasons(self, texts: list[str], timeline: Timeline) -> Seasons | None:
        """The same at every origin of the study."""
        known = self._source(texts)
        if known is None:
            return None
        return Seasons.of(known[None, :], np.zeros(1, np.int64), timeline, self.result.seen_at, self.leads)

    def _source(self, texts: list[str]) -> Floats | None:
        if not any("shared-season" in text for text in texts):
            return None
        source = int(structure_of(self.study).season_sources()[self.node.position])
        return unpack(get_object_or_404(Node, study=self.study, position=source).history)


@lru_cache(maxsize=64)
def place_at(pk: int, position: int) -> Place:
    """The place, read once: a result is written once and stays. Raises Http404 where there is none (yet)."""
    return Place(pk, position)
