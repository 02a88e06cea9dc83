"""From a panel and a recipe to forecasts, bands and accuracy.

The result is a function of (panel, recipe, decisions) alone: neither the number of threads, nor where a resumed run had
stopped, nor what was found in the store changes a bit of it.
"""

from __future__ import annotations

import resource
import sys
import tempfile
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tansy.engine.adjust.layer import Step
from tansy.engine.backtest.intervals import (
    probabilities,
)
from tansy.engine.backtest.measures import wape
from tansy.engine.cleaning.corrections import Corrections
from tansy.engine.compute.cluster import Cluster
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.time_levels import Blocks
from tansy.engine.methods.drives import Drives
from tansy.engine.panel import Panel
from tansy.engine.profile.kinds import Kinds
from tansy.engine.reconcile.whole import whole_numbers
from tansy.engine.study import accuracy, planned_nodes
from tansy.engine.study.adjusted import check_places, with_adjustments
from tansy.engine.study.bands import Bands
from tansy.engine.study.bands_held import BandsHeld
from tansy.engine.study.chosen import Chosen, choose_all
from tansy.engine.study.coherent import believed, nothing_below
from tansy.engine.study.evidence import Evidence
from tansy.engine.study.far import Far
from tansy.engine.study.forecast import ROUNDING, Forecast, Layer
from tansy.engine.study.longer import STEP as LONGER_PERIODS
from tansy.engine.study.longer import Longer, fitted_to_longer, longer_forecasts
from tansy.engine.study.moved import Moved, gaps, moved_most
from tansy.engine.study.prepared import Prepared, prepare
from tansy.engine.study.ready import make_ready
from tansy.engine.study.reasons import reasons
from tansy.engine.study.recipe import MADE, Recipe
from tansy.engine.study.reconciling import MOST_SHOWN, Coherent, reconcile_all
from tansy.engine.study.report import Report, kinds_of, report
from tansy.engine.study.seen import Seen
from tansy.engine.study.shared_out import out_of_longer, shared_out
from tansy.engine.study.steps import Progress, Steps
from tansy.engine.study.store import Store
from tansy.engine.study.sums import together
from tansy.engine.study.tasks import Counts, Ending, carry_out
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]


@dataclass(frozen=True)
class Study:
    """Everything a study found. Arrays over nodes are in the order of `graph`.

    history: [nodes, periods], corrected, as methods see it. received: [nodes, periods], as it came in and as forecasts
    are scored, without stock-outs and closures. corrections: what was changed.
    seen_at: number of periods seen at each origin, oldest first.
    methods: texts from simple to rich. chosen_at: [nodes, origins], position of the method chosen there, by errors that
    had come by then, -1 where the node was zero by decision. evidence: what the choice stands on. reasons:
    [nodes], why each has its method now.
    published: the forecast from the end of history. adjusted: what became of each adjustment of the recipe.
    tested: [nodes, origins, H], reconciled forecasts of the backtest; tested_quantiles: [nodes, origins, Q, H].
    kinds: what the demand of each node is like. notes: node -> what plans say of its forecast. kept:
    node -> why its method was kept by hand.
    parameters: [nodes, P] of the chosen method, named by parameter_names[chosen]. sigma: [nodes].
    method_scores: [nodes, methods, 5] and node_scores: [nodes, 5]: MAE, WAPE, RMSSE, gain, origins that count.
    origin_wape: [nodes, origins], of the reconciled forecast from each origin.
    reconciled_by: the reconciliation of each origin and of the end. drives: what a learner goes by at the end; None
    without one.
    moved: the nodes that reconciliation moved most; gaps: [levels - 1], largest before it, see `moved`.
    tables: pooled accuracy, see `accuracy`. report: what the backtest says beyond it. tasks: how many were computed and
    used again. seconds: per step.
    """

    timeline: Timeline
    recipe: Recipe
    history: Floats
    received: Floats
    corrections: Corrections
    seen_at: list[int]
    methods: tuple[str, ...]
    chosen_at: Integers
    reasons: list[str]
    evidence: Evidence
    published: Forecast
    adjusted: list[Step]
    tested: Floats
    tested_quantiles: Floats
    kinds: Kinds
    notes: dict[int, str]
    kept: dict[int, str]
    parameters: Floats
    parameter_names: tuple[tuple[str, ...], ...]
    sigma: Floats
    method_scores: Floats
    node_scores: Floats
    origin_wape: Floats
    reconciled_by: tuple[str, ...]
    drives: Drives | None
    tables: accuracy.Tables
    report: Report
    largest_gap: float
    gaps: Floats
    moved: list[Moved]
    tasks: Counts
    seconds: dict[str, float]
    peak_memory_mb: float

    @property
    def graph(self) -> Graph:
        return self.published.graph

    @property
    def base(self) -> Floats:
        """[nodes, H], before reconciliation."""
        return self.published.base

    @property
    def forecast(self) -> Floats:
        """[nodes, H]."""
        return self.published.mean

    @property
    def probabilities(self) -> Floats:
        return self.published.probabilities

    @property
    def quantiles(self) -> Floats:
        """[nodes, Q, H]."""
        return self.published.quantiles

    @property
    def chosen(self) -> Integers:
        """[nodes], position in methods, -1 where the node is zero by decision."""
        return self.published.chosen


