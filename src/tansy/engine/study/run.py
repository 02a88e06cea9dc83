"""From a panel and a recipe to forecasts, bands and accuracy.

The result is a function of (panel, recipe) alone: neither the number of threads nor where a resumed run had stopped
changes a bit of it.
"""

from __future__ import annotations

import hashlib
import resource
import sys
import time
from collections.abc import Callable, Container, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from importlib.metadata import version

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri

from tansy.engine.backtest.choice import Choice, choose, scaled_squares
from tansy.engine.backtest.intervals import (
    are_whole,
    calibrate,
    groups,
    least_sigma,
    probabilities,
    relative_volume,
    whole_bands,
)
from tansy.engine.backtest.measures import mean_square_step, nan_mean, wape
from tansy.engine.backtest.origins import ChunkFits, PoolJob, PoolResult, Seasons, fit_chunk, origins, pooled_at
from tansy.engine.cleaning.corrections import Corrections, by_rules
from tansy.engine.compute.threads import run_chunks
from tansy.engine.errors import Stopped
from tansy.engine.methods.notation import Form, driver_of, parse
from tansy.engine.methods.pooled import Pooled
from tansy.engine.methods.regressors import check_known_ahead
from tansy.engine.panel import Panel
from tansy.engine.profile.kinds import Kinds, find_kinds
from tansy.engine.reconcile.projection import reconcile
from tansy.engine.reconcile.whole import whole_numbers
from tansy.engine.structure.grouping import Structure, aggregate_history, group
from tansy.engine.structure.node_drivers import node_drivers
from tansy.engine.structure.plans import IN_80_PERCENT, Planned, with_events, with_plans
from tansy.engine.study import accuracy
from tansy.engine.study.kept import apply_kept
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.store import ChunkStore
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

RECONCILIATIONS_SHOWN = ("none", "bottom-up", "structural", "variance")
_CHUNK = 128  # series, so that Python around the kernels weighs little; progress and stopping are finer than that

Progress = Callable[[str, int, int], None]


@dataclass(frozen=True)
class Study:
    """Everything a study found. Arrays over nodes are in the order of `structure`.

    history: [nodes, periods], corrected, as methods see it. received: [nodes, periods], as it came in and as forecasts
    are scored, without stock-outs and closures. corrections: what was changed.
    seen_at: number of periods seen at each origin, oldest first.
    methods: texts from simple to rich; chosen: [nodes], position in methods, -1 where the node is zero by decision.
    chosen_at: [nodes, origins], the method that the other origins chose. was_tested: [nodes].
    base, forecast: [nodes, H], before and after reconciliation. quantiles: [nodes, Q, H] for `probabilities`.
    tested: [nodes, origins, H], reconciled forecasts of the backtest; tested_quantiles: [nodes, origins, Q, H].
    kinds: what the demand of each node is like. notes: node -> what plans say of its forecast. kept:
    node -> why its method was kept by hand.
    parameters: [nodes, P] of the chosen method, named by parameter_names[chosen]. sigma: [nodes].
    method_scores: [nodes, methods, 5] and node_scores: [nodes, 5]: MAE, WAPE, RMSSE, gain, origins that count.
    hits: [nodes, Q / 2], share of actuals inside each band of the backtest, narrowest band last.
    origin_wape: [nodes, origins], of the reconciled forecast from each origin.
    tables: pooled accuracy, see `accuracy`. seconds: per step.
    """

    structure: Structure
    timeline: Timeline
    recipe: Recipe
    history: Floats
    received: Floats
    corrections: Corrections
    seen_at: list[int]
    methods: tuple[str, ...]
    chosen: Integers
    chosen_at: Integers
    was_tested: NDArray[np.bool_]
    base: Floats
    forecast: Floats
    probabilities: Floats
    quantiles: Floats
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
    hits: Floats
    origin_wape: Floats
    tables: accuracy.Tables
    largest_gap: float
    seconds: dict[str, float]
    peak_memory_mb: float


