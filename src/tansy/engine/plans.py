"""What planners know that history does not say: products to come, products to go, codes that follow others, events.

Plans stand in the recipe, so a study is still a function of data and recipe alone. History is never changed by them: a
panel with plans is made from it for each run.
"""

from __future__ import annotations

from dataclasses import MISSING, dataclass, field, fields, replace
from typing import Any, get_type_hints

import numpy as np
from numpy.typing import NDArray

from tansy.engine.entries import frozen, misfit
from tansy.engine.errors import PlanError, StructureError
from tansy.engine.panel import Edges, Panel
from tansy.engine.timeline import MOST_PERIODS, NOUN, label, number_of, usual_frequency

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

_EXAMPLE = 2960  # a week to show how periods are written

IN_80_PERCENT = 1.2815515655446004
"""Standard deviations from the middle to the end of a normal's 80 % interval."""


@dataclass(frozen=True)
class Succession:
    """A new code continues an old one: `share` of what the old one sold counts as the new one's, in every period."""

    key: str
    old: str
    new: str
    share: float = 1.0
    kind: str = "succession"


@dataclass(frozen=True)
class Arrival:
    """A series without a past, from `start` on: like another one, at a share of it, or in a range of volume per period
    in which somebody who knows expects four of five periods to lie."""

    keys: dict[str, str]
    start: str
    like: dict[str, str] = field(default_factory=dict)
    share: float = 1.0
    low: float | None = None
    high: float | None = None
    kind: str = "arrival"

    def words(self) -> str:
        if self.like:
            return f"like {' × '.join(self.like.values())} at {100 * self.share:g} %, from {self.start}"
        return f"expected between {self.low:g} and {self.high:g}, from {self.start}"

    def sentence(self) -> str:
        return f"A series without a past, {self.words()}."


@dataclass(frozen=True)
class Lifetime:
    """Series with these keys or attributes sell nothing before `first` and after `last`."""

    where: dict[str, str]
    first: str | None = None
    last: str | None = None
    kind: str = "lifetime"

    def words(self) -> str:
        return " ".join(f"{word} {end}" for word, end in (("from", self.first), ("until", self.last)) if end)

    def sentence(self) -> str:
        return f"Sold {self.words()}, by plan; zero otherwise."


@dataclass(frozen=True)
class Event:
    """A named event and the periods that it touches."""

    name: str
    periods: tuple[str, ...]
    kind: str = "event"


Plan = Succession | Arrival | Lifetime | Event
_KINDS: dict[str, Any] = {
    "succession": Succession, "arrival": Arrival, "lifetime": Lifetime, "event": Event,
}  # fmt: skip


def read_plan(entries: dict[str, Any]) -> Plan:
    """A plan from the recipe or the screen. Raises PlanError that names the field at fault."""
    named = entries.get("kind") if isinstance(entries, dict) else entries
    kind = _KINDS.get(named) if isinstance(named, str) else None
    if kind is None:
        raise PlanError("kind", f"A plan is a {', '.join(_KINDS)}, not {named!r}.")
    given = {name: value for name, value in entries.items() if value is not None}
    wrong = misfit(given, get_type_hints(kind))
    if wrong:
        raise PlanError(wrong[0], f"A plan of kind {named}: {wrong[1]}.")
    try:
        plan: Plan = kind(**frozen(given))
    except TypeError:
        needed = [one.name for one in fields(kind) if one.default is MISSING and one.default_factory is MISSING]
        raise PlanError(next(name for name in needed if name not in given), "This is needed.") from None
    _check(plan)
    return plan


