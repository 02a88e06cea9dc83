"""What is known of each product and store: from columns of the sales file and from files of their own."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import polars as pl

from tansy.engine.errors import FileError
from tansy.engine.panel import Panel
from tansy.engine.reading.findings import Example, Finding
from tansy.engine.reading.options import ReadOptions

UNASSIGNED = "unassigned"
_NAME_WORDS = re.compile(r"(^|[ _-])(name|description|title|label|designation|bezeichnung|benennung|text)$|name$", re.I)
_ENOUGH_CODES = 8
_LETTERS = re.compile(r"[^\W\d_]{2}")


@dataclass(frozen=True)
class Attributes:
    """values: key -> attribute -> code -> value, "name" being what a code is called. named_by: key -> the column that
    these names come from."""

    values: dict[str, dict[str, dict[str, str]]]
    findings: list[Finding]
    named_by: dict[str, str]


def read_attributes(
    table: pl.DataFrame, options: ReadOptions, tables: Mapping[str, pl.DataFrame], keys: dict[str, list[str]]
) -> Attributes:
    values: dict[str, dict[str, dict[str, str]]] = {key: {} for key in options.keys}
    findings: list[Finding] = []
    wanted = {key: set(names) for key, names in keys.items()}
    for column, key in (options.attribute_columns or {}).items():
        _take(table, "the file", key, column, values[key], findings)
    for name, other in tables.items():
        key = (options.attribute_files or {})[name] or key_of(other, options.keys, name)
        if key not in options.keys:
            raise FileError(f"{name} is to describe {key!r}, which is not a key column ({', '.join(options.keys)}).")
        if key not in other.columns:
            raise FileError(
                f"{name} has no column {key!r} to match its rows by; its columns are {', '.join(other.columns)}."
            )
        for column in other.columns:
            if column != key:
                _take(other, name, key, column, values[key], findings)
        unknown = sorted(wanted[key] - set(other[key].str.strip_chars().to_list()))
        if unknown:
            examples = [Example(0, key, text) for text in unknown[:3]]
            findings.append(
                Finding("missing-attribute", len(unknown), f"not in {name}; grouped as {UNASSIGNED}", examples)
            )
    named_by: dict[str, str] = {}
    for key, attributes in values.items():
        names = _names_among(key, attributes, keys[key])
        if names:
            named_by[key] = names
            attributes["name"] = attributes.pop(names) if _is_name_of(names, key) else dict(attributes[names])
        for attribute, mapping in attributes.items():
            if attribute != "name":
                attributes[attribute] = {k: mapping.get(k) or UNASSIGNED for k in dict.fromkeys(keys[key])}
    return Attributes(values, findings, named_by)


def key_of(table: pl.DataFrame, keys: tuple[str, ...], name: str) -> str:
    """The key column that an attribute file shares with the sales."""
    shared = [key for key in keys if key in table.columns]
    if len(shared) != 1:
        raise FileError(
            f"{name} must have exactly one of the key columns {', '.join(keys)}; it has {', '.join(table.columns)}."
        )
    return shared[0]


def _take(
    table: pl.DataFrame,
    name: str,
    key: str,
    column: str,
    into: dict[str, dict[str, str]],
    findings: list[Finding],
) -> None:
    pairs = table.select(pl.col(key).str.strip_chars(), pl.col(column).str.strip_chars()).unique(maintain_order=True)
    doubled = pairs.filter(pl.col(key).is_duplicated() & (pl.col(key) != ""))
    if doubled.height:
        examples = [Example(0, f"{key} {k}", v) for k, v in doubled.rows()[:3]]
        findings.append(
            Finding(
                "contradiction",
                doubled[key].n_unique(),
                f"{column} in {name} has several values; the first is kept",
                examples,
            )
        )
    into[column] = {k: v for k, v in reversed(pairs.rows()) if k}


def _is_name_of(column: str, key: str) -> bool:
    return column.lower() in ("name", f"{key} name".lower(), f"{key}_name".lower())


def _names_among(key: str, attributes: dict[str, dict[str, str]], codes: list[str]) -> str | None:
    """The column that says what each code is called: named so, or, of codes enough that a group of each its own would
    be odd, with words of its own for nearly every one. Numbers that tell all codes apart are no names."""
    distinct = list(dict.fromkeys(codes))

    def tells_apart(column: str) -> bool:
        texts = [attributes[column].get(code, "") for code in distinct]
        words = sum(bool(_LETTERS.search(text)) for text in texts)
        return len({text for text in texts if text}) >= 0.9 * len(distinct) and words >= 0.9 * len(distinct)

    exact = [one for one in attributes if _is_name_of(one, key)]
    called = [one for one in attributes if _NAME_WORDS.search(one) and tells_apart(one)]
    others = [one for one in attributes if len(distinct) >= _ENOUGH_CODES and tells_apart(one)]
    longest = sorted(others, key=lambda one: -sum(map(len, attributes[one].values())))
    return next(iter((*exact, *called, *longest)), None)


def default_levels(panel: Panel) -> dict[str, list[str]]:
    """Attributes that make good levels: each groups the keys, and each is a refinement of the one above it."""
    levels: dict[str, list[str]] = {}
    for key in panel.key_names:
        distinct = sorted(set(panel.keys[key]))
        described = panel.attributes.get(key, {})
        called = [described.get("name", {}).get(k) or UNASSIGNED for k in distinct]
        known = {
            name: mapping
            for name, mapping in described.items()
            if name != "name"
            and [mapping.get(k) for k in distinct] != called  # names make no level, nearly alike or not
        }
        sizes = {name: len({mapping.get(k) for k in distinct}) for name, mapping in known.items()}
        chosen: list[str] = []
        for name in sorted(known, key=lambda n: -sizes[n]):
            if not 1 < sizes[name] < len(distinct):
                continue
            finer = known[chosen[0]] if chosen else None
            nested = finer is None or len({(finer.get(k), known[name].get(k)) for k in distinct}) == sizes[chosen[0]]
            if nested and (not chosen or sizes[name] < sizes[chosen[0]]):
                chosen.insert(0, name)
        levels[key] = chosen[-3:]
    return levels