def fingerprint(panel: Panel, recipe: Recipe, corrections: Corrections | None = None) -> str:
    """Hash of all that kept chunks depend on: the data as corrected, the recipe, how series are cut into chunks, and
    the version."""
    seen = corrections.corrected(panel) if corrections else panel
    return hashlib.sha256(f"{seen.fingerprint()} {recipe!r} {_CHUNK} {version('tansy')}".encode()).hexdigest()


def candidate_forms(recipe: Recipe) -> list[Form]:
    """Methods to fit, from simple to rich: the recipe's, those kept by hand, the seasonal naive that all are held
    against, and the mean,
    which can be fitted to any series."""
    texts = (*recipe.methods, *(one.method for one in recipe.kept), "seasonal-naive", "mean")
    forms = {str(form): form for form in map(parse, texts)}
    return sorted(forms.values(), key=lambda form: form.simplicity)


def run_study(
    panel: Panel,
    recipe: Recipe,
    *,
    corrections: Corrections | None = None,
    kinds_by_hand: dict[int, str] | None = None,
    store: ChunkStore | None = None,
    progress: Progress | None = None,
    should_stop: Callable[[], bool] | None = None,
    workers: int | None = None,
) -> Study:
    """Run a study.

    corrections: the planner's; those of the recipe's rules come on top. Forecasts are made from the corrected history
    and scored against the history as received (`methods.md`). kinds_by_hand: series -> kind that a person gave to it.
    progress(step, done, of): called as work proceeds. should_stop(): asked several times a second; when it says yes,
    Stopped is raised and finished chunks stay in `store`. Raises RecipeError or StructureError where recipe and panel
    do not fit together.
    """
    say = progress or (lambda step, done, of: None)
    seconds: dict[str, float] = {}

    def stop_if_asked() -> None:
        if should_stop and should_stop():
            raise Stopped("The run was stopped; what was fitted is kept, and running it again goes on from there.")

    @contextmanager
    def step(name: str) -> Iterator[None]:
        stop_if_asked()
        say(name, 0, 0)
        began = time.perf_counter()
        yield
        seconds[name] = time.perf_counter() - began

    timeline = panel.timeline
    seen_at = origins(timeline.n_periods, recipe.origins, recipe.step, recipe.leads)
    forms = candidate_forms(recipe)
    with step("correct"):
        told = with_events(panel, recipe.plans)  # what an event explains is not suspicious
        changes = (corrections or Corrections.none()).and_then(by_rules(told, recipe.cleaning, recipe.structure))
        as_received = panel
        planned = with_plans(changes.corrected(panel), recipe.plans)
        judged_values = with_plans(changes.judged(panel), recipe.plans).panel.values
        panel = planned.panel
        by_hand = {int(planned.position[i]): kind for i, kind in (kinds_by_hand or {}).items()}
        by_hand.pop(-1, None)
    with step("structure"):
        structure = group(panel, recipe.structure)
        received = aggregate_history(structure, judged_values)
        history = aggregate_history(structure, panel.values) if len(changes) else received
    with step("fit and backtest"):
        seasons = None
        if any(form.shared_season for form in forms):
            seasons = Seasons.of(history, structure.season_sources(), timeline, seen_at, recipe.leads)
        drivers = _drivers(forms, structure, with_plans(as_received, recipe.plans).panel, seen_at[0], recipe.leads)

        def while_not_stopped(work: Callable[[PoolJob], PoolResult], jobs: list[PoolJob]) -> Iterator[PoolResult]:
            for one in run_chunks(work, jobs, workers):
                yield one
                stop_if_asked()

        pooled = pooled_at(forms, history, drivers, timeline, seen_at, structure.effect_groups(), while_not_stopped)
        shared = Shared(seasons, drivers, pooled)
        fits = _fit_all(history, timeline, forms, seen_at, recipe.leads, shared, store, say, stop_if_asked, workers)
    with step("reconcile"):
        actuals = windows(received, seen_at, recipe.leads)
        scale = np.stack([mean_square_step(received[:, :n]) for n in seen_at], axis=1)
        squares = scaled_squares(actuals[:, None] - fits.tested, scale)
        defined_at, defined_now = ~np.isnan(fits.tested[..., 0]), ~np.isnan(fits.final[..., 0])
        kinds = find_kinds(history, timeline, recipe.ended_after).moved(
            {structure.n_aggregates + i: kind for i, kind in by_hand.items()}
        )
        names_of = [str(form) for form in forms]
        choice, kept = apply_kept(
            choose(squares, defined_at, defined_now, names_of.index("mean")), recipe.kept, names_of, structure, kinds,
            defined_now, defined_at,
        )  # fmt: skip
        zero_now, zero_at = _zero_by_decision(planned, choice, seen_at, structure, recipe, by_hand)
        base, sigma_now = _pick(fits.final, choice.final), _pick(fits.final_sigma, choice.final)
        _plan_arrivals(planned, structure, base, sigma_now, zero_now)
        sigma_now = _believed(sigma_now, history, base)
        forecast = _reconciled(structure, base, recipe.reconciliation, sigma_now, recipe.nonnegative, zero_now)
        tested_base, sigma_at = (
            _pick_at(fits.tested, choice.at_origin),
            _pick_at(fits.tested_sigma, choice.at_origin),
        )
        sigma_at = np.stack(
            [_believed(sigma_at[:, o], history[:, :n], tested_base[:, o]) for o, n in enumerate(seen_at)], axis=1
        )
        names = list(dict.fromkeys((*RECONCILIATIONS_SHOWN, recipe.reconciliation)))
        tested_by = {name: np.empty_like(tested_base) for name in names}

        def reconcile_origin(job: tuple[str, int]) -> None:
            name, o = job
            tested_by[name][:, o] = _reconciled(
                structure, tested_base[:, o], name, sigma_at[:, o], recipe.nonnegative, zero_at[o]
            )

        jobs = [(name, o) for name in names for o in range(len(seen_at))]
        for done, _ in enumerate(run_chunks(reconcile_origin, jobs, workers), start=1):
            say("reconcile", done, len(jobs))
            stop_if_asked()
        tested = tested_by[recipe.reconciliation]
    with step("bands"):
        could_forecast = choice.at_origin >= 0
        errors = np.where(could_forecast[:, :, None], actuals - tested, np.nan)
        p = probabilities(list(recipe.levels))
        relative, relative_now = np.ones_like(tested), np.ones_like(forecast)
        if recipe.nonnegative:
            usual = np.stack([nan_mean(history[:, :n], axis=1) for n in (*seen_at, timeline.n_periods)], axis=1)
            relative = relative_volume(tested, usual[:, :-1])
            relative_now = relative_volume(forecast, usual[:, -1])
        group_of = groups(structure.level_of, len(structure.levels))
        bands = calibrate(errors, sigma_at, sigma_now, relative, relative_now, group_of, p)
        floor = 0.0 if recipe.nonnegative else -np.inf
        quantiles = np.maximum(forecast[:, None] + bands.now, floor)
        tested_quantiles = np.maximum(tested[:, :, None] + bands.at_origin, floor)
        finest = slice(structure.n_aggregates, None)
        _plan_bands(planned, structure, forecast, quantiles, p)
        nothing_now = _nothing_below(structure, zero_now)
        quantiles = np.where(nothing_now[:, None], 0.0, quantiles)
        slow = kinds.slow & are_whole(received)
        quantiles, tested_quantiles = whole_bands(quantiles, slow), whole_bands(tested_quantiles, slow)
        for o, held in enumerate(zero_at):
            nothing = _nothing_below(structure, held)
            tested_quantiles[:, o] = np.where(nothing[:, None], 0.0, tested_quantiles[:, o])
        if recipe.whole_units:
            forecast = structure.summation.sum_up(whole_numbers(forecast[finest], structure.tree()))
            outward = (p > 0.5)[None, :, None]
            quantiles = np.where(outward, np.ceil(quantiles - 1e-9), np.floor(quantiles + 1e-9))
    with step("accuracy"):
        judged = accuracy.Judged(
            methods=tuple(names_of),
            actuals=actuals,
            by_method=fits.tested,
            by_reconciliation=tested_by,
            published=tested,
            published_quantiles=tested_quantiles,
            scale=scale,
            counts=could_forecast,
        )
        method_scores, node_scores = accuracy.score_nodes(judged)
        hits = accuracy.hits(judged)
        tables = accuracy.tabulate(judged, structure, p)
    chosen = choice.final.copy()
    chosen[nothing_now.all(axis=1)] = -1
    # zeros have no sign in what is published: 0 times a negative number, and rounding, leave a minus behind
    forecast, quantiles, tested, tested_quantiles = (
        one + 0.0 for one in (forecast, quantiles, tested, tested_quantiles)
    )
    said = planned.notes(recipe.plans, timeline.last + 1, recipe.leads)
    notes = {structure.n_aggregates + i: sentence for i, sentence in said.items()}
    return Study(
        structure=structure,
        timeline=timeline,
        recipe=recipe,
        history=history,
        received=received,
        corrections=changes,
        seen_at=seen_at,
        methods=judged.methods,
        chosen=chosen,
        chosen_at=choice.at_origin,
        was_tested=choice.was_tested,
        base=np.nan_to_num(base) + 0.0,
        forecast=forecast,
        probabilities=p,
        quantiles=quantiles,
        tested=np.where(could_forecast[:, :, None], tested, np.nan),
        tested_quantiles=tested_quantiles,
        notes=notes,
        kept=kept,
        kinds=kinds,
        parameters=_pick(fits.parameters, choice.final),
        parameter_names=fits.parameter_names,
        sigma=np.nan_to_num(sigma_now),
        method_scores=method_scores,
        node_scores=node_scores,
        hits=hits,
        origin_wape=wape(errors, actuals, axis=2),
        tables=tables,
        largest_gap=structure.summation.largest_gap(forecast),
        seconds=seconds,
        peak_memory_mb=peak_memory_mb(),
    )


