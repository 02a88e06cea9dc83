"""Where results of tasks are kept for all studies."""

from __future__ import annotations

from django.conf import settings

from tansy.engine.study.store import Store


def results() -> Store:
    """The store in the data folder; a run sweeps it to its size at its end."""
    return Store(settings.DATA / "store", settings.STORE_MB)
