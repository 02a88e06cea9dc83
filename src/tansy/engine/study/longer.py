"""What nodes are forecast as over longer periods, and leads made to fit it.

At every origin the history is gathered into the longer periods of the recipe and what stands at their frequency is
fitted to every node. How far leads and blocks are believed is taken from the spreads of their fits in units of the
one-step error of the node, the median of all nodes; and from how much larger errors of earlier origins were than these
spreads. It is the same ratio for all nodes, for the reason that `reconcile.over_time` gives.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.known import Known
from tansy.engine.graph.time_levels import Blocks
from tansy.engine.methods.blend import Blend
from tansy.engine.methods.form import Form
from tansy.engine.methods.notation import parse
from tansy.engine.reconcile.over_time import over_time
from tansy.engine.study.blended import Blended
from tansy.engine.study.chosen import Chosen
from tansy.engine.study.coherent import nothing_below
from tansy.engine.study.defaults import stands_for
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.seen import Seen
from tansy.engine.study.steps import Steps
from tansy.engine.study.store import Results, Store
from tansy.engine.study.tasks import Elsewhere, fit_known

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

STEP = "longer periods"
"""What the run says while it is at them."""
_FEWEST_PERIODS = 3
_MOST_RATIO = 5.0  # of an error to its spread, as it counts: one wild value says nothing of a level
_LEAST_RATIO = 1e-3  # of a variance to that of one step: no forecast is certain


@dataclass(frozen=True, eq=False)
class Longer:
    """Forecasts of blocks from one origin, [nodes, blocks] each; NaN where nothing could be fitted."""

    mean: Floats
    spread: Floats


def longer_forecasts(
    prepared: Prepared, store: Store, steps: Steps, workers: int | None, elsewhere: Elsewhere | None = None
) -> list[Longer]:
    """At every origin and at the end, oldest first."""
    ends = [*prepared.seen_at, prepared.timeline.n_periods]
    found: list[Longer] = []
    for n in ends:
        steps.say(STEP, len(found), len(ends))
        found.append(_from(prepared, n, store, steps, workers, elsewhere))
    return found


def _from(
    prepared: Prepared, n_seen: int, store: Store, steps: Steps, workers: int | None, elsewhere: Elsewhere | None
) -> Longer:
    means, spreads = [], []
    every = np.ones(prepared.graph.n_nodes, dtype=bool)
    for k, level in enumerate(prepared.time_levels, start=1):
        known = prepared.known_over(level, n_seen)
        if known.n_seen >= _FEWEST_PERIODS:
            asked = prepared.pruned.fitted_at(k) if prepared.pruned else every
            mean, spread = _standing(
                known,
                partial(
                    fit_known,
                    asked=asked,
                    store=store,
                    stop_if_asked=steps.stop_if_asked,
                    workers=workers,
                    fit=partial(elsewhere.fit, n_seen, k - 1) if elsewhere else None,
                ),
            )
        else:
            mean = spread = np.full((prepared.graph.n_nodes, known.horizon), np.nan)
        means.append(mean)
        spreads.append(spread)
    return Longer(np.concatenate(means, axis=1), np.concatenate(spreads, axis=1))


def _standing(known: Known, fitted: Callable[[Known, list[Form]], Mapping[str, Results]]) -> tuple[Floats, Floats]:
    """Means and spreads [nodes, blocks] of what stands at the nodes that are fitted, the first that can be there."""
    n = len(known.values)
    forms = [parse(text) for text in stands_for(known.timeline)]
    leaves = {str(leaf): leaf for form in forms for leaf in form.leaves}
    found = fitted(known, list(leaves.values()))
    mean = np.full((n, known.horizon), np.nan)
    spread = mean.copy()
    for form in forms:
        parts = [found[str(leaf)] for leaf in form.leaves]
        own = (Blended(form, parts) if isinstance(form, Blend) else parts[0]).rows(0, n)
        lacks = np.isnan(mean[:, 0]) & ~np.isnan(own.mean).any(axis=1) & (own.spread > 0.0).all(axis=1)
        mean[lacks], spread[lacks] = own.mean[lacks], own.spread[lacks]
    return mean, spread


def fitted_to_longer(prepared: Prepared, chosen: Chosen, longer: list[Longer], seen: list[Seen]) -> Floats:
    """Base forecasts [nodes, origins + 1, H] that are made to fit those of longer periods, as the blocks of leads that
    these are allow: of blocks in which something is closed by decision, nothing is said."""
    blocks = Blocks.of(prepared.time_levels, prepared.recipe.leads)
    base = chosen.base.copy()
    for o, one in enumerate(seen):
        shut = nothing_below(prepared.graph, one.closed)
        silent = (shut @ blocks.holds.T > 0.0) | (chosen.method[:, o, None] < 0)
        if prepared.pruned:  # what leads are shares of has been heard
            silent |= blocks.level + 1 == prepared.pruned.finest[:, None]
        says = np.where(silent, np.nan, longer[o].mean)
        rows = np.nonzero(~np.isnan(says).all(axis=1) & ~np.isnan(base[:, o]).any(axis=1))[0]
        of_leads, of_blocks = _believed(prepared, chosen, longer, one, o, blocks)
        w = np.where(shut[rows], 0.0, of_leads)
        base[rows, o] = over_time(base[rows, o], says[rows], blocks.holds, w, of_blocks)
    return base


def _believed(
    prepared: Prepared, chosen: Chosen, longer: list[Longer], seen: Seen, o: int, blocks: Blocks
) -> tuple[Floats, Floats]:
    """Error variances of leads [H] and of blocks [blocks], in units of that of one step."""
    leads = prepared.recipe.leads
    of_fits = [chosen.spread[:, o], longer[o].spread]
    actuals = seen.windows(prepared.seen_at[:o], leads)
    missed = [np.empty((len(actuals), 0, leads)), np.empty((len(actuals), 0, len(blocks.level)))]
    if o:
        mean, spread = (np.stack([getattr(one, name) for one in longer[:o]], axis=1) for name in ("mean", "spread"))
        missed = [
            _over(actuals - chosen.base[:, :o], chosen.spread[:, :o]),
            _over(actuals @ blocks.holds.T - mean, spread),
        ]
    at = [np.zeros(leads, dtype=np.int64), blocks.level]
    found = []
    for spread, off, level in zip(of_fits, missed, at, strict=True):
        usual = np.maximum(_median(_over(spread, chosen.sigma[:, o, None]) ** 2), _LEAST_RATIO)
        for k in np.unique(level).tolist():
            own = np.minimum(np.abs(off[:, :, level == k]), _MOST_RATIO) ** 2
            own = own[~np.isnan(own)]
            if len(own):
                usual[level == k] *= (1.0 + o * own.mean()) / (1.0 + o)
        found.append(usual)
    return found[0], found[1]


def _over(values: Floats, scale: Floats) -> Floats:
    """NaN where one is not known, or the scale is nothing."""
    scale = np.broadcast_to(scale, values.shape)
    return np.divide(values, scale, out=np.full_like(values, np.nan), where=scale > 0.0)


def _median(ratio: Floats) -> Floats:
    """Of each column, of what is known; one where nothing is."""
    return np.array([np.median(one[~np.isnan(one)]) if (~np.isnan(one)).any() else 1.0 for one in ratio.T])
