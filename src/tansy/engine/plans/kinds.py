"""What planners know that history does not say: products to come and to go, codes that follow others, events, public
holidays, and prices and promotions as they are planned.

Plans stand in the recipe, so a study is still a function of data and recipe alone. History is never changed by them: a
panel with plans is made from it for each run.
"""

from __future__ import annotations

from dataclasses import MISSING, dataclass, field, fields
from typing import Any, get_type_hints

from tansy.engine.entries import frozen, misfit
from tansy.engine.errors import PlanError
from tansy.engine.plans.calendars import check_calendar
from tansy.engine.timeline import NOUN, label, number_of, usual_frequency

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


@dataclass(frozen=True)
class Holidays:
    """The public holidays of a country or one of its regions, as the driver `name`.

    of: a code of ISO 3166, such as DE, or DE-BY for a region.
    """

    of: str
    name: str = "holiday"
    kind: str = "holidays"


@dataclass(frozen=True)
class DriverPlan:
    """A driver of series with these keys or attributes, all where there are none, as it is planned from `first`, or
    the end of history, to `last`: `change` is one of DRIVER_CHANGES. What is past is history, and stays as it was."""

    name: str
    last: str
    amount: float
    first: str | None = None
    change: str = "set"
    where: dict[str, str] = field(default_factory=dict)
    kind: str = "driver"

    def words(self) -> str:
        how = {"set": "is", "add": "changes by", "percent": "changes by"}[self.change]
        unit = " %" if self.change == "percent" else ""
        sign = "" if self.change == "set" else "+"
        since = f" from {self.first}" if self.first else ""
        amount = f"{self.amount:{sign}g}".replace("-", "−")
        return f"{how} {amount}{unit}{since} until {self.last}"


DRIVER_CHANGES = ("set", "add", "percent")

Plan = Succession | Arrival | Lifetime | Event | Holidays | DriverPlan
_KINDS: dict[str, Any] = {
    "succession": Succession, "arrival": Arrival, "lifetime": Lifetime, "event": Event, "holidays": Holidays,
    "driver": DriverPlan,
}  # fmt: skip
KINDS = tuple(_KINDS)


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
    if isinstance(plan, Holidays):
        check_calendar(plan.of)
    if isinstance(plan, Holidays | DriverPlan) and not plan.name.strip():
        raise PlanError("name", "Name the driver.")
    if isinstance(plan, DriverPlan):
        if plan.change not in DRIVER_CHANGES:
            raise PlanError("change", f"A driver is changed by {', '.join(DRIVER_CHANGES)}, not {plan.change!r}.")
        last = period_number("last", plan.last)
        if plan.first and period_number("first", plan.first) > last:
            raise PlanError("last", f"It ends in {plan.last}, before it begins in {plan.first}.")


def period_number(name: str, text: str, frequency: str | None = None) -> int:
    """Number of the period that `text` names; with a frequency, at that frequency. Raises PlanError at field `name`."""
    number = number_of(text, frequency or usual_frequency(text))
    if number is None:
        raise PlanError(name, f"{text!r} is no period such as {label(_EXAMPLE, 'W')} or {label(_EXAMPLE * 7, 'D')}.")
    return number


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
    if isinstance(plan, Holidays):
        return f"public holidays of {plan.of}, as {plan.name}"
    if isinstance(plan, DriverPlan):
        which = " and ".join(f"{name} {value}" for name, value in plan.where.items()) or "all series"
        return f"{plan.name} of {which} {plan.words()}"
    noun = NOUN[frequency]
    return f"{plan.name}, {len(plan.periods)} {noun}{'s' if len(plan.periods) != 1 else ''}"
