"""Adjustments laid over a forecast one after another, so that all nodes add up after each of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.special import ndtri

from tansy.engine.adjust.adjustment import Adjustment, Placed
from tansy.engine.adjust.spread import TooLittle, spread, whole
from tansy.engine.errors import AdjustmentError
from tansy.engine.graph.graph import Graph
from tansy.engine.reconcile.around import Clash, alike, around_fixed, rows_of
from tansy.engine.reconcile.covariance import Covariance, weights

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

MOST_FIXED = 200
"""Nodes that a forecast can be reconciled around at once."""


@dataclass(frozen=True, eq=False)
class Ground:
    """What adjustments are laid over. mean: [nodes, H], which adds up. history: [finest], usual volume a period. still:
    [finest], zero by decision. variance: [nodes], of errors. metric: of `reconcile.covariance.weights`. whole: in whole
    units. nonnegative: no series below zero."""

    graph: Graph
    mean: Floats
    history: Floats
    still: Booleans
    variance: Floats
    metric: str
    whole: bool
    nonnegative: bool


@dataclass(frozen=True)
class Step:
    """What became of one adjustment: its node at its leads, before and after. problem: why it was not laid, empty where
    it was."""

    before_by_lead: tuple[float, ...]
    after_by_lead: tuple[float, ...]
    problem: str = ""

    @property
    def before(self) -> float:
        return sum(self.before_by_lead)

    @property
    def after(self) -> float:
        return sum(self.after_by_lead)


def laid(ground: Ground, placed: Sequence[Placed]) -> tuple[Floats, list[Step]]:
    """The forecast [nodes, H] with all adjustments, in their order, and what became of each.

    One that cannot be laid leaves the forecast as it was. Without any, the forecast is that of `ground`, to the bit.
    """
    graph = ground.graph
    finest = ground.mean[graph.n_aggregates :].copy()
    steps = []
    for one in placed:
        try:
            before = _row(graph, finest, one.node)[one.leads]
            finest[:, one.leads] = _moved(ground, finest, one)
            after = _row(graph, finest, one.node)[one.leads]
            steps.append(Step(tuple(before.tolist()), tuple(after.tolist())))
        except AdjustmentError as error:
            steps.append(Step(tuple(before.tolist()), tuple(before.tolist()), str(error)))
    mean = ground.mean.copy()
    changed = finest != mean[graph.n_aggregates :]
    leads = np.nonzero(changed.any(axis=0))[0]
    if len(leads):
        touched = graph.summation.sum_up(changed.any(axis=1).astype(np.float64)) > 0.0
        mean[np.ix_(touched, leads)] = graph.summation.sum_up(finest[:, leads])[touched]
    return mean, steps


def bands(
    ground: Ground, mean: Floats, quantiles: Floats, probabilities: Floats, nodes: Integers | None = None
) -> Floats:
    """Quantiles [nodes, Q, H] of the adjusted forecast `mean` [nodes, H]: as wide, beside what is expected, as those
    before. Where nothing was expected before, those of a count that is expected so; where less than nothing is, bands
    move along as they are.

    nodes: the numbers of these rows; without them, all nodes of `ground`.
    """
    before = ground.mean if nodes is None else ground.mean[nodes]
    rows = np.nonzero((mean != before).any(axis=1))[0]
    found = quantiles.copy()
    was, now, own = before[rows, None], mean[rows, None], quantiles[rows]
    ratio = np.divide(now, was, out=np.ones_like(now), where=was > 0.0)
    scaled = np.where((was > 0.0) & (now >= 0.0), own * ratio, own + (now - was))
    new = ((was <= 0.0) & (now > 0.0))[:, 0]
    if new.any():
        at, lead = np.nonzero(new)
        expected = now[at, 0, lead][:, None]
        counted = np.maximum(expected + ndtri(probabilities) * np.sqrt(expected), 0.0)
        scaled.transpose(0, 2, 1)[at, lead] = counted
    if ground.whole:
        outward = (probabilities > 0.5)[None, :, None]
        scaled = np.where(outward, np.ceil(scaled - 1e-9), np.floor(scaled + 1e-9))
    found[rows] = np.where(now != was, scaled, own) + 0.0
    return found


def _row(graph: Graph, finest: Floats, node: int) -> Floats:
    """[H]."""
    n = graph.n_aggregates
    if node >= n:
        return finest[node - n].copy()
    return np.asarray(finest[_below(graph, node)].sum(axis=0))


def _below(graph: Graph, node: int) -> Integers:
    """Finest nodes that a node holds, ascending."""
    n = graph.n_aggregates
    if node >= n:
        return np.array([node - n], dtype=np.int64)
    matrix = graph.summation.matrix
    return np.sort(matrix.indices[matrix.indptr[node] : matrix.indptr[node + 1]]).astype(np.int64)


def _moved(ground: Ground, finest: Floats, placed: Placed) -> Floats:
    """The finest nodes at the leads of an adjustment, [finest, leads]. Raises AdjustmentError where it does not fit."""
    one, graph, node = placed.adjustment, ground.graph, placed.node
    if not len(placed.leads):
        raise AdjustmentError("to", f"{one.first} to {one.last}: no period of this forecast.")
    if placed.made is not None:
        forecast, change = float(ground.mean[node, placed.leads].sum()), abs(placed.made[1])
        moved = forecast - placed.made[0]
        if abs(moved) > change + 1e-6 * max(abs(forecast), 1.0):
            raise AdjustmentError(
                "amount",
                f"The forecast of these periods has moved by {moved:+,.6g} since this was made, more than the "
                f"{change:,.6g} that it changed.",
            )
    if node in placed.locked:
        raise AdjustmentError("locked", f"{graph.name(node)} is locked itself.")
    current = _row(graph, finest, node)
    wanted = _wanted(one, current, placed.leads)
    if ground.nonnegative and (wanted < 0.0).any():
        raise AdjustmentError(
            "amount", f"{graph.name(node)} would fall below zero; it is {current[placed.leads].sum():,.6g} in all."
        )
    if ground.whole:
        total = np.floor(wanted.sum() + 0.5) if one.over == "sum" else 0.0
        wanted = whole(wanted, total) if one.over == "sum" else np.floor(wanted + 0.5)
    own = finest[:, placed.leads]
    if one.spread == "reconcile":
        return _around(ground, own, placed, wanted)
    return _spread(ground, own, placed, wanted - current[placed.leads])


def _wanted(one: Adjustment, current: Floats, leads: Integers) -> Floats:
    """What the node is to be at its leads, from what it is at all leads [H]."""
    now = current[leads]
    if one.change == "percent":
        return now * (1.0 + one.amount / 100.0)
    if one.change == "shift":
        return current[np.clip(leads - round(one.amount), 0, len(current) - 1)]
    if one.over == "each":
        by: dict[str, Floats] = {
            "set": np.full_like(now, one.amount),
            "add": now + one.amount,
            "cap": np.minimum(now, one.amount),
            "floor": np.maximum(now, one.amount),
        }
        return by[one.change]
    total = float(now.sum())
    share = now / total if total > 0.0 else np.full_like(now, 1.0 / len(now))
    wanted = {
        "set": one.amount, "add": total + one.amount, "cap": min(total, one.amount), "floor": max(total, one.amount),
    }[one.change]  # fmt: skip
    return now if wanted == total else wanted * share


def _spread(ground: Ground, own: Floats, placed: Placed, change: Floats) -> Floats:
    """Down to the series, past those below a node that is locked."""
    one, graph = placed.adjustment, ground.graph
    below = _below(graph, placed.node)
    held = np.zeros(graph.n_series, dtype=bool)
    for lock in placed.locked.tolist():
        held[_below(graph, lock)] = True
    moves = ~held[below] & ~ground.still[below]
    if not moves.any():
        moves = ~held[below]  # a forecast of zero by decision is overruled by whoever changes it
    if (change != 0.0).any() and not moves.any():
        locks = ", ".join(graph.name(lock) for lock in placed.locked.tolist())
        raise AdjustmentError(
            "locked", f"All that {graph.name(placed.node)} holds is locked ({locks}); unlock one of them, or leave it "
            f"at {own[below].sum():,.6g}.",
        )  # fmt: skip
    forecast = own[below]
    history = np.repeat(ground.history[below, None], own.shape[1], axis=1)
    weights_of = {"forecast": forecast, "history": history, "even": np.ones_like(forecast)}[one.spread]
    if one.spread == "forecast":  # what has no forecast anywhere is shared like history
        nothing = forecast[moves].sum(axis=0) <= 0.0
        weights_of = np.where(nothing, history, forecast)
    try:
        moved = spread(forecast, change, weights_of, moves, ground.nonnegative)
    except TooLittle as error:
        raise AdjustmentError(
            "locked", f"What is locked in {graph.name(placed.node)} holds {error.least:,.6g} in a period by itself; "
            "unlock some of it, or set no less than that.",
        ) from None  # fmt: skip
    found = own.copy()
    if ground.whole:
        for h in range(own.shape[1]):
            free = moved[moves, h]
            moved[moves, h] = whole(free, float(np.floor(free.sum() + 0.5)))
    found[below] = moved
    return found


def _around(ground: Ground, own: Floats, placed: Placed, wanted: Floats) -> Floats:
    """The closest coherent point to what was, with the node at what is wanted and what is locked as it is."""
    graph = ground.graph
    locked = placed.locked
    fixed = np.concatenate([[placed.node], locked]).astype(np.int64)
    if len(fixed) > MOST_FIXED:
        raise AdjustmentError("locked", f"A forecast is reconciled around {MOST_FIXED} nodes at most.")
    base = graph.summation.sum_up(own)
    values = np.concatenate([wanted[None], base[locked]])
    still, below = ground.still, _below(graph, placed.node)
    if still[below].all():  # overruled, as in `_spread`
        still = still.copy()
        still[below] = False
    w = Covariance(weights(ground.metric, graph.summation, ground.variance))
    try:
        # whole numbers are as near as half a unit each anyway
        negligible = {"negligible": 1.0} if ground.whole else {}
        found = around_fixed(graph.summation, base, w, fixed, values, still, ground.nonnegative, **negligible)
    except Clash as clash:
        raise AdjustmentError("locked", clash.sentence([graph.name(node) for node in clash.nodes.tolist()])) from None
    return _whole_around(graph, found, fixed, values) if ground.whole else found


def _whole_around(graph: Graph, found: Floats, fixed: Integers, values: Floats) -> Floats:
    """Whole numbers near `found` [finest, leads] whose fixed nodes [k] have the whole `values` [k, leads]: series that
    lie below the same fixed nodes are rounded together, to sums that are as near as can be."""
    rows = rows_of(graph.summation, fixed)
    kinds, of_kind = alike(rows)
    members = [np.nonzero(of_kind == k)[0] for k in range(len(kinds))]
    result = np.empty_like(found)
    for h in range(found.shape[1]):
        sums = np.array([found[rows_in, h].sum() for rows_in in members])
        totals = _whole_sums(sums, kinds.T, np.round(values[:, h]))
        for rows_in, total in zip(members, totals.tolist(), strict=True):
            result[rows_in, h] = whole(found[rows_in, h], total)
    return result


def _whole_sums(sums: Floats, kinds: Floats, values: Floats) -> Floats:
    """Whole numbers [c] as near as can be to `sums` with kinds [k, c] @ them = values [k]. Raises AdjustmentError where
    there are none."""
    c = len(sums)
    parts = np.floor(sums + 1e-9)  # what is looked for is small whole numbers beside these, however large they are
    over = sums - parts
    near = LinearConstraint(np.hstack([np.eye(c), -np.eye(c)]), -np.inf, over)
    nearer = LinearConstraint(np.hstack([-np.eye(c), -np.eye(c)]), -np.inf, -over)
    missing = np.round(values - kinds @ parts)
    exact = LinearConstraint(np.hstack([kinds, np.zeros((len(kinds), c))]), missing, missing)
    found = milp(
        np.concatenate([np.zeros(c), np.ones(c)]),
        integrality=np.concatenate([np.ones(c), np.zeros(c)]),
        bounds=Bounds(np.concatenate([-parts, np.zeros(c)]), np.full(2 * c, np.inf)),
        constraints=[near, nearer, exact],
    )
    if found.x is None:
        raise AdjustmentError("locked", "No whole numbers meet all that is locked; lock less, or set another amount.")
    return parts + np.round(found.x[:c])
