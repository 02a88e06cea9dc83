"""Whether the server can do its work, for whoever keeps it running: `/healthz` and `/metrics`."""

from __future__ import annotations

import os
import shutil
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import DatabaseError, connection
from django.db.models import Count
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.cache import never_cache
from drf_spectacular.utils import extend_schema
from prometheus_client import CONTENT_TYPE_LATEST, REGISTRY, generate_latest
from prometheus_client.core import GaugeMetricFamily
from rest_framework.request import Request
from rest_framework.views import APIView

from tansy.server.portfolios.models import Portfolio
from tansy.server.releases.models import Release
from tansy.server.studies.models import Run, Study

BEATS_EVERY, SILENT = 10.0, 180.0
"""Seconds between two signs of life of the worker, and after how many without one it is said to be gone."""
LEAST_FREE = 200 * 2**20
_BEAT = "worker.beat"


def beat(folder: Path) -> None:
    """Say that the worker lives, for as long as it does."""
    path = folder / _BEAT
    while True:
        with suppress(OSError):  # of a full disk; the next one may be written
            path.touch(mode=0o600)
        time.sleep(BEATS_EVERY)


def _checks() -> dict[str, bool]:
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1 FROM django_migrations LIMIT 1")
        reads = True
    except DatabaseError:
        reads = False
    try:
        lives = abs(time.time() - (settings.DATA / _BEAT).stat().st_mtime) < SILENT  # clocks are set back, too
    except OSError:
        lives = False
    try:
        free = shutil.disk_usage(settings.DATA).free > LEAST_FREE and os.access(settings.DATA, os.W_OK)
    except OSError:
        free = False
    return {"database": reads, "worker": lives, "disk": free}


@never_cache
def healthz(request: HttpRequest) -> HttpResponse:
    """200 where all is well, else 503; what is well and what is not, and nothing more, so that anybody may ask."""
    checks = _checks()
    well = all(checks.values())
    return JsonResponse({"status": "ok" if well else "failing", **checks}, status=200 if well else 503)


class _Kept:
    """Figures that are counted when they are asked for."""

    def collect(self) -> Any:
        states = dict.fromkeys(Run.State.values, 0)
        states |= dict(Run.objects.values_list("state").annotate(n=Count("pk")).values_list("state", "n"))
        runs = GaugeMetricFamily("tansy_runs", "Runs by state.", labels=["state"])
        for state, n in states.items():
            runs.add_metric([state], n)
        yield runs
        for name, model in (("portfolios", Portfolio), ("studies", Study), ("releases", Release)):
            yield GaugeMetricFamily(f"tansy_{name}", f"{name.capitalize()} kept.", value=model.objects.count())
        size = Path(connection.settings_dict["NAME"]).stat().st_size
        yield GaugeMetricFamily("tansy_database_bytes", "Size of the database.", value=size)
        free = shutil.disk_usage(settings.DATA).free
        yield GaugeMetricFamily("tansy_disk_free_bytes", "Room on the disk of the data folder.", value=free)
        for name, holds in _checks().items():
            yield GaugeMetricFamily(f"tansy_{name}_well", "1 where it is well, as /healthz says.", value=float(holds))

    def describe(self) -> list[Any]:
        return []  # nothing is asked of the database before it is there


REGISTRY.register(_Kept())


class MetricsView(APIView):
    """In the open text format, for an administrator's token that reads."""

    administrators_alone = True

    @extend_schema(exclude=True)
    def get(self, request: Request) -> HttpResponse:
        return HttpResponse(generate_latest(REGISTRY), content_type=CONTENT_TYPE_LATEST)
