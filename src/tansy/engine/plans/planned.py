"""The panel that methods see: codes chained, products to come added, drivers as they are planned."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import PlanError, StructureError
from tansy.engine.panel import Edges, Panel
from tansy.engine.plans.drivers import with_calendar, with_driver_plans
from tansy.engine.plans.kinds import Arrival, Lifetime, Plan, Succession, period_number

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]


@dataclass(frozen=True)
class Planned:
    """A panel with plans. position: of every series of the panel as it was, -1 where it went into another. arrivals:
    per new series, its position, the plan, and the position of the series it is like (-1 for none)."""

    panel: Panel
    position: NDArray[np.int64]
    arrivals: list[tuple[int, Arrival, int]]

    def closed(self, plans: tuple[Plan, ...], first: int, n: int) -> Booleans:
        """Where plans say that nothing is sold, [series, n] from the period numbered `first` on."""
        panel, frequency = self.panel, self.panel.timeline.frequency
        shut = np.zeros((panel.n_series, n), dtype=bool)
        t = np.arange(first, first + n)
        for plan in plans:
            if isinstance(plan, Lifetime):
                shut |= _where(panel, plan.where)[:, None] & _outside(plan, t, frequency)
        for i, arrival, _ in self.arrivals:
            shut[i] |= t < period_number("start", arrival.start, frequency)
        return shut

    def notes(self, plans: tuple[Plan, ...], first: int, n: int) -> dict[int, str]:
        """What plans say of the forecast of n periods from the one numbered `first` on: series -> sentences."""
        found = {i: plan.sentence() for i, plan, _ in self.arrivals}
        t = np.arange(first, first + n)
        for plan in plans:
            if isinstance(plan, Lifetime) and _outside(plan, t, self.panel.timeline.frequency).any():
                for i in np.nonzero(_where(self.panel, plan.where))[0].tolist():
                    found[i] = f"{found[i]} {plan.sentence()}" if i in found else plan.sentence()
        return found


def _outside(plan: Lifetime, t: NDArray[np.int64], frequency: str) -> Booleans:
    """Which of the periods numbered t lie before or after a lifetime."""
    out = np.zeros(len(t), dtype=bool)
    if plan.first:
        out |= t < period_number("first", plan.first, frequency)
    if plan.last:
        out |= t > period_number("last", plan.last, frequency)
    return out


def _where(panel: Panel, where: dict[str, str]) -> Booleans:
    try:
        return panel.where(where)
    except StructureError as error:
        raise PlanError("where", str(error)) from None


def with_plans(panel: Panel, plans: tuple[Plan, ...], leads: int = 0) -> Planned:
    """The panel that methods see: codes chained, arrivals added, drivers as planned, calendars for `leads` at least.

    Raises PlanError where a plan names a key or series that is not there.
    """
    before = _keys(panel)
    for plan in plans:
        if isinstance(plan, Succession):
            panel = _chained(panel, plan)
    panel, found = _with_arrivals(panel, [plan for plan in plans if isinstance(plan, Arrival)])
    panel = with_driver_plans(with_calendar(panel, plans, leads), plans, leads)
    place = {key: i for i, key in enumerate(_keys(panel))}
    arrivals = []
    for key, plan in found:
        like = tuple(plan.like.get(name, "") for name in panel.key_names) if plan.like else None
        if like is not None and like not in place:
            raise PlanError("like", f"There is no series {' × '.join(like)}.")
        arrivals.append((place[key], plan, place[like] if like is not None else -1))
    return Planned(panel, np.array([place.get(key, -1) for key in before], dtype=np.int64), arrivals)


def _keys(panel: Panel) -> list[tuple[str, ...]]:
    return list(zip(*(panel.keys[name] for name in panel.key_names), strict=True))


def _chained(panel: Panel, plan: Succession) -> Panel:
    """Move the share of every old series to its successor; no volume is lost or made."""
    if plan.key not in panel.key_names:
        raise PlanError("key", f"The key is one of {', '.join(panel.key_names)}, not {plan.key!r}.")
    d = panel.key_names.index(plan.key)
    keys = _keys(panel)
    if all(key[d] != plan.old for key in keys):
        raise PlanError("old", f"No series has the {plan.key} {plan.old!r}.")
    of_old = [(i, key) for i, key in enumerate(keys) if key[d] == plan.old]
    place = {key: i for i, key in enumerate(keys)}
    fresh = []  # old series whose successor has no history of its own
    for i, key in of_old:
        successor = (*key[:d], plan.new, *key[d + 1 :])
        if successor not in place:
            place[successor] = len(keys)
            keys.append(successor)
            fresh.append(i)
    values = np.concatenate([panel.values, np.full((len(fresh), panel.values.shape[1]), np.nan)])
    drivers = {name: np.concatenate([one, one[fresh]]) for name, one in panel.drivers.items()}
    olds = np.array([i for i, _ in of_old])
    news = np.array([place[(*key[:d], plan.new, *key[d + 1 :])] for _, key in of_old])
    moved = plan.share * values[olds]
    nothing = np.isnan(values[news]) & np.isnan(moved)
    values[news] = np.where(nothing, np.nan, np.nan_to_num(values[news]) + np.nan_to_num(moved))
    values[olds] = values[olds] * (1.0 - plan.share) if plan.share < 1 else np.nan
    kept = np.ones(len(keys), dtype=bool)
    kept[olds] = plan.share < 1
    return _ordered(
        panel, [key for key, stays in zip(keys, kept.tolist(), strict=True) if stays], values[kept],
        {name: one[kept] for name, one in drivers.items()}, {plan.key: {plan.new: plan.old}},
    )  # fmt: skip


def _with_arrivals(panel: Panel, plans: list[Arrival]) -> tuple[Panel, list[tuple[tuple[str, ...], Arrival]]]:
    """The panel with an empty series for each arrival, and the keys of these."""
    if not plans:
        return panel, []
    keys = _keys(panel)
    taken = set(keys)
    found: list[tuple[tuple[str, ...], Arrival]] = []
    stand_in: dict[str, dict[str, str]] = {name: {} for name in panel.key_names}
    for plan in plans:
        missing = next((name for name in panel.key_names if not plan.keys.get(name)), None)
        if missing is not None:
            raise PlanError("keys", f"Say which {missing} it is.")
        key = tuple(plan.keys[name] for name in panel.key_names)
        if key in taken:
            raise PlanError("keys", f"The series {' × '.join(key)} is there already; give it a lifetime instead.")
        taken.add(key)
        found.append((key, plan))
        for name in panel.key_names:
            stand_in[name].setdefault(plan.keys[name], plan.like.get(name, ""))
    values = np.concatenate([panel.values, np.full((len(found), panel.values.shape[1]), np.nan)])
    drivers = {
        name: np.concatenate([one, np.full((len(found), one.shape[1]), np.nan)]) for name, one in panel.drivers.items()
    }
    return _ordered(panel, [*keys, *(key for key, _ in found)], values, drivers, stand_in), found


def _ordered(
    panel: Panel,
    keys: list[tuple[str, ...]],
    values: Floats,
    drivers: dict[str, Floats],
    stand_in: dict[str, dict[str, str]],
) -> Panel:
    """Series in the order of their keys. stand_in: per key, new value -> the one whose attributes it takes over where
    it has none of its own."""
    order = sorted(range(len(keys)), key=lambda i: keys[i])
    columns = {name: [keys[i][d] for i in order] for d, name in enumerate(panel.key_names)}
    attributes: dict[str, dict[str, dict[str, str]]] = {}
    for name in panel.key_names:
        attributes[name] = {}
        for attribute, table in panel.attributes.get(name, {}).items():
            full = dict(table)
            for value in dict.fromkeys(columns[name]):
                if attribute != "name" and full.get(value, "unassigned") == "unassigned":
                    full[value] = table.get(stand_in.get(name, {}).get(value, "")) or "unassigned"
            attributes[name][attribute] = full
    at = np.array(order, dtype=np.int64)
    edges = panel.edges and _edges_with(panel.edges, panel.key_names, keys, stand_in)
    return replace(
        panel, keys=columns, values=values[at], attributes=attributes, edges=edges,
        drivers={name: one[at] for name, one in drivers.items()},
    )  # fmt: skip


def _edges_with(
    edges: Edges, key_names: tuple[str, ...], keys: list[tuple[str, ...]], stand_in: dict[str, dict[str, str]]
) -> Edges:
    """The edges with each series that they do not know beside the one that it stands in for."""
    leading_to: dict[tuple[str, ...], list[int]] = {}
    for e, child in enumerate(edges.children):
        leading_to.setdefault(child, []).append(e)
    copied, fresh = [], []
    for key in keys:
        other = tuple(stand_in.get(name, {}).get(code) or code for name, code in zip(key_names, key, strict=True))
        for e in leading_to.get(other, []) if key not in leading_to else []:
            copied.append(e)
            fresh.append(key)
    return replace(
        edges,
        parents=(*edges.parents, *(edges.parents[e] for e in copied)),
        children=(*edges.children, *fresh),
        splits=(*edges.splits, *(edges.splits[e] for e in copied)),
        levels=(*edges.levels, *(edges.levels[e] for e in copied)),
    )