def windows(history: Floats, seen_at: list[int], leads: int) -> Floats:
    """What came after each origin, [nodes, origins, H]."""
    return np.stack([history[:, n : n + leads] for n in seen_at], axis=1)


def peak_memory_mb() -> float:
    """Most memory this process has held, in MB."""
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return peak / (1e6 if sys.platform == "darwin" else 1e3)


@dataclass(frozen=True)
class Shared:
    """What series have from others or from outside: seasons of groups, drivers [nodes, ...], pooled effects."""

    seasons: Seasons | None
    drivers: dict[str, Floats]
    pooled: dict[tuple[str, ...], tuple[Pooled, ...]]

    def rows(self, start: int, end: int) -> Shared:
        """Those of the nodes start..end."""
        return Shared(
            self.seasons.rows(start, end) if self.seasons else None,
            {name: one[start:end] for name, one in self.drivers.items()},
            {entries: tuple(one.rows(slice(start, end)) for one in found) for entries, found in self.pooled.items()},
        )


def _drivers(forms: list[Form], structure: Structure, panel: Panel, n_seen: int, leads: int) -> dict[str, Floats]:
    """Drivers of every node that a method asks for. Raises where one is not there, or not known ahead anywhere."""
    names = sorted({driver_of(entry)[0] for form in forms for entry in form.drivers + form.pooled})
    for form in forms:
        check_known_ahead(form, panel.drivers, panel.n_series, panel.timeline, leads)
    return node_drivers(structure, panel, n_seen, names)