def run_study(
    panel: Panel,
    recipe: Recipe,
    *,
    corrections: Corrections | None = None,
    kinds_by_hand: dict[int, str] | None = None,
    store: Store | None = None,
    backtest: Callable[[Backtest], None] | None = None,
    progress: Progress | None = None,
    should_stop: Callable[[], bool] | None = None,
    workers: int | None = None,
    scheduler: str = "",
) -> Study:
    """Run a study.

    Parameters
    ----------
    corrections : the planner's; those of the recipe's rules come on top. Forecasts are made from the corrected history
        and scored against the history as received (`methods.md`).
    kinds_by_hand : series -> kind that a person gave to it.
    store : where results of tasks are kept and found again; a passing one without.
    backtest : is handed all forecasts of the backtest while they are at hand, those of every method among them.
    progress : called with (step, done, of) as work proceeds.
    should_stop : asked several times a second; when it says yes, Stopped is raised and finished tasks stay in `store`.
    workers : threads on this machine; one for each core without.
    scheduler : of a Dask cluster on whose workers methods are fitted, such as tcp://plan-1:8786; here without.

    Raises
    ------
    RecipeError, StructureError, PlanError, DriverError, AdjustmentError where recipe and panel do not fit together;
    TansyError where the scheduler does not answer, or all of its workers are gone.
    """
    steps = Steps(progress, should_stop)
    make_ready(steps.say)
    with steps("prepare"):
        prepared = prepare(panel, recipe, corrections, kinds_by_hand)
        check_places(prepared, recipe.adjustments)
    with ExitStack() as open_now:
        if store is None:
            store = Store(Path(open_now.enter_context(tempfile.TemporaryDirectory(prefix="tansy-"))))
        far = Far(open_now.enter_context(Cluster(scheduler)), prepared) if scheduler else None
        return _run(prepared, store, backtest, steps, workers, far)


