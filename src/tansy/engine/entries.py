"""Entries that somebody wrote (a recipe, a plan), held against the types of what they are to fill."""

from __future__ import annotations

import json
import math
import types
from collections.abc import Mapping
from typing import Any, Union, get_args, get_origin

_WORDS: dict[Any, tuple[str, str]] = {
    str: ("a text in quotes", "texts"), int: ("a whole number", "whole numbers"), float: ("a number", "numbers"),
    bool: ("true or false", "true or false"), Any: ("anything", "entries"),
}  # fmt: skip


def misfit(entries: Any, wanted: Mapping[str, Any]) -> tuple[str, str] | None:
    """The first entry at fault and what is wrong with it, in words that follow the name of the section.

    wanted: name -> type, as `typing.get_type_hints` gives it: str, int, float, bool, tuples and tables of these, or
    one of several. None where all entries fit; the name is empty where `entries` is no table at all.
    """
    if not isinstance(entries, dict):
        return "", f"is a table of entries, not {_written(entries)}"
    for name, value in entries.items():
        if name not in wanted:
            return name, f"has an unknown entry {name!r}; known are {', '.join(sorted(wanted))}"
        if not _fits(value, wanted[name]):
            return name, f"{name} is {_in_words(wanted[name])}, not {_written(value)}"
    return None


def frozen(entries: Mapping[str, Any]) -> dict[str, Any]:
    """With tuples for lists, as frozen dataclasses hold them."""
    return {name: tuple(value) if isinstance(value, list) else value for name, value in entries.items()}


def _written(value: Any) -> str:
    return json.dumps(value, default=str, ensure_ascii=False)  # true, not Python's True; a date as TOML has it


def _choices(wanted: Any) -> tuple[Any, ...]:
    return get_args(wanted) if get_origin(wanted) in (Union, types.UnionType) else (wanted,)


def _fits(value: Any, wanted: Any) -> bool:
    if len(_choices(wanted)) > 1:
        return any(_fits(value, one) for one in _choices(wanted))
    if get_origin(wanted) is tuple:
        return isinstance(value, list | tuple) and all(_fits(one, get_args(wanted)[0]) for one in value)
    if get_origin(wanted) is dict:
        return isinstance(value, dict) and all(_fits(one, get_args(wanted)[1]) for one in value.values())
    if wanted is Any:
        return True
    if wanted in (int, float):
        number = isinstance(value, int) or (wanted is float and isinstance(value, float) and math.isfinite(value))
        return number and not isinstance(value, bool)
    return isinstance(value, wanted)


def _in_words(wanted: Any) -> str:
    first = _choices(wanted)[0]  # the others are None: the entry may be left out
    if get_origin(first) is tuple:
        return f"a list of {_many(get_args(first)[0])}"
    if get_origin(first) is dict:
        return f"a table of {_many(get_args(first)[1])}"
    return _WORDS[first][0]


def _many(wanted: Any) -> str:
    if get_origin(wanted) is tuple:
        return f"lists of {_many(get_args(wanted)[0])}"
    if get_origin(wanted) is dict:
        return f"tables of {_many(get_args(wanted)[1])}"
    return _WORDS[wanted][1]
