"""Bands around what is published, from every origin and at the end, and what each way of making them holds."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.intervals import Calibration, Past, Scale, groups, relative_volume, whole_bands
from tansy.engine.study import accuracy, planned_nodes
from tansy.engine.study.bands_held import inside
from tansy.engine.study.chosen import Chosen, forecasts_of
from tansy.engine.study.coherent import believed, nothing_below
from tansy.engine.study.joint_bands import normal_quantiles, paths_quantiles
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.recipe import MADE
from tansy.engine.study.reconciling import MOST_SHOWN, Coherent
from tansy.engine.study.seen import Seen
from tansy.engine.study.tasks import Ending
from tansy.engine.study.weighing import weighing

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]


class Bands:
    """Quantiles [nodes, origins + 1, Q, H], each origin's from what had been missed by then."""

    def __init__(
        self, prepared: Prepared, endings: list[Ending], chosen: Chosen, coherent: Coherent, over_time: Floats,
        sigma: Floats, zeros: list[Booleans], p: Floats,
    ) -> None:  # fmt: skip
        self._prepared, self._endings, self._chosen, self._coherent = prepared, endings, chosen, coherent
        self._over_time, self._sigma, self._zeros, self._p = over_time, sigma, zeros, p
        graph = prepared.graph
        self._calibration = Calibration(groups(graph.level_of, len(graph.levels)), p)

    def made(self, actuals: Floats) -> tuple[Floats, Floats]:
        """As the recipe makes them, and what each way holds, [levels + 1, ways, bands], where there is time to make all
        of them. actuals: [nodes, origins, H]."""
        recipe, graph, n_bands = self._prepared.recipe, self._prepared.graph, len(self._p) // 2
        published = self._coherent.published
        found = np.empty((*published.shape[:2], len(self._p), recipe.leads))
        compared = np.zeros((len(MADE), graph.n_nodes, n_bands, 2))
        tells = graph.n_nodes <= MOST_SHOWN
        for o in range(len(self._endings)):
            last = o == len(self._endings) - 1
            ways = {MADE[0]: self._calibrated(o)}
            if recipe.bands != MADE[0] or (tells and not last):
                ways |= self._coherent_at(o, MADE[1:] if tells and not last else (recipe.bands,))
            ways = {name: self._whole(o, one) for name, one in ways.items()}
            found[:, o] = ways.get(recipe.bands, ways[MADE[0]])
            if tells and not last and len(ways) == len(MADE):
                for k, name in enumerate(MADE):
                    compared[k] += inside(actuals[:, o : o + 1], ways[name][:, None]).sum(axis=(1, 3))
        runs = accuracy.all_runs(graph)
        counts = accuracy.by_level(graph, [(run, compared[:, run].sum(axis=1)) for run in runs])
        return found, accuracy.over(counts[..., 0], counts[..., 1])

    def _calibrated(self, o: int) -> Floats:
        prepared, endings, chosen, published = self._prepared, self._endings, self._chosen, self._coherent.published
        one, recipe = endings[o].seen, prepared.recipe
        actuals = one.windows(prepared.seen_at[:o], recipe.leads)
        could = chosen.method[:, :o, None] >= 0
        errors = np.where(could, actuals - published[:, :o], np.nan)
        windows = min(o, (one.n_seen - prepared.seen_at[0]) / recipe.leads)
        now = _scale(prepared, one, self._sigma[:, o], chosen.spread[:, o], published[:, o])
        past = Past([_had_now(prepared, endings[i], chosen, o, i, actuals[:, i]) for i in range(o)])
        offsets = self._calibration.offsets(errors, now, windows, past)
        return np.maximum(published[:, o, None] + offsets, 0.0 if recipe.nonnegative else -np.inf)

    def _coherent_at(self, o: int, names: tuple[str, ...]) -> dict[str, Floats]:
        """Those of some ways that can be had at an origin."""
        prepared, graph, recipe = self._prepared, self._prepared.graph, self._prepared.recipe
        by, published, closed = self._coherent.by[o], self._coherent.published[:, o], self._zeros[o]
        seen = self._endings[o].seen
        weighed = weighing(prepared, seen, o, self._chosen, self._over_time, self._sigma, recipe.reconciliation)
        base = self._over_time[:, o]
        ways = {
            MADE[1]: lambda: paths_quantiles(graph, by, weighed, base, published, closed, self._p, recipe.nonnegative),
            MADE[2]: lambda: normal_quantiles(graph, by, weighed, published, closed, self._p, recipe.nonnegative),
        }
        made = {name: ways[name]() for name in names}
        return {name: own for name, own in made.items() if own is not None}

    def _whole(self, o: int, quantiles: Floats) -> Floats:
        """As they are published: of series without a past by their plans, nothing where nothing can be sold, whole for
        counts."""
        prepared, graph = self._prepared, self._prepared.graph
        if o == len(prepared.seen_at):
            planned_nodes.bands(prepared.planned, graph, self._coherent.published[:, o], quantiles, self._p)
        quantiles = np.where(nothing_below(graph, self._zeros[o])[:, None], 0.0, quantiles)
        return whole_bands(quantiles, self._endings[o].seen.counts)


def _scale(
    prepared: Prepared, seen: Seen, sigma: Floats, spread: Floats, mean: Floats, rows: Integers | slice = slice(None)
) -> Scale:
    relative = np.ones_like(mean)
    if prepared.recipe.nonnegative:
        relative = relative_volume(mean, seen.usual[rows])
    return Scale.of(sigma, spread, relative)


def _had_now(
    prepared: Prepared, then: Ending, chosen: Chosen, o: int, i: int, actuals: Floats
) -> tuple[Integers, Floats, Scale]:
    """Nodes that had another method at origin i than at o, and what that of o would have missed there [k, H], in what
    units; before reconciliation, as what was published then was made of other forecasts."""
    method, seen = chosen.method[:, o], then.seen
    nodes = np.nonzero((method >= 0) & (chosen.method[:, i] >= 0) & (method != chosen.method[:, i]))[0]
    mean, sigma, spread = forecasts_of(then, method[nodes], nodes, prepared.recipe.leads)
    sigma = believed(sigma, mean, seen.floor[nodes], seen.few[nodes])
    scale = _scale(prepared, seen, sigma, spread, np.nan_to_num(mean), nodes)
    return nodes, actuals[nodes] - mean, scale
