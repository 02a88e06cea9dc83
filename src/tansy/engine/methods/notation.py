"""The notation of `methods.md`: a method is one line of text.

`parse` turns text into a `Form`; `str(form)` gives the same text back in one canonical spelling.
"""

from __future__ import annotations

import math
import re
from typing import Any

from tansy.engine.errors import NotationError
from tansy.engine.methods.blend import Blend
from tansy.engine.methods.form import CHOSEN_POWER, Form
from tansy.engine.methods.method_text import TERM, Options, Written, read_number, read_terms
from tansy.engine.methods.registry import FAMILIES, FAMILY_OF

POWERS = (0.0, 2.0)
"""Least and greatest power of a Box-Cox transform."""

_BOXCOX = re.compile(r"\s*boxcox\s*\(([^()]*)\)\s+(?=\S)")
_BLEND = re.compile(r"\s*blend\s*\((.*)\)\s*", re.DOTALL)
_SEASONAL = re.compile(r"\s*([a-z][a-z-]*)\s*\(([^()]*)\)\s*(?:\(([^()]*)\)\s*([0-9]{0,6}))?\s*")


def parse(text: str) -> Form:
    """Read one method. Raises NotationError with the part that is wrong and what would be right."""
    blend = _BLEND.fullmatch(text)
    if blend:
        return _blend(text, blend.group(1))
    rest, around = _scale(text)
    parts = rest.split("+")
    seasonal = _SEASONAL.fullmatch(parts[0])
    seasonal = seasonal if seasonal and seasonal.group(1) == "arima" else None
    head = TERM.fullmatch(parts[0]) or seasonal
    if head is None:
        raise NotationError(
            f"{text!r}: {parts[0].strip()!r} is not a method. Write, for example, ets(A,Ad,N) or arima(1,0,1)."
        )
    name, inner = head.group(1), head.group(2)
    family = FAMILY_OF.get(name)
    if family is Blend:
        raise NotationError(f"{text!r}: transforms and terms belong to the parts of a blend, not around it.")
    transformed = around["log"] or around["power"] is not None
    around |= read_terms(text, name, family.terms if family else (), parts[1:], transformed)
    if family is None:
        *examples, last = [example for one in FAMILIES for example in one.examples]
        raise NotationError(f"{text!r}: there is no method {name!r}. Known are {', '.join(examples)} and {last}.")
    if family.bare and inner is not None:
        raise NotationError(f"{text!r}: {name} takes nothing in parentheses.")
    main, _, tail = (inner or "").partition(";")
    if family.only_options:
        main, tail = "", inner or ""
    options = Options(text, tail)
    groups = seasonal.groups() if seasonal else ("", "", None, None)
    return family.read(Written(text, name, inner or "", main, options, groups[2], groups[3] or "", around))


def _blend(text: str, inner: str) -> Form:
    """`inner`: what stands in the parenthesis, a rule and methods; semicolons inside a method's own parenthesis are
    its own."""
    pieces, depth = [""], 0
    for letter in inner:
        depth += (letter == "(") - (letter == ")")
        if depth < 0:
            raise NotationError(f"{text!r}: transforms and terms belong to the parts of a blend, not around it.")
        if letter == ";" and depth == 0:
            pieces.append("")
        else:
            pieces[-1] += letter
    rule, *texts = (piece.strip() for piece in pieces)
    if any(_BLEND.fullmatch(one) for one in texts):
        raise NotationError(f"{text!r}: a blend holds methods, not other blends.")
    return Blend.of(text, rule, [parse(one) for one in texts])


def _scale(text: str) -> tuple[str, dict[str, Any]]:
    """What follows the transform, and the transform."""
    rest = text.strip()
    log = rest.startswith("log ")
    rest = rest.removeprefix("log ")
    boxcox = _BOXCOX.match(rest)
    if log and boxcox:
        raise NotationError(f"{text!r}: log and boxcox are two transforms of the same values; leave one out.")
    power = _power(text, boxcox.group(1).strip()) if boxcox else None
    return rest[boxcox.end() :] if boxcox else rest, {"log": log, "power": power}


def _power(text: str, inner: str) -> float:
    if inner == "best":
        return CHOSEN_POWER
    try:
        power = read_number(inner)
    except ValueError:
        power = math.nan
    if not POWERS[0] <= power <= POWERS[1]:
        raise NotationError(f"{text!r}: boxcox needs a power from {POWERS[0]:g} to {POWERS[1]:g}, or best.")
    return power