class _Watch:
    """What share of each chunk is done, told by the threads that work, and whether they are to stop, told by the one
    that waits for them. Only the latter speaks to the outside."""

    def __init__(
        self, sizes: list[int], kept: Container[int], say: Progress, stop_if_asked: Callable[[], None]
    ) -> None:
        self._sizes, self._shares = sizes, [float(i in kept) for i in range(len(sizes))]
        self._say, self._stop_if_asked = say, stop_if_asked
        self._stopped = False

    def hear(self, chunk: int, share: float) -> None:
        if self._stopped:
            raise Stopped("The run was stopped.")
        self._shares[chunk] = share

    def look(self) -> None:
        done = sum(size * share for size, share in zip(self._sizes, self._shares, strict=True))
        self._say("fit and backtest", int(done + 1e-6), sum(self._sizes))
        try:
            self._stop_if_asked()
        except Stopped:
            self._stopped = True
            raise


def _fit_all(
    history: Floats,
    timeline: Timeline,
    forms: list[Form],
    seen_at: list[int],
    leads: int,
    shared: Shared,
    store: ChunkStore | None,
    say: Progress,
    stop_if_asked: Callable[[], None],
    workers: int | None,
) -> ChunkFits:
    n = len(history)
    spans = [(i, start, min(start + _CHUNK, n)) for i, start in enumerate(range(0, n, _CHUNK))]
    kept = {i: store.load(i) for i, _, _ in spans} if store else {}
    parts = {i: fits for i, fits in kept.items() if fits is not None}
    watch = _Watch([end - start for _, start, end in spans], parts, say, stop_if_asked)

    def work(span: tuple[int, int, int]) -> tuple[int, ChunkFits]:
        i, start, end = span
        own = shared.rows(start, end)
        fits = fit_chunk(
            history[start:end], timeline, forms, seen_at, leads, own.seasons, own.drivers, own.pooled,
            said=partial(watch.hear, i),
        )  # fmt: skip
        if store:
            store.save(i, fits)
        return i, fits

    watch.look()
    parts |= run_chunks(work, [span for span in spans if span[0] not in parts], workers, watch.look)
    ordered = [parts[i] for i in range(len(spans))]

    def joined(name: str) -> Floats:
        return np.concatenate([getattr(part, name) for part in ordered])

    return ChunkFits(
        joined("tested"), joined("tested_sigma"), joined("final"), joined("final_sigma"), joined("parameters"),
        joined("criteria"), ordered[0].parameter_names,
    )  # fmt: skip