def _check(plan: Plan) -> None:
    if isinstance(plan, Succession | Arrival) and not 0 < plan.share <= (1 if isinstance(plan, Succession) else 100):
        raise PlanError("share", "A share is above 0 and, of a succession, at most 1.")
    if isinstance(plan, Succession) and plan.old == plan.new:
        raise PlanError("new", "The new code is the old one.")
    if isinstance(plan, Arrival):
        period_number("start", plan.start)
        if bool(plan.like) == (plan.low is not None or plan.high is not None):
            raise PlanError("like", "Give either a series that it is like, or the range of volume to expect.")
        if not plan.like:
            for name in ("low", "high"):
                if getattr(plan, name) is None:
                    raise PlanError(name, "Give a number.")
            assert plan.low is not None and plan.high is not None
            if plan.low < 0:
                raise PlanError("low", "Volume cannot be below zero.")
            if plan.high < plan.low:
                raise PlanError("high", f"The upper end, {plan.high:g}, is below the lower end, {plan.low:g}.")
    if isinstance(plan, Lifetime):
        if not plan.where:
            raise PlanError("where", "Say which series: a product, a store, or a group of them.")
        if plan.first is None and plan.last is None:
            raise PlanError("last", "Give the first period, the last one, or both.")
        ends = [period_number(name, text) for name, text in (("first", plan.first), ("last", plan.last)) if text]
        if len(ends) == 2 and ends[0] > ends[1]:
            raise PlanError("last", f"It ends in {plan.last}, before it begins in {plan.first}.")
    if isinstance(plan, Event):
        if not plan.name.strip():
            raise PlanError("name", "Name the event.")
        if not plan.periods:
            raise PlanError("periods", "Give the periods that it touches.")
        for text in plan.periods:
            period_number("periods", text)


def period_number(name: str, text: str, frequency: str | None = None) -> int:
    """Number of the period that `text` names; with a frequency, at that frequency. Raises PlanError at field `name`."""
    number = number_of(text, frequency or usual_frequency(text))
    if number is None:
        raise PlanError(name, f"{text!r} is no period such as {label(_EXAMPLE, 'W')} or {label(_EXAMPLE * 7, 'D')}.")
    return number


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


def with_plans(panel: Panel, plans: tuple[Plan, ...]) -> Planned:
    """The panel that methods see: events as drivers, codes chained, arrivals added.

    Raises PlanError where a plan names a key or series that is not there.
    """
    before = _keys(panel)
    for plan in plans:
        if isinstance(plan, Succession):
            panel = _chained(panel, plan)
    panel, found = _with_arrivals(panel, [plan for plan in plans if isinstance(plan, Arrival)])
    panel = with_events(panel, plans)
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


def with_events(panel: Panel, plans: tuple[Plan, ...]) -> Panel:
    """The panel with each planned event as a driver that is 1 in its periods, for all series."""
    events = [plan for plan in plans if isinstance(plan, Event)]
    if not events:
        return panel
    timeline = panel.timeline
    numbers = {
        event.name: [period_number("periods", text, timeline.frequency) for text in event.periods] for event in events
    }
    for event in events:
        last, written = max(zip(numbers[event.name], event.periods, strict=True))
        if last - timeline.first >= MOST_PERIODS:
            raise PlanError("periods", f"{event.name} is in {written}; look for a mistyped year.")
    length = max(timeline.n_periods + panel.n_ahead, *(max(found) - timeline.first + 1 for found in numbers.values()))
    drivers = {
        name: np.pad(one, ((0, 0), (0, length - one.shape[1])), constant_values=np.nan)
        for name, one in panel.drivers.items()
    }
    for name, found in numbers.items():
        row = np.zeros(length)
        inside = [n - timeline.first for n in found if 0 <= n - timeline.first < length]
        row[inside] = 1.0
        drivers[name] = np.broadcast_to(row, (panel.n_series, length)).copy()
    return replace(panel, drivers=drivers)


def describe(plan: Plan, frequency: str) -> str:
    """A plan in a sentence."""
    if isinstance(plan, Succession):
        part = "all" if plan.share == 1 else f"{100 * plan.share:g} %"
        return f"{plan.key} {plan.new} continues {part} of {plan.old}"
    if isinstance(plan, Arrival):
        return f"{' × '.join(plan.keys.values())} comes: {plan.words()}"
    if isinstance(plan, Lifetime):
        which = " and ".join(f"{name} {value}" for name, value in plan.where.items())
        return f"{which} is sold {plan.words()}"
    noun = NOUN[frequency]
    return f"{plan.name}, {len(plan.periods)} {noun}{'s' if len(plan.periods) != 1 else ''}"