def _run(
    prepared: Prepared,
    store: Store,
    backtest: Callable[[Backtest], None] | None,
    steps: Steps,
    workers: int | None,
    far: Far | None,
) -> Study:
    recipe, graph, seen_at = prepared.recipe, prepared.graph, prepared.seen_at
    methods = tuple(str(form) for form in prepared.forms)
    with steps("fit and backtest"):
        endings, tasks = carry_out(
            prepared,
            prepared.forms,
            store,
            lambda done, of: steps.say("fit and backtest", done, of),
            steps.stop_if_asked,
            workers,
            far,
        )
        seen = [ending.seen for ending in endings]
        end = prepared.known(keep=store)
    longer: list[Longer] = []
    if prepared.time_levels:
        with steps(LONGER_PERIODS):
            longer = longer_forecasts(prepared, store, steps, workers, far)
    with steps("choose"):
        kind_names, of_kind = kinds_of(end.kinds, graph)
        chosen, choices = choose_all(prepared, methods, endings, of_kind, workers, steps.stop_if_asked)
        had = methods
        if longer:
            blocks = Blocks.of(prepared.time_levels, recipe.leads)
            chosen, had = out_of_longer(chosen, had, longer, blocks, seen)
        fitted = replace(chosen, base=fitted_to_longer(prepared, chosen, longer, seen)) if longer else chosen
        if prepared.pruned:
            unshared = had
            chosen, had = shared_out(chosen, unshared, graph.n_aggregates, seen)
            fitted = shared_out(fitted, unshared, graph.n_aggregates, seen)[0] if longer else chosen
        zeros = [_zero_by_decision(prepared, one, chosen.method[:, o]) for o, one in enumerate(seen)]
        base, sigma = _with_plans(prepared, seen, chosen, zeros[-1])
        over_time = _with_plans(prepared, seen, fitted, zeros[-1])[0] if longer else base
        actuals = seen[-1].windows(seen_at, recipe.leads)
        actuals[chosen.method[:, :-1] < 0] = np.nan
        judged = accuracy.Judged(actuals, chosen.benchmark, np.stack([one.scale for one in seen[:-1]], axis=1))
    with steps("reconcile"):
        coherent = reconcile_all(prepared, seen, judged, chosen, base, over_time, sigma, zeros, store, steps, workers)
    with steps("bands"):
        p = probabilities(list(recipe.levels))
        bands = Bands(prepared, endings, chosen, coherent, over_time, sigma, zeros, p)
        quantiles, by_making = bands.made(actuals)
        layers = [Layer("reconciliation", coherent.published[:, -1] + 0.0)]
        if recipe.whole_units:
            finest = layers[-1].mean[graph.n_aggregates :]
            layers.append(Layer(ROUNDING, graph.summation.sum_up(whole_numbers(finest, graph.tree)) + 0.0))
            outward = (p > 0.5)[None, :, None]
            ends = quantiles[:, -1]
            quantiles[:, -1] = np.where(outward, np.ceil(ends - 1e-9), np.floor(ends + 1e-9))
    with steps("accuracy"):
        # zeros have no sign in what is published: 0 times a negative number, and rounding, leave a minus behind
        quantiles += 0.0
        tested, tested_quantiles = coherent.published[:, :-1], quantiles[:, :-1]
        of_leads = together(graph, actuals, tested, tested_quantiles)
        held = BandsHeld.of(graph, actuals, tested_quantiles, judged.scale, p, of_kind)
        node_scores, tables, by_kind = _accuracy(prepared, methods, chosen, coherent, judged, tested, held, p, of_kind)
        if graph.n_nodes <= MOST_SHOWN:
            tables = replace(tables, made_names=MADE, coverage_by_making=by_making)
        said_of = report(kind_names, of_kind, by_kind, held, node_scores[graph.n_aggregates :, 3])
        if backtest is not None:
            backtest(Backtest(prepared, methods, endings, chosen, tested, tested_quantiles, p, actuals))
    store.sweep()
    nothing_now = nothing_below(graph, zeros[-1])
    final = chosen.method[:, -1].copy()
    final[nothing_now.all(axis=1)] = -1
    said = prepared.planned.notes(recipe.plans, prepared.timeline.last + 1, recipe.leads)
    published = Forecast(
        graph, prepared.timeline.after(recipe.leads), np.nan_to_num(base[:, -1]) + 0.0, tuple(layers), final, p,
        quantiles[:, -1], of_leads,
    )  # fmt: skip
    published, adjusted = with_adjustments(published, prepared, recipe.adjustments)
    return Study(
        timeline=prepared.timeline,
        recipe=recipe,
        history=end.values,
        received=end.judged,
        corrections=prepared.changes(),
        seen_at=seen_at,
        methods=had,
        chosen_at=chosen.method[:, :-1],
        evidence=chosen.evidence,
        reasons=_said(prepared, reasons(choices, methods, graph, seen[-1].kind, chosen.evidence.group[-1]), seen[-1]),
        published=published,
        adjusted=adjusted,
        tested=np.where(chosen.method[:, :-1, None] >= 0, tested, np.nan) + 0.0,
        tested_quantiles=tested_quantiles,
        notes={graph.n_aggregates + i: sentence for i, sentence in said.items()},
        kept={i: words for i, words in seen[-1].kept_words.items() if chosen.method[i, -1] == seen[-1].kept[i]},
        kinds=end.kinds,
        parameters=chosen.parameters,
        parameter_names=chosen.parameter_names,
        sigma=np.nan_to_num(sigma[:, -1]),
        method_scores=chosen.scores,
        node_scores=node_scores,
        origin_wape=wape(actuals - tested, actuals, axis=2),
        reconciled_by=coherent.by,
        drives=end.learned().drives if any(form.learns for form in prepared.forms) else None,
        tables=tables,
        report=said_of,
        largest_gap=graph.summation.largest_gap(published.mean),
        gaps=gaps(graph, published.base, zeros[-1]),
        moved=moved_most(
            graph, published.base, published.reconciled, sigma[:, -1], prepared.n_alike, zeros[-1], coherent.by[-1]
        ),
        tasks=tasks,
        seconds=steps.seconds,
        peak_memory_mb=peak_memory_mb(),
    )


def peak_memory_mb() -> float:
    """Most memory this process has held, in MB."""
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return peak / (1e6 if sys.platform == "darwin" else 1e3)


@dataclass(frozen=True)
class Backtest:
    """All forecasts of a backtest. endings: where those of every method are to be had, per origin and for the end.
    published: [nodes, origins, H], published_quantiles: [nodes, origins, Q, H] for `probabilities`, actuals: [nodes,
    origins, H], NaN where there is nothing to judge."""

    prepared: Prepared
    methods: tuple[str, ...]
    endings: list[Ending]
    chosen: Chosen
    published: Floats
    published_quantiles: Floats
    probabilities: Floats
    actuals: Floats