def _pick(values: Floats, choice: Integers) -> Floats:
    """values[i, choice[i]] for each node; NaN where there is no choice."""
    at = np.maximum(choice, 0).reshape(-1, *[1] * (values.ndim - 1))
    picked = np.take_along_axis(values, at, axis=1)[:, 0]
    picked[choice < 0] = np.nan
    return picked


def _pick_at(values: Floats, choice: Integers) -> Floats:
    """values[i, choice[i, o], o] for each node and origin."""
    return np.stack([_pick(values[:, :, o], choice[:, o]) for o in range(choice.shape[1])], axis=1)


def _zero_by_decision(
    planned: Planned,
    choice: Choice,
    seen_at: list[int],
    structure: Structure,
    recipe: Recipe,
    by_hand: dict[int, str],
) -> tuple[NDArray[np.bool_], list[NDArray[np.bool_]]]:
    """Finest nodes and leads that are forecast as zero, [finest, H], now and at each origin: not on sale yet, ended,
    out of the season of what is sold in season only, or closed by a plan."""
    panel, finest = planned.panel, slice(structure.n_aggregates, None)
    comes = np.zeros(panel.n_series, dtype=bool)
    comes[[i for i, _, _ in planned.arrivals]] = True

    def zero(n_seen: int, chosen: Integers, moved: dict[int, str]) -> NDArray[np.bool_]:
        seen = panel.timeline.until(n_seen)
        kinds = find_kinds(panel.values[:, :n_seen], seen, recipe.ended_after, recipe.leads).moved(moved)
        never = ((chosen[finest] < 0) & ~comes) | kinds.ended
        shut = planned.closed(recipe.plans, seen.last + 1, recipe.leads)
        return np.asarray(never[:, None] | shut | (kinds.in_season_only[:, None] & ~kinds.in_season))

    now = zero(panel.timeline.n_periods, choice.final, by_hand)
    return now, [zero(n, choice.at_origin[:, o], {}) for o, n in enumerate(seen_at)]


