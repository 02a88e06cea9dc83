"""Which values are suspicious: the rules and their thresholds, as a planner or a recipe sets them."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, get_type_hints

from tansy.engine.entries import frozen, misfit
from tansy.engine.errors import RecipeError

RULES = ("spike", "zero-run", "fence", "same-week", "level-shift", "out-of-stock")
"""In the order in which a value that breaks several is reported."""

WORDS = {
    "spike": "far from what its neighbours in time and its siblings lead one to expect",
    "zero-run": "nothing sold where sales were to be expected",
    "fence": "outside the fences of the quartiles",
    "same-week": "at odds with the same weeks of other years",
    "level-shift": "the level changes for good",
    "out-of-stock": "the stock on hand was used up",
}

REPLACEMENTS = ("expected", "median", "interpolated", "unknown")
LEVELS = ("robust", "plain")


@dataclass(frozen=True)
class Rules:
    """find: rules in use. spike, zero_run, same_week, level_shift: scores from which a value is suspicious, in standard
    deviations of a normal that would be as rare. fence: how many interquartile ranges beyond the quartiles.
    level: "robust" starts from medians and median absolute deviations and refines them with clipped values; "plain"
    takes means and standard deviations, which one wild value inflates. replace: what a spike is replaced by.
    accept_above: score from which `run_study` corrects by itself; None for never.
    """

    find: tuple[str, ...] = ("spike", "zero-run", "out-of-stock")
    spike: float = 4.1
    zero_run: float = 4.1
    fence: float = 3.0
    same_week: float = 4.1
    level_shift: float = 6.0
    level: str = "robust"
    replace: str = "expected"
    accept_above: float | None = None

    def __post_init__(self) -> None:
        unknown = [rule for rule in self.find if rule not in RULES]
        if unknown:
            raise RecipeError(f"[cleaning] find has an unknown rule {unknown[0]!r}; known are {', '.join(RULES)}.")
        if self.level not in LEVELS:
            raise RecipeError(f"[cleaning] level is {' or '.join(LEVELS)}, not {self.level!r}.")
        if self.replace not in REPLACEMENTS:
            raise RecipeError(f"[cleaning] replace is one of {', '.join(REPLACEMENTS)}, not {self.replace!r}.")
        for name in ("spike", "zero_run", "fence", "same_week", "level_shift", "accept_above"):
            value = getattr(self, name)
            if value is None and name == "accept_above":
                continue
            if not value > 0:
                raise RecipeError(f"[cleaning] {name} is a number above 0, not {value!r}.")

    @classmethod
    def from_mapping(cls, entries: dict[str, Any]) -> Rules:
        """From the [cleaning] section of a recipe. Raises RecipeError on an entry that does not belong there."""
        wrong = misfit(entries, get_type_hints(cls))
        if wrong:
            raise RecipeError(f"[cleaning] {wrong[1]}.")
        return cls(**frozen(entries))

    def to_mapping(self) -> dict[str, Any]:
        return {k: list(v) if isinstance(v, tuple) else v for k, v in asdict(self).items() if v is not None}
