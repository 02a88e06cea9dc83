"""What the worker does."""

from django_tasks import task

from tansy.server.studies import running
from tansy.server.studies.models import Run


@task()
def carry_out(run_id: int) -> None:
    """Carry out a run, unless it was stopped or deleted meanwhile."""
    run = Run.objects.select_related("study__load").filter(pk=run_id).first()
    if run is not None:
        running.carry_out(run)
