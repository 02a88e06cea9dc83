"""What each column of a file is, guessed from its name and contents, with the reason."""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass

import polars as pl

from tansy.engine.reading.numbers import numbers
from tansy.engine.reading.totals import adds_up, is_named_total
from tansy.engine.timeline import DOUBTFUL_FORMS, FORM_NAMES, forms_of

_TIME_WORDS = re.compile(r"week|date|day|month|period|quarter|year|time", re.I)
_COUNT_WORDS = re.compile(r"^(t|n|no|nr|index|obs|observation|step|time|period|week|month|day|quarter|year)$", re.I)
_VALUE_WORDS = re.compile(r"units|qty|quantity|sales|sold|demand|volume|value|amount|pieces", re.I)
_KEY_WORDS = re.compile(
    r"^(product|sku|item|article|material|code|store|shop|site|place|location|centre|center|branch|customer|series|key)"
    r"(_?(id|no|nr|number|code|key))?$",
    re.I,
)
_DRIVER_WORDS = re.compile(r"price|promo|holiday|discount|campaign|event|stock|on[ _-]?hand|inventory|closed", re.I)
_SAMPLE = 2000
FURTHER_NUMBERS = "further numbers"
TOTAL_OF_PERIODS = "the sum of the periods"


@dataclass(frozen=True)
class Role:
    """kind: "time", "value", "key", "attribute", "driver", "period" (a column of a wide file) or "ignored".
    of: for an attribute, the key column it describes. reason: why, in words."""

    kind: str
    reason: str
    of: str | None = None


@dataclass(frozen=True)
class Guess:
    layout: str
    roles: dict[str, Role]

    def columns(self, kind: str) -> list[str]:
        return [name for name, role in self.roles.items() if role.kind == kind]


def guess_roles(table: pl.DataFrame, said: tuple[str, ...] = ()) -> Guess:
    """A role for every column; there may be no time or value column among them. said: columns that are periods because
    somebody said so."""
    periods = [name for name in table.columns if name in said] or _named_like_periods(table.columns)
    if len(periods) >= 3 or said:
        why = "a period, as you set it" if said else "its name is a period"
        roles = {name: Role("period", why) for name in periods}
        for name in table.columns:
            holds_numbers = name not in roles and _numeric_share(table[name].head(_SAMPLE)) > 0.8
            if holds_numbers and (is_named_total(name) or adds_up(table.head(_SAMPLE), name, periods)):
                roles[name] = Role("ignored", TOTAL_OF_PERIODS)
        others = [name for name in table.columns if name not in roles]
        ordered = {name: roles.get(name) or Role("key", "stands beside the periods") for name in table.columns}
        return Guess("wide", _attributes(table, ordered, others))
    sample = table.head(_SAMPLE)
    forms = {name: _main_form(sample[name]) for name in table.columns}
    numeric = {name: _numeric_share(sample[name]) for name in table.columns}
    roles = {}
    time = _first(
        [n for n in table.columns if forms[n] and _TIME_WORDS.search(n)],
        [n for n in table.columns if forms[n] not in (None, *DOUBTFUL_FORMS)],
        [n for n in table.columns if _COUNT_WORDS.match(n) and is_numbered(sample[n])],
    )
    if time:
        roles[time] = Role("time", f"holds {FORM_NAMES[forms[time] or 'number']}")
    drivers = [n for n in table.columns if n != time and _DRIVER_WORDS.search(n) and _is_driver(sample[n], numeric[n])]
    numbers_of = [n for n in table.columns if n not in (time, *drivers) and numeric[n] > 0.8]
    measures = [n for n in numbers_of if not _KEY_WORDS.match(n)]
    value = _first([n for n in measures if _VALUE_WORDS.search(n)], measures if len(measures) == 1 else [])
    if value:
        roles[value] = Role(
            "value", "holds numbers and is named so" if _VALUE_WORDS.search(value) else "the only numbers"
        )
    others = []
    for name in table.columns:
        if name in roles:
            continue
        if name in drivers:
            roles[name] = Role("driver", "named like something that is known ahead")
        elif numeric[name] > 0.8 and not _KEY_WORDS.match(name):
            roles[name] = Role("ignored", FURTHER_NUMBERS)
        else:
            roles[name] = Role("key", "named like a key" if _KEY_WORDS.match(name) else "tells series apart")
            others.append(name)
    ordered = {name: roles[name] for name in table.columns}
    return Guess("long", _without_remarks(table, _attributes(table, ordered, others)))


