"""Where results of tasks are kept for all studies."""

from __future__ import annotations

from collections.abc import Callable

from django.conf import settings

from tansy.engine.methods.learned import Learned
from tansy.engine.methods.pooled import Pooled
from tansy.engine.study.store import Store
from tansy.server.api.errors import Unusable


def results() -> Store:
    """The store in the data folder; a run sweeps it to its size at its end."""
    return Store(settings.DATA / "store", settings.STORE_MB)


class OfPages:
    """What pages keep and find there. To learn from all series is a run's work: what no run has left raises
    Unusable."""

    def pooled(self, key: str, compute: Callable[[], Pooled]) -> Pooled:
        return results().pooled(key, compute)

    def learned(self, key: str, compute: Callable[[], Learned]) -> Learned:
        return results().learned(key, _not_here)


def _not_here() -> Learned:
    raise Unusable(
        "The learner learns from all series at once, which is done in a run: add learner to the methods of the recipe, "
        "or run the study again where it has one."
    )