def _nothing_below(structure: Structure, zero: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Nodes and leads [nodes, H] with nothing below that can be sold; zero: the finest nodes' [finest, H]."""
    return np.asarray(structure.summation.sum_up((~zero).astype(np.float64)) == 0.0)


def _plan_arrivals(
    planned: Planned, structure: Structure, base: Floats, sigma: Floats, zero: NDArray[np.bool_]
) -> None:
    """Forecasts of series without a past, from their plans; in place. No total has seen them, so what they bring is
    added to every total above them."""
    if not planned.arrivals:
        return
    brought = np.zeros((structure.n_series, base.shape[1]))
    doubt = np.zeros((structure.n_series, 1))
    for i, plan, like in planned.arrivals:
        node = structure.n_aggregates + i
        if like >= 0:
            base[node] = plan.share * np.nan_to_num(base[structure.n_aggregates + like])
            sigma[node] = plan.share * np.nan_to_num(sigma[structure.n_aggregates + like])
        elif plan.low is not None and plan.high is not None:
            base[node] = 0.5 * (plan.low + plan.high)
            sigma[node] = max((plan.high - plan.low) / (2.0 * IN_80_PERCENT), 1e-6)
        brought[i] = np.where(zero[i], 0.0, base[node])
        doubt[i] = sigma[node] ** 2
    totals = slice(0, structure.n_aggregates)
    base[totals] = np.nan_to_num(base[totals]) + structure.summation.sum_up(brought)[totals]
    sigma[totals] = np.sqrt(np.nan_to_num(sigma[totals]) ** 2 + structure.summation.sum_up(doubt)[totals, 0])


def _plan_bands(planned: Planned, structure: Structure, forecast: Floats, quantiles: Floats, p: Floats) -> None:
    """Bands of series without a past: those of the series they are like, at the share, or the normal ones of which the
    range given is the 80 % band; in place. None of them lies below zero."""
    for i, plan, like in planned.arrivals:
        node = structure.n_aggregates + i
        if like >= 0:
            other = structure.n_aggregates + like
            width = plan.share * (quantiles[other] - forecast[other])
        else:
            assert plan.low is not None and plan.high is not None
            spread = (plan.high - plan.low) / (2.0 * IN_80_PERCENT)
            width = np.repeat(ndtri(p)[:, None] * spread, forecast.shape[1], axis=1)
        quantiles[node] = np.maximum(forecast[node] + width, 0.0)


def _believed(sigma: Floats, history: Floats, base: Floats) -> Floats:
    """One-step sigma [nodes] as it is believed: not below what the scale of the series allows and, where fewer than
    eight values speak for it, that of a count with the forecast's mean. NaN where there is nothing to forecast from.

    history: [nodes, periods seen]; base: [nodes, H].
    """
    few = (~np.isnan(history)).sum(axis=1) < 8
    as_count = np.sqrt(np.maximum(np.nan_to_num(base).mean(axis=1), 0.0))
    found = np.where(few, np.maximum(np.nan_to_num(sigma), as_count), sigma)
    return np.where(np.isnan(base[:, 0]), np.nan, np.maximum(found, least_sigma(history)))


def _reconciled(
    structure: Structure, base: Floats, name: str, sigma: Floats, nonnegative: bool, zero: NDArray[np.bool_]
) -> Floats:
    """Reconciled forecasts [nodes, H]; leads with the same nodes held at zero are done together. zero: [finest, H]."""
    masks, which = np.unique(zero, axis=1, return_inverse=True)
    done = np.empty_like(base)
    for k in range(masks.shape[1]):
        leads = which.ravel() == k
        held = np.ascontiguousarray(masks[:, k])
        done[:, leads] = reconcile(
            structure.summation, np.nan_to_num(base[:, leads]), name, sigma * sigma, nonnegative, held
        )
    return done