def _zero_by_decision(prepared: Prepared, seen: Seen, method: Integers) -> Booleans:
    """Finest nodes and leads that are forecast as zero, [finest, H]: not on sale yet, ended, out of the season of what
    is sold in season only, or closed by a plan."""
    comes = np.zeros(prepared.graph.n_series, dtype=bool)
    comes[[i for i, _, _ in prepared.planned.arrivals]] = True
    never = (method[prepared.graph.n_aggregates :] < 0) & ~comes
    return np.asarray(never[:, None] | seen.closed)


def _with_plans(prepared: Prepared, seen: list[Seen], chosen: Chosen, zero_now: Booleans) -> tuple[Floats, Floats]:
    """Base forecasts [nodes, origins + 1, H] and sigmas [nodes, origins + 1] as they are believed, at the end with what
    is to come by plan."""
    base, sigma = chosen.base.copy(), chosen.sigma.copy()
    base[:, -1], sigma[:, -1] = planned_nodes.expected(
        prepared.planned, prepared.graph, base[:, -1], sigma[:, -1], zero_now
    )
    for o, one in enumerate(seen):
        sigma[:, o] = believed(sigma[:, o], base[:, o], one.floor, one.few)
    return base, sigma


def _said(prepared: Prepared, reasons: list[str], end: Seen) -> list[str]:
    """Reasons of methods, of series that get a share instead, and what nodes gather that pruning made."""
    if end.shares is None:
        return reasons
    graph, found = prepared.graph, list(reasons)
    for node in prepared.pruned.lumps if prepared.pruned else ():
        series = graph.below(np.array([node])).series
        named = ", ".join(graph.name(graph.n_aggregates + i) for i in series[:2].tolist())
        found[node] = f"Gathers {len(series):,} series that are pruned, such as {named}. {found[node]}".strip()
    for series, node, share in zip(
        end.shares.series.tolist(), end.shares.node.tolist(), end.shares.share.tolist(), strict=True
    ):
        found[graph.n_aggregates + series] = (
            f"Not forecast by itself, as the pruning of the structure says: its share of the last season, "
            f"{100.0 * share:.1f} %, of {graph.name(node)}."
        )
    if end.within is not None:
        for node, level in zip(end.within.nodes.tolist(), end.within.level.tolist(), strict=True):
            found[node] = (
                f"Forecast over {prepared.time_levels[level].words} at a time, as the pruning of the structure says, "
                "and shared out as its season has it."
            )
    return found


def _accuracy(
    prepared: Prepared, methods: tuple[str, ...], chosen: Chosen, coherent: Coherent, judged: accuracy.Judged,
    tested: Floats, held: BandsHeld, p: Floats, of_kind: Booleans,
) -> tuple[Floats, accuracy.Tables, Floats]:  # fmt: skip
    """Scores [nodes, 5] of what is published, the pooled tables, and sums by kind [kinds, methods + 2, 10]."""
    graph = prepared.graph
    scores = np.empty((graph.n_nodes, 5))
    pooled: list[tuple[slice, Floats]] = []
    kinds = np.zeros((len(of_kind), 2, 10))
    for run in accuracy.all_runs(graph):
        own = judged.rows(run)
        of_choice, _ = own.sums(coherent.unreconciled[run])
        sums, counted = own.sums(tested[run])
        scores[run] = accuracy.node_scores(sums, counted)
        pooled.append((run, np.stack([accuracy.pooled_sums(of_choice), accuracy.pooled_sums(sums)])))
        for k, which in enumerate(of_kind):
            here = np.nonzero(which[run])[0]
            if len(here):
                kinds[k] += np.stack([accuracy.pooled_sums(one[here])[0] for one in (of_choice, sums)])
    of_methods = np.concatenate([chosen.pooled, accuracy.by_level(graph, pooled)], axis=1)
    tables = accuracy.Tables(
        method_names=(*methods, accuracy.CHOICE, accuracy.PUBLISHED),
        reconciliation_names=tuple(coherent.pooled),
        level_names=(*(level.name for level in graph.levels), "all nodes"),
        band_levels=tuple(float(round(100.0 * (1.0 - 2.0 * one), 6)) for one in p[: len(p) // 2]),
        by_method=accuracy.measures(of_methods) + 0.0,
        by_reconciliation=accuracy.measures(np.stack([one[:, 0] for one in coherent.pooled.values()], axis=1)) + 0.0,
        coverage=held.coverage,
        cells=of_methods[:, :, 0, accuracy.CELLS].astype(np.int64),
        shared=of_methods[:, :, 0, accuracy.SHARED].astype(np.int64),
    )
    return scores, tables, np.concatenate([chosen.by_kind, kinds], axis=1)
