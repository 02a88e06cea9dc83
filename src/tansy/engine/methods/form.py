"""A form: one way to forecast, as its text says it, and all that is asked of it.

Every family of methods is a class of forms in a module of its own (`simple`, `smoothing`, `arima` ...), which says how
its text is read and written, how simple it is, how it is fitted, what it means in words and what a planner may change
about it. `registry` lists the families; a new one touches its module and that list.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from tansy.engine.errors import NotationError

if TYPE_CHECKING:
    from tansy.engine.methods.fits import Batch, Fits
    from tansy.engine.methods.method_text import Written

MOST_HARMONICS = 12
BEST = -1
"""Stands for a number that is chosen from the data: harmonics(best), moving-average(best)."""
CHOSEN_POWER = math.inf
"""Stands for boxcox(best)."""

Value = str | float | bool | None


@dataclass(frozen=True)
class Field:
    """One thing about a form that a planner may change.

    kind: "choice" of options, (value, label) each; "count", a whole number in steps, or "number", from least to most;
    "share", a number from least to most, None where it is estimated; "flag"; "names", some of the options, joined by a
    comma. group: what stands above it and those that follow, where it begins something.
    """

    name: str
    label: str
    kind: str
    value: Value
    options: tuple[tuple[str, str], ...] = ()
    least: float = 0.0
    most: float = 0.0
    group: str = ""


@dataclass(frozen=True)
class Surroundings:
    """What fields depend on beside the form: the season's length, what a period is called, names of drivers, and what
    was estimated, by the name of the parameter."""

    season_length: int
    noun: str = "period"
    drivers: tuple[str, ...] = ()
    estimates: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Form:
    """What a method's text says.

    family: the name before the parenthesis. letters: (E, T, S) of smoothing; None in ets(best). orders: (p, d, q),
    seasonal: (P, D, Q) and period: m, 0 without a seasonal part.
    shape: linear, quadratic or exponential. window: periods of a moving average, BEST if chosen; weights: of the
    periods in it, newest first. given: constants fixed by hand. words: bare options, such as drift. choices: options
    that name one of several things, such as start=first. harmonics: pairs, 0 for none, BEST if chosen. shared_season:
    with the season of the group. drivers: entries such as "price", "log price" or "holiday -1..1" (the period before,
    the holiday's own and the one after), which enter linearly. pooled: the same, as factors of demand that are
    estimated over all series of a group. level_shifts: first periods of lasting shifts.
    slope_changes: with a trend whose slope may change. log: on the logarithmic scale.
    power: of a Box-Cox transform, CHOSEN_POWER if chosen.
    """

    family: str
    letters: tuple[str, str, str] | None = None
    orders: tuple[int, int, int] | None = None
    seasonal: tuple[int, int, int] = (0, 0, 0)
    period: int = 0
    shape: str = ""
    window: int = 0
    weights: tuple[float, ...] = ()
    given: dict[str, float] = field(default_factory=dict)
    words: tuple[str, ...] = ()
    choices: dict[str, str] = field(default_factory=dict)
    harmonics: int = 0
    shared_season: bool = False
    drivers: tuple[str, ...] = ()
    level_shifts: tuple[str, ...] = ()
    pooled: tuple[str, ...] = ()
    slope_changes: bool = False
    log: bool = False
    power: float | None = None

    names: ClassVar[tuple[str, ...]] = ()
    """Families that the class reads: names before the parenthesis."""
    examples: ClassVar[tuple[str, ...]] = ()
    """How its methods are written."""
    menu: ClassVar[tuple[tuple[str, str], ...]] = ()
    """Methods to begin with: their text, and what a planner calls them."""
    terms: ClassVar[tuple[str, ...]] = ()
    """What may stand after a plus."""
    bare: ClassVar[bool] = False
    """Whether nothing stands in parentheses after its name."""
    only_options: ClassVar[bool] = False
    """Whether options alone stand there."""
    chooses_pairs: ClassVar[bool] = False
    """Whether it chooses harmonics(best) itself, with its own form."""

    # --- text

    @classmethod
    def read(cls, written: Written) -> Form:
        """The form that a text says. Raises NotationError with the part that is wrong and what would be right."""
        raise NotImplementedError

    def main(self) -> str:
        """What stands in the parenthesis before the options."""
        return ""

    def options(self) -> list[str]:
        """What stands behind the semicolon."""
        return [
            *self.words,
            *(f"{name}={value}" for name, value in self.choices.items()),
            *(f"{name}={value:.12g}" for name, value in self.given.items()),
        ]

    def after(self) -> list[str]:
        """What stands after each plus."""
        return [
            *([f"harmonics({number_text(self.harmonics)})"] if self.harmonics else []),
            *(["shared-season"] if self.shared_season else []),
            *([f"x({', '.join(self.drivers)})"] if self.drivers else []),
            *(f"level-shift({period})" for period in self.level_shifts),
            *(["slope-changes"] if self.slope_changes else []),
            *([f"pooled({', '.join(self.pooled)})"] if self.pooled else []),
        ]

    def head(self) -> str:
        main, options = self.main(), self.options()
        inner = main + ("; " if main and options else "") + ", ".join(options)
        return f"{self.family}({inner})" if inner else self.family

    def __str__(self) -> str:
        text = " + ".join([self.head(), *self.after()])
        return f"{self.scale} {text}" if self.scale else text

    # --- what it is

    @property
    def leaves(self) -> tuple[Form, ...]:
        """The methods that are fitted: itself, or the parts of a blend."""
        return (self,)

    @property
    def brief(self) -> str:
        """The form in a few words, for where there is no room for its text."""
        return str(self)

    @property
    def shares_season(self) -> bool:
        """Whether it, or a part of it, is given the season of its group."""
        return any(leaf.shared_season for leaf in self.leaves)

    @property
    def learns(self) -> bool:
        """Whether it, or a part of it, is one model for all series."""
        return any(leaf.learns for leaf in self.leaves if leaf is not self)

    @property
    def transformed(self) -> bool:
        return self.log or self.power is not None

    @property
    def scale(self) -> str:
        """The transform as the text has it, empty where there is none."""
        if self.power is not None:
            return f"boxcox({'best' if self.power == CHOSEN_POWER else f'{self.power:g}'})"
        return "log" if self.log else ""

    @property
    def basis(self) -> str:
        """Which values a likelihood is of: criteria are compared only where this is the same."""
        return f"{self.family} {self.scale}".strip()

    @property
    def searched(self) -> bool:
        """Whether it is looked for among several forms, so that it may be another one from origin to origin."""
        return BEST in (self.harmonics, self.window) or self.power == CHOSEN_POWER

    def richness(self) -> tuple[int, int]:
        """Place among the families from simple to rich, and within the family; of the method without what is held
        around it."""
        raise NotImplementedError

    @property
    def simplicity(self) -> tuple[int, int]:
        """Sorts the methods from simple to rich, in the order of `methods.md`."""
        place, rank = self.richness()
        extra = 2 * (self.harmonics if self.harmonics > 0 else 6 if self.harmonics else 0) + int(self.shared_season)
        beside = self.drivers + self.level_shifts + self.pooled
        if beside or self.slope_changes:
            place, rank = RICHEST, self.dynamics() + len(beside) + self.slope_changes
        return place, rank + extra + (1000 if self.transformed else 0)

    def dynamics(self) -> int:
        """How much of the past a method with drivers takes in."""
        return 0

    @property
    def memory(self) -> int:
        """Coefficients that take correlation out of the errors."""
        return 0

    @property
    def has_season(self) -> bool:
        """Whether it has a season of its own, beside harmonics."""
        return self.shared_season

    def in_words(self) -> str:
        """What the method assumes, in a planner's words; without what is held around it."""
        return str(self)

    def simpler(self) -> list[Form]:
        """What a series that is too short for it is given instead, from near to far; last come naive and mean."""
        return []

    # --- fitting

    def while_pairs_are_chosen(self, batch: Batch) -> Form:
        """What is fitted in its place while pairs of harmonics are chosen by AICc."""
        return self

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        """Fit to every series of a batch, without what is held around the method; see `registry.fit`."""
        raise NotImplementedError

    # --- what a planner may change

    def fields(self, around: Surroundings) -> list[Field]:
        """What a planner may change, in the order in which it is read."""
        return []

    def changed(self, name: str, value: Any, around: Surroundings) -> Form:
        """The form with one of its fields changed, and what cannot stand beside it put right. Raises KeyError where
        it has no such field."""
        raise KeyError(name)


RICHEST = 12
"""Place of the methods with drivers."""


def number_text(value: int) -> str:
    return "best" if value == BEST else str(value)


def whole(value: Any) -> int:
    """A whole number from a screen. Raises NotationError for anything else."""
    if isinstance(value, bool) or not isinstance(value, int | float) or value != int(value):
        raise NotationError(f"{value!r} is no whole number.")
    return int(value)
