"""What reconciliation may know at an origin of how base forecasts err, and of what was sold.

One-step variances are those of the fits, as they are believed. Errors of the backtest that had come by then are put in
units of the spread that their fit had at their lead; how much larger they were than that is found by level, and what
goes together is read off the same errors, one column for a lead of a window, the same for all nodes.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.measures import nan_mean
from tansy.engine.errors import RecipeError
from tansy.engine.reconcile.methods import Evidence, middle_of
from tansy.engine.study.chosen import Chosen
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.recipe import ERRORS
from tansy.engine.study.seen import Seen

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

BACKTEST = ERRORS[1]
_MOST_RATIO = 5.0  # of an error to its spread, as it counts: one wild value says nothing of a level


@dataclass(frozen=True, eq=False)
class Weighing:
    """one_step: for all leads. by_lead: for each lead, its variances in place of one step's. units: [nodes, T], errors
    that had come, each in units of its spread; NaN missing. spread: [nodes, H], of the forecast from this origin."""

    one_step: Evidence
    by_lead: list[Evidence]
    units: Floats
    spread: Floats


def weighing(
    prepared: Prepared, seen: Seen, o: int, chosen: Chosen, base: Floats, sigma: Floats, name: str
) -> Weighing:
    """At origin o. base: [nodes, origins + 1, H], sigma: [nodes, origins + 1], as they are believed. name: of the
    reconciliation, which may name a level."""
    graph, leads = prepared.graph, prepared.recipe.leads
    actuals = seen.windows(prepared.seen_at[:o], leads)
    spread = _believed(chosen.spread, sigma)
    judged = (chosen.method[:, :o] >= 0)[:, :, None] & (spread[:, :o] > 0.0)
    off = np.full(actuals.shape, np.nan)
    np.divide(actuals - base[:, :o], spread[:, :o], out=off, where=judged)
    units = off.reshape(graph.n_nodes, -1)
    units = units[:, ~np.isnan(units).all(axis=0)]
    larger = _by_level(graph.level_of, len(graph.levels), units, o)
    errors = units * (sigma[:, o] * np.sqrt(larger))[:, None]
    enough = errors if errors.shape[1] > 1 else None
    middle = _middle(prepared, name)
    variance, alike = sigma[:, o] ** 2, prepared.n_alike
    now = spread[:, o]
    return Weighing(
        Evidence(variance, enough, seen.volume, middle, alike),
        [Evidence(larger * now[:, h] ** 2, enough, seen.volume, middle, alike) for h in range(leads)],
        units,
        now,
    )


def _believed(spread: Floats, sigma: Floats) -> Floats:
    """Spreads [nodes, origins + 1, H], none below the one-step sigma as it is believed [nodes, origins + 1]."""
    return np.asarray(np.fmax(spread, sigma[:, :, None]))


def _by_level(level_of: Integers, n_levels: int, units: Floats, windows: int) -> Floats:
    """How much larger squared errors were than the squared spread, by level, [nodes]: believed as far as there are
    windows."""
    found = np.ones(n_levels)
    if not units.shape[1]:
        return found[level_of]
    squares = nan_mean(np.minimum(np.abs(units), _MOST_RATIO) ** 2, axis=1)
    for level in range(n_levels):
        own = squares[level_of == level]
        if not np.isnan(own).all():
            found[level] = (1.0 + windows * float(nan_mean(own))) / (1.0 + windows)
    return found[level_of]


def _middle(prepared: Prepared, name: str) -> Integers | None:
    level = middle_of(name)
    if not level:
        return None
    names = [one.name for one in prepared.graph.levels]
    if level not in names:
        raise RecipeError(f"[reconciliation] there is no level {level!r}; there are: {', '.join(names)}.")
    return np.nonzero(prepared.graph.level_of == names.index(level))[0]
