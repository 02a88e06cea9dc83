"""Panels of loads, kept between requests: a load is frozen, so what was read of it once stays right."""

from __future__ import annotations

from functools import lru_cache

from tansy.engine.panel import Panel
from tansy.server.portfolios.models import Load

_SEPARATOR = " × "


def key_text(keys: list[str] | tuple[str, ...]) -> str:
    """Key of a series in one text."""
    return _SEPARATOR.join(keys)


def key_parts(text: str) -> list[str]:
    return text.split(_SEPARATOR)


def panel_of(load: Load) -> Panel:
    return _panel(load.pk)


def keys_of(load: Load) -> list[str]:
    """Key of every series of a load, in order."""
    return _keys(load.pk)


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _panel.cache_clear()
    _keys.cache_clear()


@lru_cache(maxsize=2)
def _panel(load_id: int) -> Panel:
    return Load.objects.get(pk=load_id).panel()


@lru_cache(maxsize=2)
def _keys(load_id: int) -> list[str]:
    panel = _panel(load_id)
    return [key_text(keys) for keys in zip(*(panel.keys[name] for name in panel.key_names), strict=True)]
