"""The notation of `methods.md`: a method is one line of text.

`parse` turns text into a `Form`; `str(form)` gives the same text back in one canonical spelling.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from tansy.engine.errors import NotationError

SIMPLE = ("seasonal-naive", "naive", "mean", "drift")
_TERM = re.compile(r"\s*([a-z][a-z-]*)\s*(?:\(([^()]*)\))?\s*")
_ERRORS, _TRENDS, _SEASONS = ("A", "M"), ("N", "A", "Ad"), ("N", "A", "M")


@dataclass(frozen=True)
class Form:
    """What a method's text says.

    family: "seasonal-naive", "naive", "mean", "drift", "ets" or "arima". letters: (E, T, S) of smoothing.
    orders: (p, d, q). given: constants fixed by hand. words: bare options, such as drift. harmonics: pairs, 0 for none.
    """

    family: str
    letters: tuple[str, str, str] | None = None
    orders: tuple[int, int, int] | None = None
    given: dict[str, float] = field(default_factory=dict)
    words: tuple[str, ...] = ()
    harmonics: int = 0

    def __str__(self) -> str:
        options = [*self.words, *(f"{name}={value:g}" for name, value in self.given.items())]
        tail = f"; {', '.join(options)}" if options else ""
        text = self.family
        if self.letters:
            text = f"ets({','.join(self.letters)}{tail})"
        elif self.orders:
            text = f"arima({','.join(map(str, self.orders))}{tail})"
        return f"{text} + harmonics({self.harmonics})" if self.harmonics else text

    @property
    def simplicity(self) -> tuple[int, int]:
        """Sorts the methods from simple to rich, in the order of `methods.md`."""
        if self.family in SIMPLE:
            return SIMPLE.index(self.family), 0
        if self.letters:
            states = {"N": 1, "A": 2, "Ad": 3}[self.letters[1]] + (100 if self.letters[2] != "N" else 0)
            return 10, states + 2 * self.harmonics
        p, _, q = self.orders or (0, 0, 0)
        return 11, p + q + 2 * self.harmonics


def parse(text: str) -> Form:
    """Read one method. Raises NotationError with the part that is wrong and what would be right."""
    parts = text.split("+")
    first = _TERM.fullmatch(parts[0])
    if first is None:
        raise NotationError(
            f"{text!r}: {parts[0].strip()!r} is not a method. Write, for example, ets(A,Ad,N) or arima(1,0,1)."
        )
    name, inner = first.group(1), first.group(2)
    harmonics = 0
    for part in parts[1:]:
        term = _TERM.fullmatch(part)
        if term is None or term.group(1) != "harmonics" or harmonics:
            raise NotationError(f"{text!r}: after + only one harmonics(K) is known, not {part.strip()!r}.")
        if not (term.group(2) or "").strip().isdigit() or not 1 <= int(term.group(2)) <= 12:
            raise NotationError(f"{text!r}: harmonics needs a whole number of pairs from 1 to 12, as in harmonics(3).")
        harmonics = int(term.group(2))
    if name in SIMPLE:
        if inner is not None or harmonics:
            raise NotationError(f"{text!r}: {name} takes nothing in parentheses and nothing after +.")
        return Form(name)
    main, _, options = (inner or "").partition(";")
    given, words = _options(text, options)
    entries = [entry.strip() for entry in main.split(",")]
    if name == "ets":
        return _smoothing(text, entries, given, words, harmonics)
    if name == "arima":
        return _arima(text, entries, given, words, harmonics)
    raise NotationError(
        f"{text!r}: there is no method {name!r}. Known are {', '.join(SIMPLE)}, ets(E,T,S) and arima(p,d,q)."
    )


def _options(text: str, options: str) -> tuple[dict[str, float], tuple[str, ...]]:
    given: dict[str, float] = {}
    words: list[str] = []
    for option in filter(None, (piece.strip() for piece in options.split(","))):
        name, sign, number = (piece.strip() for piece in option.partition("="))
        if not sign:
            words.append(name)
            continue
        try:
            given[name] = float(number)
        except ValueError:
            raise NotationError(f"{text!r}: {name} is set to {number!r}, which is not a number.") from None
    return given, tuple(words)


def _smoothing(text: str, entries: list[str], given: dict[str, float], words: tuple[str, ...], harmonics: int) -> Form:
    if len(entries) != 3 or entries[0] not in _ERRORS or entries[1] not in _TRENDS or entries[2] not in _SEASONS:
        raise NotationError(f"{text!r}: write ets(E,T,S) with E in A, M; T in N, A, Ad; S in N, A, M.")
    if entries[0] != "A" or entries[2] == "M":
        raise NotationError(
            f"{text!r}: of the smoothing forms, those with additive errors and season are fitted so far."
        )
    if words:
        raise NotationError(f"{text!r}: {words[0]!r} is not an option of ets; constants are given as alpha=0.3.")
    known = {"alpha", "level"}
    if entries[1] != "N":
        known |= {"beta", "trend"}
    if entries[1] == "Ad":
        known.add("phi")
    if entries[2] != "N":
        known.add("gamma")
    for name, value in given.items():
        is_season = entries[2] != "N" and re.fullmatch(r"season[1-9]\d*", name)
        if name not in known and not is_season:
            raise NotationError(f"{text!r}: {name} is not a constant of this form; it has {', '.join(sorted(known))}.")
        if name in ("alpha", "beta", "gamma", "phi") and not 0.0 <= value <= 1.0:
            raise NotationError(f"{text!r}: {name} lies between 0 and 1, not {value:g}.")
    return Form("ets", letters=(entries[0], entries[1], entries[2]), given=given, harmonics=harmonics)


def _arima(text: str, entries: list[str], given: dict[str, float], words: tuple[str, ...], harmonics: int) -> Form:
    if len(entries) != 3 or not all(entry.isdigit() for entry in entries):
        raise NotationError(f"{text!r}: write arima(p,d,q) with three whole numbers.")
    p, d, q = (int(entry) for entry in entries)
    if p > 8 or q > 8 or d > 2:
        raise NotationError(f"{text!r}: p and q go up to 8 and d up to 2.")
    if given:
        raise NotationError(f"{text!r}: fixed coefficients of arima are not fitted so far.")
    if any(word != "drift" for word in words) or (words and d == 0):
        raise NotationError(f"{text!r}: the one option is drift, with d of 1 or 2.")
    return Form("arima", orders=(p, d, q), words=words, harmonics=harmonics)
