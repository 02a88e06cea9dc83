"""The one door: from a panel, a recipe and what a planner has decided to all that a study stands on."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.known import Keep, Known
from tansy.engine.backtest.origins import origins
from tansy.engine.cleaning.corrections import Corrections, by_rules
from tansy.engine.errors import RecipeError, StructureError
from tansy.engine.graph.by_hand import drawn
from tansy.engine.graph.edges import along_edges
from tansy.engine.graph.formula import Formula
from tansy.engine.graph.formula import parse as parse_formula
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import crossed, group, laid_out
from tansy.engine.graph.judged import History
from tansy.engine.graph.pruned import Pruned, pruned
from tansy.engine.graph.pruned_edges import held_by, pruned_edges
from tansy.engine.graph.time_levels import TimeLevel, named_levels, panel_over
from tansy.engine.methods.blend import Blend
from tansy.engine.methods.features import reach_of
from tansy.engine.methods.form import Form
from tansy.engine.methods.notation import parse
from tansy.engine.methods.regressors import check_known_ahead
from tansy.engine.panel import Edges, Panel
from tansy.engine.plans.drivers import with_calendar
from tansy.engine.plans.kinds import Arrival, Lifetime, Succession
from tansy.engine.plans.planned import Planned, with_plans
from tansy.engine.profile.worth import judge_of
from tansy.engine.study.recipe import Recipe
from tansy.engine.timeline import Timeline, number_of

Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Prepared:
    """What a study stands on. To be had from `prepare`.

    received: the panel as it came in. corrections: the planner's; they hold at every origin. kinds_by_hand: series ->
    kind that a person gave to it. planned: the panel as received, with plans. graph: its nodes. pruned: which of them
    are forecast themselves, where the recipe prunes.
    """

    received: Panel
    recipe: Recipe
    corrections: Corrections
    kinds_by_hand: dict[int, str]
    planned: Planned
    graph: Graph
    pruned: Pruned | None = None
    _changes: dict[int, Corrections] = field(default_factory=dict)

    @property
    def timeline(self) -> Timeline:
        return self.received.timeline

    @cached_property
    def n_alike(self) -> NDArray[np.int64]:
        """Of how many nodes that are forecast each is one that hold just the same series, [nodes]."""
        marks = held_by(self.graph).marks(self.graph.n_series)
        own = np.ones(len(marks), dtype=bool) if self.pruned is None else self.pruned.own
        found = np.ones(len(marks), dtype=np.int64)
        _, of, n = np.unique(marks[own], return_inverse=True, return_counts=True)
        found[own] = n[of]
        return found

    @cached_property
    def seen_at(self) -> list[int]:
        """Number of periods seen at each origin, oldest first. Raises RecipeError where the history is too short."""
        recipe, timeline = self.recipe, self.timeline
        anchor = None
        if recipe.anchor:
            number = number_of(recipe.anchor, timeline.frequency)
            if number is None:
                raise RecipeError(f"[backtest] anchor {recipe.anchor!r} is no period such as {timeline.labels[-1]}.")
            anchor = number - timeline.first + 1
        return origins(timeline.n_periods, recipe.origins, recipe.step, recipe.leads, anchor)

    @cached_property
    def forms(self) -> list[Form]:
        """Methods to fit, from simple to rich. Raises DriverError where a driver is not known for any forecast."""
        return _known_ahead(self.planned.panel, self.recipe)

    @property
    def eligible_texts(self) -> list[str]:
        """Methods that may be chosen for what they have shown."""
        return [str(parse(text)) for text in (*self.recipe.methods, *self.recipe.stands)]

    @property
    def fallback_texts(self) -> list[str]:
        """Methods that stand until others have shown to be better, the first that can be fitted; the recipe's, else
        its first blend."""
        blends = [str(form) for form in map(parse, self.recipe.methods) if isinstance(form, Blend)]
        return [str(parse(text)) for text in self.recipe.fallback] or blends[:1]

    @property
    def in_season_text(self) -> str:
        """What stands before these where a series is sold in season only; empty for nothing else."""
        return str(parse(self.recipe.in_season)) if self.recipe.in_season else ""

    def changes(self, n_seen: int | None = None) -> Corrections:
        """All corrections: the planner's, and those that the recipe's rules make of what was seen by then."""
        n = self.timeline.n_periods if n_seen is None else n_seen
        if n not in self._changes:
            told = with_calendar(self.received, self.recipe.plans)  # what an event explains is not suspicious
            rules = by_rules(told.until(n, 0), self.recipe.cleaning, self._levels)
            self._changes[n] = self.corrections.until(n).and_then(rules)
        return self._changes[n]

    @cached_property
    def _levels(self) -> dict[str, list[str]]:
        """Levels above each key."""
        if not self.recipe.formula:
            return self.recipe.structure
        dimensions, _ = laid_out(self.received, parse_formula(self.recipe.formula))
        return {one.name: list(one.levels[1:-1]) for one in dimensions if one.tells_series_apart}

    def known(
        self, n_seen: int | None = None, keep: Keep | None = None, nodes: NDArray[np.int64] | None = None
    ) -> Known:
        """The state of knowledge when `n_seen` periods had been seen; at the end of the history without a number.

        keep: see `Known`. nodes: of these alone.
        """
        n = self.timeline.n_periods if n_seen is None else n_seen
        at_the_end = n == self.timeline.n_periods
        recipe, panel = self.recipe, self.planned.panel
        series, judged = self._series_at_the_end if at_the_end else self._series(n)
        by_hand = {int(self.planned.position[i]): kind for i, kind in self.kinds_by_hand.items()} if at_the_end else {}
        first = self.graph.n_aggregates
        return Known(
            self.graph,
            panel if at_the_end else panel.until(n, recipe.leads),
            series,
            judged,
            recipe.leads,
            recipe.ended_after,
            {first + i: kind for i, kind in by_hand.items() if i >= 0},
            keep,
            self._reach,
            nodes,
        )

    @cached_property
    def time_levels(self) -> tuple[TimeLevel, ...]:
        """From the finest to the coarsest. Raises RecipeError where the recipe names one that cannot be had."""
        return _time_levels(self.timeline, self.recipe)

    def known_over(self, level: TimeLevel, n_seen: int) -> Known:
        """The same as `known`, in longer periods and without drivers."""
        panel = self.planned.panel.until(n_seen, 0)
        series, judged = self._series(n_seen)
        over = panel_over(replace(panel, values=series), level)
        as_judged = over.values if judged is series else panel_over(replace(panel, values=judged), level).values
        ended = -(-self.recipe.ended_after // level.periods)
        return Known(self.graph, over, over.values, as_judged, self.recipe.leads // level.periods, ended)

    @cached_property
    def _reach(self) -> dict[str, int]:
        """For how many leads each driver is planned now: it was no more than that at any origin."""
        panel = self.planned.panel
        drivers = {name: one for name, one in panel.drivers.items() if name != "stock"}
        return reach_of(drivers, panel.timeline.n_periods, self.recipe.leads)

    @cached_property
    def _series_at_the_end(self) -> tuple[Floats, Floats]:
        """Kept, because every page of a series stands on it."""
        return self._series(self.timeline.n_periods)

    def _series(self, n_seen: int) -> tuple[Floats, Floats]:
        """The series when `n_seen` periods had been seen, as methods see them and as forecasts are scored, [series,
        periods] each; the same array where nothing was corrected."""
        changes, then = self.changes(n_seen), self.received.until(n_seen, 0)
        judged = self._with_plans(changes.judged(then).values)
        return (self._with_plans(changes.corrected(then).values) if len(changes) else judged), judged

    def _with_plans(self, values: Floats) -> Floats:
        """Values of the series that plans leave and add, [series, periods], from those that came in."""
        plans = tuple(plan for plan in self.recipe.plans if isinstance(plan, Succession | Arrival | Lifetime))
        if not plans:
            return values
        panel = replace(self.received.until(values.shape[1], 0), values=values, drivers={})
        return with_plans(panel, plans).panel.values


def prepare(
    panel: Panel,
    recipe: Recipe,
    corrections: Corrections | None = None,
    kinds_by_hand: dict[int, str] | None = None,
) -> Prepared:
    """Turn what came in and what was decided into what a study stands on.

    Raises PlanError, StructureError where the recipe does not fit the panel.
    """
    planned = with_plans(panel, recipe.plans, recipe.leads)
    decided = corrections or Corrections.none(), kinds_by_hand or {}
    if recipe.pruning is not None:
        left = _pruned(planned.panel, recipe)
        return Prepared(panel, recipe, *decided, planned, left.graph, left)
    return Prepared(panel, recipe, *decided, planned, _graph(planned.panel, recipe))


def check_drivers(panel: Panel, recipe: Recipe) -> None:
    """Raise DriverError where the recipe needs a driver for periods for which it is not known anywhere."""
    _known_ahead(with_plans(panel, recipe.plans, recipe.leads).panel, recipe)


def _known_ahead(panel: Panel, recipe: Recipe) -> list[Form]:
    forms = candidate_forms(recipe)
    for form in forms:
        check_known_ahead(form, panel.drivers, panel.n_series, panel.timeline, recipe.leads)
    return forms


def _pruned(panel: Panel, recipe: Recipe) -> Pruned:
    """By the history until the period that the recipe names, so that nodes stand still while it grows."""
    assert recipe.pruning is not None
    n, timeline = panel.timeline.n_periods, panel.timeline
    if recipe.pruned_until:
        number = number_of(recipe.pruned_until, timeline.frequency)
        if number is None or not timeline.first <= number:
            raise RecipeError(f"[pruning] until {recipe.pruned_until!r} is no period such as {timeline.labels[-1]}.")
        n = min(n, number - timeline.first + 1)
    seen = panel.until(n, 0)
    histories = histories_of(seen, _time_levels(timeline, recipe))
    edges = edges_of(panel, recipe)
    if edges is not None:
        return pruned_edges(panel, edges, histories, recipe.pruning)
    return pruned(panel, _formula(panel, recipe), histories, recipe.pruning)


def histories_of(panel: Panel, levels: Iterable[TimeLevel]) -> list[History]:
    """What pruning judges by: the history, and that in longer periods. Raises StructureError where there is
    not one whole longer period."""
    levels = list(levels)
    for level in levels:
        if panel.timeline.n_periods < level.periods:
            raise StructureError(
                f"{level.name!r} takes {level.periods} periods, and pruning is judged by {panel.timeline.n_periods}; "
                "judge it by a later one, or leave this time level out."
            )
    over = [panel, *(panel_over(panel, level) for level in levels)]
    return [History(one.values, judge_of(one.timeline)) for one in over]


def _time_levels(timeline: Timeline, recipe: Recipe) -> tuple[TimeLevel, ...]:
    try:
        return named_levels(timeline.frequency, recipe.time_levels, recipe.leads)
    except StructureError as error:
        raise RecipeError(f"[reconciliation] time: {error}") from None


def _formula(panel: Panel, recipe: Recipe) -> Formula:
    return parse_formula(recipe.formula) if recipe.formula else crossed(panel, recipe.structure)


def edges_of(panel: Panel, recipe: Recipe) -> Edges | None:
    """From the file that the recipe names, or as rows drawn by hand; None where levels say how nodes add up. Raises
    StructureError where there is no such file, or a row says nothing."""
    if recipe.rows:
        return drawn(panel, recipe.rows).edges
    if not recipe.edges:
        return None
    if panel.edges is None or panel.edges.name != recipe.edges:
        raise StructureError(f"[structure] edges = {recipe.edges!r}: no such file was loaded with the sales.")
    return panel.edges


def _graph(panel: Panel, recipe: Recipe) -> Graph:
    edges = edges_of(panel, recipe)
    return group(panel, _formula(panel, recipe)) if edges is None else along_edges(panel, edges)


def candidate_forms(recipe: Recipe) -> list[Form]:
    """Methods, from simple to rich: the recipe's, its fallbacks, the parts of blends, those kept by hand, the seasonal
    naive that all are held against, and the mean, which can be fitted to any series."""
    kept = (one.method for one in recipe.kept)
    texts = (*recipe.methods, *recipe.stands, *kept, "seasonal-naive", "mean")
    asked = list(map(parse, texts))
    forms = {str(form): form for form in (*asked, *(leaf for form in asked for leaf in form.leaves))}
    return sorted(forms.values(), key=lambda form: form.simplicity)
