"""The notation of `methods.md`: a method is one line of text.

`parse` turns text into a `Form`; `str(form)` gives the same text back in one canonical spelling.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field, replace

from tansy.engine.errors import NotationError
from tansy.engine.timeline import MOST_PERIODS, form_of, read_date

PLAIN = ("seasonal-naive", "naive", "mean", "drift", "theta")
"""Methods without anything in parentheses."""
TRENDS = ("linear", "quadratic", "exponential")
INTERMITTENT = ("croston", "sba", "tsb")
TUNE_BY = ("MSE", "MAE", "MAPE")
STARTS = ("first", "season")
RESTRICTIONS = ("no-trend", "damped-trend", "no-multiplicative")
MOST_HARMONICS = 12
BEST = -1
"""Stands for a number that is chosen from the data: harmonics(best), moving-average(best)."""

CHOSEN_POWER = math.inf
"""Stands for boxcox(best)."""
POWERS = (0.0, 2.0)
"""Least and greatest power of a Box-Cox transform."""

ARIMA_BOUNDS = {"p": (5, 8), "q": (5, 8), "P": (2, 3), "Q": (2, 3), "together": (5, 8), "d": (2, 2), "D": (1, 1)}
"""What arima(best) tries, by default and at the very most; `together` is p + q + P + Q."""

_ORDER = (
    "seasonal-naive", "naive", "mean", "drift", "moving-average", "trend", "theta", "ets", *INTERMITTENT, "arima",
    "regression",
)  # fmt: skip
_BOXCOX = re.compile(r"\s*boxcox\s*\(([^()]*)\)\s+(?=\S)")
_DRIVER = re.compile(r"(log )?\s*([^\s,;=.+-][^,;=+]*?)(?:\s+(-?\d+)\.\.(-?\d+))?")
_NUMBER = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)(e[+-]?[0-9]+)?", re.IGNORECASE)
_WHOLE = re.compile(r"[0-9]{1,6}")
_ARIMA = re.compile(r"\s*arima\s*\(([^()]*)\)\s*(?:\(([^()]*)\)\s*([0-9]{0,6}))?\s*")
_TERM = re.compile(r"\s*([a-z][a-z-]*)\s*(?:\(([^()]*)\))?\s*")
_ERRORS, _TRENDS, _SEASONS = ("A", "M"), ("N", "A", "Ad"), ("N", "A", "M")
_SHARES = ("alpha", "beta", "gamma", "phi")
_SPREAD_WORDS = ("resampled", "add-bias")


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

    def __str__(self) -> str:
        options = [
            *self.words,
            *(f"{name}={value}" for name, value in self.choices.items()),
            *(f"{name}={value:.12g}" for name, value in self.given.items()),
        ]
        if self.weights:
            options.append("weights=" + "/".join(f"{weight:g}" for weight in self.weights))
        main = self.shape
        if self.family == "ets":
            main = ",".join(self.letters) if self.letters else "best"
        elif self.family == "moving-average":
            main = _number(self.window)
        elif self.family == "arima":
            main = ",".join(map(str, self.orders)) if self.orders else "best"
        elif self.family == "regression":
            main = ", ".join(self.drivers)
        inner = main + ("; " if main and options else "") + ", ".join(options)
        text = f"{self.family}({inner})" if inner else self.family
        text += f"({','.join(map(str, self.seasonal))}){self.period}" if self.period else ""
        text += f" + harmonics({_number(self.harmonics)})" if self.harmonics else ""
        text += " + shared-season" if self.shared_season else ""
        if self.drivers and self.family != "regression":
            text += f" + x({', '.join(self.drivers)})"
        text += "".join(f" + level-shift({period})" for period in self.level_shifts)
        text += " + slope-changes" if self.slope_changes else ""
        text += f" + pooled({', '.join(self.pooled)})" if self.pooled else ""
        if self.power is not None:
            return f"boxcox({'best' if self.power == CHOSEN_POWER else f'{self.power:g}'}) {text}"
        return f"log {text}" if self.log else text

    @property
    def transformed(self) -> bool:
        return self.log or self.power is not None

    @property
    def simplicity(self) -> tuple[int, int]:
        """Sorts the methods from simple to rich, in the order of `methods.md`."""
        extra = 2 * (self.harmonics if self.harmonics > 0 else 6 if self.harmonics else 0) + int(self.shared_season)
        extra += 1000 if self.transformed else 0
        if self.drivers or self.level_shifts or self.pooled or self.slope_changes:
            p, _, q = self.orders or (0, 0, 0)
            dynamics = p + q + self.seasonal[0] + self.seasonal[2] + 10 * (self.family == "arima" and not self.orders)
            return _ORDER.index("regression"), dynamics + len(
                self.drivers + self.level_shifts + self.pooled
            ) + self.slope_changes + extra
        if self.family == "ets":
            states = 150
            if self.letters:
                states = {"N": 1, "A": 2, "Ad": 3}[self.letters[1]] + (100 if self.letters[2] != "N" else 0)
                states += 10 * (self.letters[0] == "M") + 20 * (self.letters[2] == "M")
            return _ORDER.index("ets"), states + extra
        if self.family == "arima":
            p, _, q = self.orders or (5, 0, 0)
            return _ORDER.index("arima"), p + q + self.seasonal[0] + self.seasonal[2] + extra
        rank = TRENDS.index(self.shape) if self.shape else max(self.window, 0)
        return _ORDER.index(self.family), rank + extra


def _number(value: int) -> str:
    return "best" if value == BEST else str(value)


def parse(text: str) -> Form:
    """Read one method. Raises NotationError with the part that is wrong and what would be right."""
    rest = text.strip()
    log = rest.startswith("log ")
    rest = rest.removeprefix("log ")
    boxcox = _BOXCOX.match(rest)
    power = _power(text, boxcox.group(1).strip()) if boxcox else None
    parts = (rest[boxcox.end() :] if boxcox else rest).split("+")
    arima = _ARIMA.fullmatch(parts[0])
    first = _TERM.fullmatch(parts[0]) or arima
    if first is None:
        raise NotationError(
            f"{text!r}: {parts[0].strip()!r} is not a method. Write, for example, ets(A,Ad,N) or arima(1,0,1)."
        )
    name, inner = ("arima", arima.group(1)) if arima else (first.group(1), first.group(2))
    if log and boxcox:
        raise NotationError(f"{text!r}: log and boxcox are two transforms of the same values; leave one out.")
    terms = _terms(text, name, parts[1:], log or power is not None)
    more: dict[str, object] = {**terms, "log": log, "power": power}
    if name in PLAIN:
        if inner is not None:
            raise NotationError(f"{text!r}: {name} takes nothing in parentheses.")
        return Form(name, log=log, power=power)
    main, _, tail = (inner or "").partition(";")
    if name in INTERMITTENT:
        main, tail = "", inner or ""
    options = _Options(text, tail)
    entries = [entry.strip() for entry in main.split(",")]
    if name == "ets":
        return _smoothing(options, entries, more)
    if name == "arima":
        return _arima(options, entries, arima.group(2) if arima else None, arima.group(3) if arima else "", more)
    if name == "regression":
        options.take_words(())
        options.take_numbers(())
        return Form("regression", **{**more, "drivers": _drivers(text, inner or "", "regression(price, promotion)")})  # type: ignore[arg-type]
    if name == "moving-average":
        return replace(_moving_average(options, main.strip(), log), power=power)
    if name == "trend":
        return _trend(options, main.strip(), log or power is not None)
    if name in INTERMITTENT:
        return _intermittent(options, name, log or power is not None)
    raise NotationError(
        f"{text!r}: there is no method {name!r}. Known are {', '.join(PLAIN)}, moving-average(k), trend(linear), "
        "ets(E,T,S), ets(best), arima(p,d,q), arima(best), regression(price, promotion), croston, sba and tsb."
    )


_TERMS_OF = {
    "ets": ("harmonics", "shared-season", "pooled"),
    "arima": ("harmonics", "x", "level-shift", "slope-changes", "pooled"),
    "regression": ("harmonics", "level-shift", "slope-changes"),
}
_WRITTEN = {
    "harmonics": "harmonics(K)", "x": "x(price, promotion)", "level-shift": "level-shift(2025-W10)",
    "pooled": "pooled(price, promotion)",
}  # fmt: skip


def _terms(text: str, name: str, parts: list[str], transformed: bool) -> dict[str, object]:
    """What stands after each plus."""
    known = _TERMS_OF.get(name, ())
    harmonics, shared, bent, shifts = 0, False, False, list[str]()
    drivers: tuple[str, ...] = ()
    pooled: tuple[str, ...] = ()
    for part in parts:
        term = _TERM.fullmatch(part)
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
            drivers = _drivers(text, inner, "x(price, promotion)")
        elif what == "pooled":
            pooled = _drivers(text, inner, "pooled(price, promotion)")
        elif what == "level-shift":
            form = form_of(inner)
            if form in (None, "serial") or read_date(inner, str(form)) is None or inner in shifts:
                raise NotationError(f"{text!r}: level-shift needs a period of its own, as in level-shift(2025-W10).")
            shifts.append(inner)
        elif inner == "best":
            harmonics = BEST
        elif _WHOLE.fullmatch(inner) and 1 <= int(inner) <= MOST_HARMONICS:
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


def _drivers(text: str, inner: str, example: str) -> tuple[str, ...]:
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


def _read_number(written: str) -> float:
    """A finite number in ordinary decimals; a ValueError for the rest that Python reads too (nan, inf, 1_0)."""
    if not _NUMBER.fullmatch(written.strip()) or not math.isfinite(value := float(written)):
        raise ValueError(written)
    return value


def _power(text: str, inner: str) -> float:
    if inner == "best":
        return CHOSEN_POWER
    try:
        power = _read_number(inner)
    except ValueError:
        power = math.nan
    if not POWERS[0] <= power <= POWERS[1]:
        raise NotationError(f"{text!r}: boxcox needs a power from {POWERS[0]:g} to {POWERS[1]:g}, or best.")
    return power


class _Options:
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
                given[name] = _read_number(value)
            except ValueError:
                raise self.wrong(f"{name} is set to {value!r}, which is not a number.") from None
            if name in _SHARES and not 0.0 <= given[name] <= 1.0:
                raise self.wrong(f"{name} lies between 0 and 1, not {given[name]:g}.")
        return given


def _smoothing(options: _Options, entries: list[str], more: dict[str, object]) -> Form:
    harmonics, shared = more["harmonics"], more["shared_season"]
    transformed = more["log"] or more["power"] is not None
    if entries == ["best"]:
        words = options.take_words(RESTRICTIONS if transformed else (*RESTRICTIONS, *_SPREAD_WORDS))
        if "no-trend" in words and "damped-trend" in words:
            raise options.wrong("no-trend and damped-trend exclude each other.")
        if options.take_numbers(()):
            raise AssertionError  # take_numbers has raised
        return Form("ets", words=words, **more)  # type: ignore[arg-type]
    if len(entries) != 3 or entries[0] not in _ERRORS or entries[1] not in _TRENDS or entries[2] not in _SEASONS:
        raise options.wrong("write ets(E,T,S) with E in A, M; T in N, A, Ad; S in N, A, M; or ets(best).")
    error, trend, season = entries
    if transformed and "M" in (error, season):
        plain = Form("ets", letters=("A", trend, season.replace("M", "A")), **more)  # type: ignore[arg-type]
        raise options.wrong(f"on a transformed scale proportions are sums already; use {plain}.")
    if transformed and options.words:
        raise options.wrong(f"{options.words[0]} is not to be had on a transformed scale.")
    if (harmonics or shared) and error == "M":
        raise options.wrong("harmonics and shared-season go with additive errors; for errors in proportion, use log.")
    if (harmonics or shared) and season == "M":
        raise options.wrong(f"the season is there twice; use ets(A,{trend},N).")
    words = options.take_words(_SPREAD_WORDS)
    choices = {**options.take_choice("start", STARTS), **options.take_choice("tune", TUNE_BY)}
    if choices and (harmonics or shared):
        raise options.wrong("start and tune are of the recursion done by hand; leave the term after + out.")
    known = ["alpha", *(["beta"] if trend != "N" else []), *(["gamma"] if season != "N" else [])]
    known += [*(["phi"] if trend == "Ad" else []), "level", *(["trend"] if trend != "N" else [])]
    known += ["season"] if season != "N" else []
    given = options.take_numbers(tuple(known))
    if "start" in choices and any(name not in _SHARES for name in given):
        raise options.wrong("start takes the first states from the data; give either it or the states.")
    if choices.get("start") == "season" and season == "N":
        raise options.wrong("start=season needs a form with a season; use start=first.")
    if "tune" in choices and "start" not in choices:
        choices = {"start": "season" if season != "N" else "first", **choices}
    return Form("ets", letters=(error, trend, season), given=given, words=words, choices=choices, **more)  # type: ignore[arg-type]


def _orders(options: _Options, entries: list[str], what: str) -> tuple[int, int, int]:
    if len(entries) != 3 or not all(_WHOLE.fullmatch(entry.strip()) for entry in entries):
        raise options.wrong(f"write {what} with three whole numbers.")
    p, d, q = (int(entry) for entry in entries)
    return p, d, q


def _arima(options: _Options, entries: list[str], seasonal: str | None, period: str, more: dict[str, object]) -> Form:
    if entries == ["best"]:
        return _arima_best(options, seasonal, more)
    p, d, q = _orders(options, entries, "arima(p,d,q) or arima(best)")
    if p > 8 or q > 8 or d > 2:
        raise options.wrong("p and q go up to 8 and d up to 2.")
    sp, sd, sq, m = 0, 0, 0, 0
    if seasonal is not None:
        sp, sd, sq = _orders(options, seasonal.split(","), "the seasonal part (P,D,Q)m")
        if not period or int(period) < 2:
            raise options.wrong("the season length follows the seasonal part, as in arima(0,1,1)(0,1,1)12.")
        if sp > 3 or sq > 3 or sd > 1:
            raise options.wrong("P and Q go up to 3 and D up to 1.")
        m = int(period) if sp + sd + sq else 0
    if more["slope_changes"] and d + sd:
        raise options.wrong("slope-changes is a trend already; leave the differences out.")
    words = options.take_words(("constant", "drift"))
    if len(words) > 1 or (words and d + sd == 0):
        raise options.wrong("one of constant and drift can be asked for where something is differenced.")
    known = [f"ar{i}" for i in range(1, p + 1)] + [f"ma{i}" for i in range(1, q + 1)]
    known += [f"sar{i}" for i in range(1, sp + 1)] + [f"sma{i}" for i in range(1, sq + 1)]
    given = options.take_numbers((*known, *(("mean",) if d + sd == 0 else ())))
    if given.get("mean", 0.0) != 0.0:
        raise options.wrong("a mean can be left out with mean=0; another number is not to be had.")
    return Form("arima", orders=(p, d, q), seasonal=(sp, sd, sq), period=m, words=words, given=given, **more)  # type: ignore[arg-type]


def _arima_best(options: _Options, seasonal: str | None, more: dict[str, object]) -> Form:
    """d and D in the options are given; the other numbers are the most that is tried."""
    if seasonal is not None:
        raise options.wrong("arima(best) looks for the seasonal part itself; leave it out.")
    words = options.take_words(("exhaustive", "no-season"))
    given = options.take_numbers(tuple(ARIMA_BOUNDS))
    if more["slope_changes"]:
        if given.get("d", 0) or given.get("D", 0):
            raise options.wrong("slope-changes is a trend already; leave the differences out.")
        given = {**given, "d": 0.0, "D": 0.0}
    for name, value in given.items():
        if value != int(value) or not 0 <= value <= ARIMA_BOUNDS[name][1]:
            raise options.wrong(f"{name} is a whole number up to {ARIMA_BOUNDS[name][1]}, not {value:g}.")
    return Form("arima", words=words, given=given, **more)  # type: ignore[arg-type]


def _moving_average(options: _Options, main: str, log: bool) -> Form:
    if main != "best" and not (_WHOLE.fullmatch(main) and 1 <= int(main) <= MOST_PERIODS):
        raise options.wrong("write moving-average(k) with the number of periods, or moving-average(best).")
    window = BEST if main == "best" else int(main)
    weights: tuple[float, ...] = ()
    written = options.pairs.pop("weights", None)
    if written is not None:
        try:
            weights = tuple(_read_number(piece) for piece in written.split("/"))
        except ValueError:
            raise options.wrong(f"weights are numbers with / between, newest first, not {written!r}.") from None
        if len(weights) != window or min(weights) < 0.0 or sum(weights) <= 0.0:
            raise options.wrong("there is one weight for each period of the window, newest first, none below zero.")
    options.take_words(())
    options.take_numbers(())
    return Form("moving-average", window=window, weights=weights, log=log)


def _trend(options: _Options, main: str, log: bool) -> Form:
    if log:
        raise options.wrong("a trend is not transformed; one of the logarithms is trend(exponential).")
    if main not in TRENDS:
        raise options.wrong(f"write trend(...) with one of {', '.join(TRENDS)}.")
    words = options.take_words(("indices",))
    options.take_numbers(())
    return Form("trend", shape=main, words=words, log=log)


def _intermittent(options: _Options, name: str, log: bool) -> Form:
    if log:
        raise options.wrong(f"{name} is for demand with zeros, which have no logarithm.")
    options.take_words(())
    given = options.take_numbers(("alpha", "beta"))
    return Form(name, given=given)