def _named_like_periods(columns: list[str]) -> list[str]:
    forms = forms_of(columns)
    for doubtful in ("compact-month", "compact-week", "serial"):  # numbers that rise from column to column
        rising = [name for name in columns if forms[name] == doubtful]
        if len(rising) >= 3 and all(int(b[:6]) > int(a[:6]) for a, b in itertools.pairwise(rising)):
            return rising
    plain = {None, *DOUBTFUL_FORMS} - {"short-date"}
    return [name for name in columns if forms[name] not in plain or re.fullmatch(r"20\d\d", name)]


def _without_remarks(table: pl.DataFrame, roles: dict[str, Role]) -> dict[str, Role]:
    """A text that is named like no key is not one where period and keys already tell nearly all rows apart."""
    time = [name for name, role in roles.items() if role.kind == "time"]
    named = [name for name, role in roles.items() if role.kind == "key" and _KEY_WORDS.match(name)]
    doubtful = [name for name, role in roles.items() if role.kind == "key" and name not in named]
    if not (time and named and doubtful) or table.select(time + named).n_unique() < 0.95 * table.height:
        return roles
    remark = Role("ignored", f"{' and '.join(named)} already tell the series apart")
    return {name: remark if name in doubtful else role for name, role in roles.items()}


def _attributes(table: pl.DataFrame, roles: dict[str, Role], texts: list[str]) -> dict[str, Role]:
    """Among the text columns, those with one value for each value of a key describe that key."""
    if not texts:
        return roles
    counts = {name: table[name].n_unique() for name in texts}
    named = [name for name in texts if _KEY_WORDS.match(name)]
    keys = named or [max(texts, key=lambda name: counts[name])]
    result = dict(roles)
    for name in texts:
        if name in keys:
            continue
        owners = [key for key in keys if table.select(key, name).n_unique() == counts[key]]
        if counts[name] == 1:
            result[name] = Role("ignored", "the same in every row")
        elif owners:
            owner = min(owners, key=lambda key: (not name.lower().startswith(key.lower()), counts[key]))
            result[name] = Role("attribute", f"one value for each {owner}", owner)
        elif named:
            result[name] = Role("key", "differs between rows of the same keys")
            keys.append(name)
    return result


def _is_driver(column: pl.Series, numeric: float) -> bool:
    """Numbers, or yes and no."""
    words = {"yes", "no", "y", "n", "true", "false", "x", ""}
    return numeric > 0.8 or set(column.str.strip_chars().str.to_lowercase().unique().to_list()) <= words


def is_numbered(column: pl.Series) -> bool:
    """Whether a column holds the whole numbers from 0 or 1 on, none left out."""
    distinct = [text for text in column.str.strip_chars().unique().to_list() if text]
    if len(distinct) < 3 or not all(re.fullmatch(r"\d{1,6}", text) for text in distinct):
        return False
    values = sorted(map(int, distinct))
    return values[0] in (0, 1) and values[-1] - values[0] == len(values) - 1


def _first(*groups: list[str]) -> str | None:
    return next((group[0] for group in groups if group), None)


def _main_form(column: pl.Series) -> str | None:
    """The way of writing periods that at least 60 % of the texts follow."""
    texts = [text for text in column.unique().to_list()[:200] if text]
    forms = [form for form in forms_of(texts).values() if form]
    if not texts or len(forms) < 0.6 * len(texts):
        return None
    return max(set(forms), key=forms.count)


def _numeric_share(column: pl.Series) -> float:
    filled = column.filter(column.str.strip_chars() != "")
    if not len(filled):
        return 0.0
    return 1.0 - numbers(filled).null_count() / len(filled)
