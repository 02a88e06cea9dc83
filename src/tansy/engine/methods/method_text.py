"""Reading the parts of a method's text."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from tansy.engine.errors import NotationError
from tansy.engine.methods.form import BEST, MOST_HARMONICS
from tansy.engine.timeline import form_of, read_date

WHOLE = re.compile(r"[0-9]{1,6}")
TERM = re.compile(r"\s*([a-z][a-z-]*)\s*(?:\(([^()]*)\))?\s*")
SHARES = ("alpha", "beta", "gamma", "phi")
_DRIVER = re.compile(r"(log )?\s*([^\s,;=.+-][^,;=+]*?)(?:\s+(-?\d+)\.\.(-?\d+))?")
_NUMBER = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)(e[+-]?[0-9]+)?", re.IGNORECASE)


@dataclass(frozen=True)
class Written:
    """A method's text, taken apart.

    text: the whole. name: before the parenthesis; inner: all of what stands in it, main: what stands before the
    options, which may be all of it. seasonal, period: a second parenthesis and what follows it, where there is one.
    around: what stands after each plus and before the name, by the names of `Form`.
    """

    text: str
    name: str
    inner: str
    main: str
    options: Options
    seasonal: str | None
    period: str
    around: Mapping[str, Any]

    @property
    def transformed(self) -> bool:
        return bool(self.around["log"]) or self.around["power"] is not None

    @property
    def entries(self) -> list[str]:
        return [entry.strip() for entry in self.main.split(",")]

    def wrong(self, says: str) -> NotationError:
        return NotationError(f"{self.text!r}: {says}")

    def nothing_more(self) -> None:
        """Raise where there are options after all."""
        self.options.take_words(())
        self.options.take_numbers(())


class Options:
    """Options after the semicolon: words, name=number and name=choice."""

    def __init__(self, text: str, tail: str) -> None:
        self.text = text
        self.words: list[str] = []
        self.pairs: dict[str, str] = {}
        for option in filter(None, (piece.strip() for piece in tail.split(","))):
            name, sign, value = (piece.strip() for piece in option.partition("="))
            if sign:
                self.pairs[name] = value
            else:
                self.words.append(name)

    def wrong(self, says: str) -> NotationError:
        return NotationError(f"{self.text!r}: {says}")

    def take_words(self, known: tuple[str, ...]) -> tuple[str, ...]:
        for word in self.words:
            if word not in known:
                raise self.wrong(f"{word!r} is not an option here; known are {', '.join(known) or 'none'}.")
        return tuple(word for word in known if word in self.words)

    def take_choice(self, name: str, known: tuple[str, ...]) -> dict[str, str]:
        value = self.pairs.pop(name, None)
        if value is None:
            return {}
        if value not in known:
            raise self.wrong(f"{name} is one of {', '.join(known)}, not {value!r}.")
        return {name: value}

    def take_numbers(self, known: tuple[str, ...]) -> dict[str, float]:
        """What is left: constants. A season may be given as season1, season2, ... where `season` is known."""
        given: dict[str, float] = {}
        for name, value in self.pairs.items():
            is_season = "season" in known and re.fullmatch(r"season[1-9]\d*", name)
            if (name not in known or name == "season") and not is_season:
                listed = ", ".join("season1, season2, ..." if n == "season" else n for n in known)
                raise self.wrong(f"{name} is not a constant of this form; it has {listed or 'none'}.")
            try:
                given[name] = read_number(value)
            except ValueError:
                raise self.wrong(f"{name} is set to {value!r}, which is not a number.") from None
            if name in SHARES and not 0.0 <= given[name] <= 1.0:
                raise self.wrong(f"{name} lies between 0 and 1, not {given[name]:g}.")
        return given


_WRITTEN = {
    "harmonics": "harmonics(K)", "x": "x(price, promotion)", "level-shift": "level-shift(2025-W10)",
    "pooled": "pooled(price, promotion)",
}  # fmt: skip


def read_terms(text: str, name: str, known: tuple[str, ...], parts: list[str], transformed: bool) -> dict[str, Any]:
    """What stands after each plus."""
    harmonics, shared, bent, shifts = 0, False, False, list[str]()
    drivers: tuple[str, ...] = ()
    pooled: tuple[str, ...] = ()
    for part in parts:
        term = TERM.fullmatch(part)
        what, inner = (term.group(1), (term.group(2) or "").strip()) if term else ("", "")
        if what not in known:
            raise NotationError(
                f"{text!r}: {name} takes {', '.join(_WRITTEN.get(one, one) for one in known) or 'nothing'} after +, "
                f"not {part.strip()!r}."
            )
        taken = {"harmonics": harmonics, "shared-season": shared, "x": drivers, "pooled": pooled, "slope-changes": bent}
        if taken.get(what):
            raise NotationError(f"{text!r}: {what} stands there twice.")
        if what == "shared-season" and not inner:
            shared = True
        elif what == "slope-changes" and not inner:
            bent = True
        elif what == "x":
            drivers = read_drivers(text, inner, "x(price, promotion)")
        elif what == "pooled":
            pooled = read_drivers(text, inner, "pooled(price, promotion)")
        elif what == "level-shift":
            form = form_of(inner)
            if form in (None, "serial") or read_date(inner, str(form)) is None or inner in shifts:
                raise NotationError(f"{text!r}: level-shift needs a period of its own, as in level-shift(2025-W10).")
            shifts.append(inner)
        elif inner == "best":
            harmonics = BEST
        elif WHOLE.fullmatch(inner) and 1 <= int(inner) <= MOST_HARMONICS:
            harmonics = int(inner)
        else:
            raise NotationError(
                f"{text!r}: harmonics needs a whole number of pairs from 1 to {MOST_HARMONICS}, as in harmonics(3), "
                "or harmonics(best)."
            )
    if shared and transformed:
        raise NotationError(f"{text!r}: shared-season is not to be had on a transformed scale so far.")
    if harmonics and shared:
        raise NotationError(f"{text!r}: harmonics and shared-season are the same season; leave one out.")
    if pooled and transformed:
        raise NotationError(f"{text!r}: pooled effects are factors already; leave the transform out.")
    return {
        "harmonics": harmonics, "shared_season": shared, "drivers": drivers, "level_shifts": tuple(shifts),
        "pooled": pooled, "slope_changes": bent,
    }  # fmt: skip


def read_drivers(text: str, inner: str, example: str) -> tuple[str, ...]:
    """Entries of x(...): a driver's name, its logarithm, or it with the periods around it."""
    found: list[str] = []
    for entry in inner.split(","):
        match = _DRIVER.fullmatch(entry.strip())
        if match is None:
            raise NotationError(
                f"{text!r}: {entry.strip()!r} is not a driver; name drivers as in {example}, with log before one or "
                "the periods around it after, as in x(log price, holiday -1..1)."
            )
        log, name, first, last = match.groups()
        if first is not None and not -12 <= int(first) <= int(last) <= 12:
            raise NotationError(f"{text!r}: periods around {name} run from one to a later one, at most 12 away.")
        found.append(f"{log or ''}{name}" + (f" {int(first)}..{int(last)}" if first is not None else ""))
    if len(set(found)) < len(found):
        raise NotationError(f"{text!r}: a driver stands there twice.")
    return tuple(found)


def driver_of(entry: str) -> tuple[str, bool, range]:
    """Name, whether its logarithm is meant, and the periods around, of one of `Form.drivers`."""
    match = _DRIVER.fullmatch(entry)
    assert match is not None, "entries of a form have been read"
    log, name, first, last = match.groups()
    return name, bool(log), range(int(first), int(last) + 1) if first is not None else range(1)


def read_number(written: str) -> float:
    """A finite number in ordinary decimals; a ValueError for the rest that Python reads too (nan, inf, 1_0)."""
    if not _NUMBER.fullmatch(written.strip()) or not math.isfinite(value := float(written)):
        raise ValueError(written)
    return value
