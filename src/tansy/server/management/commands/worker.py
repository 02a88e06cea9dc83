"""The one worker of a data directory."""

from __future__ import annotations

import fcntl
import logging
import sys
import threading
import time
from datetime import UTC, datetime, timedelta
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError
from django.db import connection, transaction
from django.db.backends.signals import connection_created
from django_tasks_db.management.commands.db_worker import Worker
from django_tasks_db.models import DBTaskResult

from tansy.server.backup import scheduled
from tansy.server.data_folder import database
from tansy.server.releases.webhooks import Sender
from tansy.server.studies import running
from tansy.server.studies.models import Run
from tansy.server.studies.tasks import carry_out
from tansy.server.watch.health import beat

MAX_ATTEMPTS = 3
_WAITS = 600
"""Seconds for whoever writes something large, such as a portfolio that is taken in. People wait for less."""
_LOOKS_EVERY = 600.0  # seconds: whether a day has passed since the last backup

_log = logging.getLogger(__name__)


def take_up_again() -> int:
    """Every run that claims to be open goes back to the queue with a task of its own, unless the worker has died over
    it three times; tasks that belong to no open run are dropped. Returns how many runs wait."""
    Run.objects.filter(state=Run.State.RUNNING, attempts__gte=MAX_ATTEMPTS).update(
        state=Run.State.FAILED,
        message=f"The worker died {MAX_ATTEMPTS} times during this run, as where the machine has no memory left; it is "
        "not tried again. Run it on fewer series, or on a larger machine: what was fitted is kept.",
    )
    with transaction.atomic():
        DBTaskResult.objects.filter(status__in=["READY", "RUNNING"]).delete()
        Run.objects.filter(state=Run.State.RUNNING).update(state=Run.State.QUEUED)
        waiting = list(Run.objects.filter(state=Run.State.QUEUED).order_by("pk").values_list("pk", flat=True))
        for pk in waiting:
            carry_out.enqueue(pk)
    return len(waiting)


def back_up_daily() -> None:
    """Write a backup a day, for as long as the worker lives. What goes wrong is logged, and tried again."""
    while True:
        try:
            kept = database(settings.DATA)
            now = datetime.now(UTC)
            path = scheduled(kept, settings.DATA, settings.BACKUP_FOLDER, settings.BACKUPS, now, timedelta(days=1))
            if path is not None:
                _log.warning("backup written to %s", path)
        except Exception:
            _log.exception("no backup was written")
        time.sleep(_LOOKS_EVERY)


def wait_long(connection: Any, **more: Any) -> None:
    """Of every connection that this process opens: a run is not given up because another writes."""
    with connection.cursor() as cursor:
        cursor.execute(f"PRAGMA busy_timeout = {1000 * _WAITS}")


class GentleWorker(Worker):
    """Ends when it is told to: the run under way goes back to the queue. Told again, as where every process of a
    terminal or a service hears the same signal, it goes on ending."""

    def shutdown(self, signum: int, frame: Any) -> None:
        running.end_worker()
        self.running = False
        if not self.running_task:
            sys.exit(0)


class Command(BaseCommand):
    help = "Carry out queued runs. One worker per data directory; a lock sees to that."

    def handle(self, *args: Any, **options: Any) -> None:
        lock = (settings.DATA / "worker.lock").open("w")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise CommandError(f"Another worker is at work on {settings.DATA}.") from None
        connection_created.connect(wait_long)
        connection.close()
        take_up_again()
        Sender().start()
        threading.Thread(target=beat, args=(settings.DATA,), daemon=True, name="beat").start()
        if settings.BACKUPS > 0:
            threading.Thread(target=back_up_daily, daemon=True, name="backups").start()
        worker = GentleWorker(
            queue_names=["*"], interval=0.3, batch=False, backend_name="default", startup_delay=False, max_tasks=None,
            worker_id="tansy", excluded_queue_names=[],
        )  # fmt: skip
        worker.configure_signals()
        worker.run()
