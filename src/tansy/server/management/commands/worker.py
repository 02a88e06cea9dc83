"""The one worker of a data directory."""

from __future__ import annotations

import fcntl
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError
from django_tasks_db.management.commands.db_worker import Worker
from django_tasks_db.models import DBTaskResult

from tansy.server.studies.models import Run

MAX_ATTEMPTS = 3


def take_up_again() -> int:
    """What a killed worker left RUNNING goes back to the queue, at most three times; returns how many did."""
    Run.objects.filter(state=Run.State.RUNNING, attempts__gte=MAX_ATTEMPTS).update(
        state=Run.State.FAILED,
        message=f"The worker died {MAX_ATTEMPTS} times during this run; it is not tried again.",
    )
    return DBTaskResult.objects.running().update(status="READY", started_at=None)


class Command(BaseCommand):
    help = "Carry out queued runs. One worker per data directory; a lock sees to that."

    def handle(self, *args: Any, **options: Any) -> None:
        lock = (settings.DATA / "worker.lock").open("w")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise CommandError(f"Another worker is at work on {settings.DATA}.") from None
        take_up_again()
        worker = Worker(
            queue_names=["*"], interval=0.3, batch=False, backend_name="default", startup_delay=False, max_tasks=None,
            worker_id="tansy", excluded_queue_names=[],
        )  # fmt: skip
        worker.configure_signals()
        worker.run()
