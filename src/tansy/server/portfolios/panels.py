"""Panels of loads, kept between requests: a load is frozen, so what was read of it once stays right."""

from __future__ import annotations

import json
from collections.abc import Sequence
from functools import lru_cache

from django.http import Http404

from tansy.engine.graph.graph import node_id, node_ref
from tansy.engine.panel import Panel
from tansy.server.portfolios.models import Load


def key_id(keys: Sequence[str]) -> str:
    """What a series is found by: its key values, whatever stands in them, as a JSON list."""
    return json.dumps(list(keys), ensure_ascii=False, separators=(",", ":"))


def key_parts(key: str) -> list[str]:
    """The key values of `key_id`."""
    parts: list[str] = json.loads(key)
    return parts


def shown(parts: Sequence[str]) -> str:
    """Key values or their names for a person to read. Nothing is ever found by this."""
    return " × ".join(parts)


def panel_of(load: Load) -> Panel:
    return _panel(load.pk)


def keys_of(load: Load) -> list[str]:
    """`key_id` of every series of a load, in order."""
    return _keys(load.pk)


def refs_of(load: Load) -> list[str]:
    """What addresses call every series of a load, in order: as the nodes of studies are called that are series."""
    return _refs(load.pk)


def series_at(load: Load, ref: str) -> int:
    """Position of a series by its `ref`, or by its number, as addresses had it once. Raises Http404 without one."""
    refs = refs_of(load)
    if ref.isdecimal() and len(ref) <= len(str(len(refs))) and int(ref) < len(refs):
        return int(ref)
    try:
        return refs.index(ref)
    except ValueError:
        raise Http404("There is no such series.") from None


def names_of(load: Load) -> list[str]:
    """What every series of a load is called, in order: the names of its key values, or their codes."""
    return _names(load.pk)


def labels_of(load: Load, key: str) -> dict[str, str]:
    """Names of the values of a key column, by their codes; none where there is no column of names."""
    found: dict[str, str] = load.attributes.get(key, {}).get("name", {}) if key in load.key_names else {}
    return found


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _panel.cache_clear()
    _keys.cache_clear()
    _refs.cache_clear()
    _names.cache_clear()


@lru_cache(maxsize=2)
def _panel(load_id: int) -> Panel:
    return Load.objects.get(pk=load_id).panel()


@lru_cache(maxsize=2)
def _keys(load_id: int) -> list[str]:
    panel = _panel(load_id)
    return [key_id(keys) for keys in zip(*(panel.keys[name] for name in panel.key_names), strict=True)]


@lru_cache(maxsize=2)
def _refs(load_id: int) -> list[str]:
    panel = _panel(load_id)
    return [node_ref(node_id(panel.series_key(i))) for i in range(panel.n_series)]


@lru_cache(maxsize=2)
def _names(load_id: int) -> list[str]:
    load, panel = Load.objects.get(pk=load_id), _panel(load_id)
    columns = []
    for name in panel.key_names:
        labels = labels_of(load, name)
        columns.append([labels.get(code) or code for code in panel.keys[name]])
    return [shown(parts) for parts in zip(*columns, strict=True)]
