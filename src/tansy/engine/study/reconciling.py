"""Reconciled forecasts of a backtest and of the end, and which reconciliation each origin has."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.measures import nan_mean
from tansy.engine.compute.threads import run_chunks
from tansy.engine.reconcile.covariance import CORRELATED, DIAGONAL
from tansy.engine.reconcile.methods import combined
from tansy.engine.study import accuracy
from tansy.engine.study.chosen import Chosen
from tansy.engine.study.coherent import key_of, reconciled
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.recipe import BEST
from tansy.engine.study.seen import Seen
from tansy.engine.study.steps import Steps
from tansy.engine.study.store import Store
from tansy.engine.study.weighing import BACKTEST, Weighing, weighing

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

SHOWN = ("none", "bottom-up", "structural", "variance", "shrinkage", "combined")
CANDIDATES = ("variance", "combined", "bottom-up")
"""Among which a backtest chooses; the first stands until another has shown to be better."""
OVER_TIME = "time levels"
"""What stands for the forecasts of nodes that are made to fit their own of longer periods, and nothing else."""
MOST_SHOWN = 15_000
"""Nodes up to which what goes by correlations is shown unasked: beyond, it takes longer than all others together."""
_FEWEST_WINDOWS = 3
_LEAST_LOSS = 1e-12  # of a level without any error, whose logarithm would outvote all others


@dataclass(frozen=True)
class Coherent:
    """published: [nodes, origins + 1, H], as the recipe says; by: the reconciliation of each of these origins.
    unreconciled: [nodes, origins, H]. pooled: per reconciliation shown, [levels + 1, 1, 10], see
    `accuracy.pooled_sums`."""

    published: Floats
    by: tuple[str, ...]
    unreconciled: Floats
    pooled: dict[str, Floats]


def reconcile_all(
    prepared: Prepared, seen: list[Seen], judged: accuracy.Judged, chosen: Chosen, base: Floats, over_time: Floats,
    sigma: Floats, zeros: list[Booleans], store: Store, steps: Steps, workers: int | None,
) -> Coherent:  # fmt: skip
    """seen: per origin and for the end, as are base [nodes, origins + 1, H], sigma [nodes, origins + 1] and zeros
    [finest, H]. over_time: base as it is made to fit longer periods, which is what is reconciled; base itself without
    any."""
    recipe, graph, n_origins = prepared.recipe, prepared.graph, len(prepared.seen_at)
    asked = CANDIDATES if recipe.reconciliation == BEST else (recipe.reconciliation,)
    shown = SHOWN if graph.n_nodes <= MOST_SHOWN else tuple(name for name in SHOWN if name not in CORRELATED)
    timed = over_time is not base
    if timed:
        shown = (shown[0], OVER_TIME, *shown[1:])
    names = [name for name in dict.fromkeys((*shown, *asked)) if name not in ("combined", OVER_TIME)]
    published, unreconciled = np.empty_like(base), np.empty_like(base[:, :-1])
    sums = {name: np.zeros((graph.n_nodes, 1, accuracy.N_SUMS)) for name in (*names, "combined", *shown)}
    chosen_by = _Choice(prepared, asked)
    done, of = 0, n_origins * len(names) + 1

    def weigh(o: int) -> Weighing:
        return weighing(prepared, seen[o], o, chosen, over_time, sigma, recipe.reconciliation)

    def at(o: int, weighed: Weighing, name: str) -> tuple[str, Floats]:
        by_lead = recipe.reconciliation_errors == BACKTEST and name in (*DIAGONAL, *CORRELATED)
        by = weighed.by_lead if by_lead else weighed.one_step
        own = base if name == "none" else over_time
        given = (graph, own[:, o], name, by, recipe.nonnegative, zeros[o])
        return name, store.array(key_of(*given), lambda: reconciled(*given))

    for o in range(n_origins):
        found = {}
        for name, means in run_chunks(partial(at, o, weigh(o)), names, workers, steps.stop_if_asked):
            found[name] = means
            done += 1
            steps.say("reconcile", done, of)
        if timed:
            found[OVER_TIME] = np.nan_to_num(over_time[:, o])
        found["combined"] = combined(graph.summation, found["bottom-up"], found["variance"])
        for name, means in found.items():
            sums[name] += judged.origin(o).sums(means[:, None])[0].sum(axis=1, keepdims=True)
        unreconciled[:, o] = found["none"]
        published[:, o] = found[chosen_by.at(o, seen[o])]
        chosen_by.add({name: found[name] for name in asked})
    last = chosen_by.at(n_origins, seen[-1])
    weighed = weigh(n_origins)
    ends = [at(n_origins, weighed, name)[1] for name in (("bottom-up", "variance") if last == "combined" else (last,))]
    published[:, -1] = combined(graph.summation, *ends) if last == "combined" else ends[0]
    steps.say("reconcile", of, of)
    runs = accuracy.runs_of(graph, 0, graph.n_nodes)
    pooled = {
        name: accuracy.by_level(graph, [(run, accuracy.pooled_sums(sums[name][run])[:1]) for run in runs])
        for name in dict.fromkeys((*shown, *names))
    }
    return Coherent(published, tuple(chosen_by.had), unreconciled, pooled)


class _Choice:
    """Which reconciliation an origin has, by errors that had come by then: the first stands until the error of another
    is less, in the mean of the levels, by the margin of the recipe's choice over windows. had: so far."""

    def __init__(self, prepared: Prepared, names: tuple[str, ...]) -> None:
        self._prepared, self._names = prepared, names
        self._means: list[dict[str, Floats]] = []
        self._losses: dict[int, Floats] = {}
        self.had: list[str] = []

    def add(self, means: dict[str, Floats]) -> None:
        """What each forecast from the next origin, [nodes, H]."""
        if len(self._names) > 1:
            self._means.append(means)

    def at(self, o: int, seen: Seen) -> str:
        self.had.append(self._best(o, seen) if len(self._names) > 1 else self._names[0])
        return self.had[-1]

    def _best(self, o: int, seen: Seen) -> str:
        prepared = self._prepared
        losses = np.array([self._loss(i, seen) for i in range(o)]).reshape(o, len(self._names))
        ahead = losses - losses[:, :1]  # [windows, names]
        ahead = ahead[~np.isnan(ahead).any(axis=1)]
        if len(ahead) < _FEWEST_WINDOWS:
            return self._names[0]
        # windows that overlap say less than their number
        apart = max(1.0, min(float(len(ahead)), (seen.n_seen - prepared.seen_at[0]) / prepared.recipe.leads))
        error = ahead.std(axis=0, ddof=1) / np.sqrt(apart)
        mean = ahead.mean(axis=0)
        better = mean + prepared.recipe.choice.margin * error < 0.0
        return self._names[int(np.argmin(np.where(better, mean, 0.0)))]

    def _loss(self, i: int, seen: Seen) -> Floats:
        """Logarithm of the mean error of each candidate in one window, in the mean of the levels, [names]; NaN where
        nothing has come."""
        prepared = self._prepared
        leads = prepared.recipe.leads
        if i in self._losses:
            return self._losses[i]
        actuals = seen.windows(prepared.seen_at[i : i + 1], leads)[:, 0]
        power = 2.0 if prepared.recipe.choice.measure == "squared" else 1.0
        scale = np.where(seen.scale > 0.0, seen.scale, np.nan) ** (power / 2.0)
        found = np.empty(len(self._names))
        for j, name in enumerate(self._names):
            own = np.abs(actuals - self._means[i][name]) ** power / scale[:, None]
            levels = [own[level.first : level.first + level.n_nodes] for level in prepared.graph.levels]
            means = np.array([float(nan_mean(one)) for one in levels])
            found[j] = nan_mean(np.log(np.maximum(means, _LEAST_LOSS))) / power
        if prepared.seen_at[i] + leads <= seen.n_seen:  # it has come whole, and says the same from now on
            self._losses[i] = found
            self._means[i] = {}
        return found
