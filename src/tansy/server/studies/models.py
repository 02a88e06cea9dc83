"""Studies, their runs, and what came out of them per node."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from django.conf import settings
from django.db import models
from django.shortcuts import get_object_or_404
from django.utils import timezone
from numpy.typing import NDArray

from tansy.engine.adjust.adjustment import Adjustment, read_adjustment
from tansy.engine.study.recipe import Recipe, read_recipe
from tansy.server.portfolios.models import Load, Portfolio

_LEAST_REF = 12
"""Letters that a ref has at least; a number of a node has fewer."""


@lru_cache(maxsize=8)
def _recipe_of(text: str) -> Recipe:
    return read_recipe(text)


class Study(models.Model):
    """One recipe applied to one load of a portfolio."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="studies")
    load = models.ForeignKey(Load, on_delete=models.PROTECT, related_name="studies")
    name = models.CharField(max_length=120)
    recipe_text = models.TextField()
    corrections = models.JSONField(default=list, help_text="Those that held when the study was made.")
    kinds_by_hand = models.JSONField(default=dict, help_text="Kinds given by hand, by position of the series.")
    own_plans = models.JSONField(default=list, help_text="Plans of its recipe that the portfolio did not have.")
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)
    archived_at = models.DateTimeField(null=True, help_text="Out of the way since; everything in it stays.")

    class Meta:
        verbose_name_plural = "studies"

    def __str__(self) -> str:
        return self.name

    @property
    def recipe(self) -> Recipe:
        return _recipe_of(self.recipe_text)

    @property
    def result_or_none(self) -> Result | None:
        """What the study found, without its large columns; None while it has not ended well."""
        if "result" in self._state.fields_cache:  # read with the study
            found: Result | None = self._state.fields_cache["result"]
            return found
        return Result.objects.filter(study=self).defer("sheet", "accuracy", "evidence").first()

    @property
    def run(self) -> Run:
        """The newest run; a study has had one since it was made."""
        read: list[Run] | None = getattr(self, "newest_runs", None)  # with the study, by `api.listed`
        return read[0] if read else self.runs.order_by("-id").first()  # type: ignore[return-value]


class Run(models.Model):
    """One attempt to carry a study through, as the worker reports it."""

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        STOPPED = "stopped"
        FAILED = "failed"
        DONE = "done"

    study = models.ForeignKey(Study, on_delete=models.CASCADE, related_name="runs")
    state = models.CharField(max_length=8, choices=State.choices, default=State.QUEUED, db_index=True)
    step = models.CharField(max_length=40, blank=True)
    done = models.PositiveIntegerField(default=0)
    of = models.PositiveIntegerField(default=0)
    seconds_left = models.FloatField(null=True)
    attempts = models.PositiveIntegerField(default=0)
    stop_requested = models.BooleanField(default=False)
    message = models.TextField(blank=True)
    queued_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    heartbeat_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["study"],
                condition=models.Q(state__in=["queued", "running"]),
                name="one_open_run_per_study",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.study} ({self.state})"

    @property
    def is_open(self) -> bool:
        return self.state in (self.State.QUEUED, self.State.RUNNING)

    # Several processes and threads change a run. Every change names the state that it starts from, so that none is made
    # on the strength of a row read earlier.

    def _change(self, *states: str, **columns: Any) -> bool:
        """Change columns while the run is in one of the states; whether it was."""
        changed = Run.objects.filter(pk=self.pk, state__in=states).update(**columns) > 0
        if changed:
            self.refresh_from_db()
        return changed

    def begin(self) -> bool:
        """Take the run up; False where it is not open any more."""
        now = timezone.now()
        return self._change(
            self.State.QUEUED, self.State.RUNNING, state=self.State.RUNNING, attempts=models.F("attempts") + 1,
            started_at=now, heartbeat_at=now, message="",
        )  # fmt: skip

    def report(self, step: str, done: int, of: int, seconds_left: float | None) -> None:
        self._change(
            self.State.RUNNING, step=step, done=done, of=of, seconds_left=seconds_left, heartbeat_at=timezone.now()
        )

    def end(self, state: str, message: str = "") -> bool:
        return self._change(
            self.State.QUEUED, self.State.RUNNING, state=state, message=message, seconds_left=None,
            finished_at=timezone.now(),
        )  # fmt: skip

    def wait_again(self) -> bool:
        """Back to the queue, because the worker was told to end and the run was not: no attempt of its own."""
        return self._change(self.State.RUNNING, state=self.State.QUEUED, attempts=models.F("attempts") - 1)

    def ask_to_stop(self) -> None:
        """A run that has not begun stops at once, one that has within a second or two."""
        stopped = self._change(
            self.State.QUEUED, state=self.State.STOPPED, message="Stopped before it began.", finished_at=timezone.now()
        )
        if not stopped:
            self._change(self.State.RUNNING, stop_requested=True)


class Result(models.Model):
    """What a study found as a whole. Written once, in one transaction with its nodes."""

    study = models.OneToOneField(Study, on_delete=models.CASCADE, related_name="result")
    summary = models.JSONField()
    accuracy = models.JSONField()
    sheet = models.BinaryField(help_text="The Field as gzipped JSON, sent as it is.")
    evidence = models.BinaryField(default=b"", help_text="What the choice stands on, see `study/evidence.py`.")
    together = models.BinaryField(default=b"", help_text="How errors of leads go together, [groups, H, H].")
    methods = models.JSONField()
    parameter_names = models.JSONField()
    probabilities = models.JSONField()
    layers = models.JSONField(help_text="Names of the layers over the base of a forecast, one upon the other.")
    band_levels = models.JSONField()
    seen_at = models.JSONField()
    leads = models.PositiveIntegerField()
    levels = models.JSONField(default=list, help_text="Name and number of nodes of each level, and of all.")
    rmsse = models.FloatField(null=True, help_text="Of what is published, over the series.")
    gain = models.FloatField(null=True, help_text="Over the seasonal naive, in percent.")
    tasks_computed = models.PositiveIntegerField(null=True, help_text="Tasks that were fitted for it.")
    tasks_reused = models.PositiveIntegerField(null=True, help_text="Tasks whose results earlier studies had left.")
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"result of {self.study}"


class Node(models.Model):
    """One node of a study; arrays packed as little-endian float64."""

    study = models.ForeignKey(Study, on_delete=models.CASCADE, related_name="nodes")
    position = models.PositiveIntegerField()
    key = models.CharField(max_length=1000, help_text="As `Graph.ids` has it.")
    ref = models.CharField(max_length=16, help_text="As `Graph.refs` has it, for addresses.")
    level = models.PositiveSmallIntegerField()
    name = models.CharField(max_length=300)
    trail = models.JSONField()
    chosen = models.SmallIntegerField(help_text="Position of the method, -1 where the node is zero by decision.")
    reason = models.CharField(max_length=400, blank=True)
    kind = models.CharField(max_length=60)
    plan = models.CharField(max_length=300, blank=True, help_text="The plan that the forecast comes from.")
    kept = models.CharField(max_length=400, blank=True, help_text="Why its method was kept by hand.")
    kind_figures = models.JSONField()
    wape = models.FloatField(null=True)
    rmsse = models.FloatField(null=True)
    gain = models.FloatField(null=True)
    history = models.BinaryField(help_text="As methods see it, corrected.")
    received = models.BinaryField(default=b"", help_text="As received, where it differs.")
    base = models.BinaryField()
    layers = models.BinaryField(help_text="Means that each of the result's layers left, [layers, H].")
    quantiles = models.BinaryField()
    tested = models.BinaryField()
    tested_quantiles = models.BinaryField()
    chosen_at = models.BinaryField()
    scores = models.BinaryField()
    node_scores = models.BinaryField()
    hits = models.BinaryField()
    origin_wape = models.BinaryField()
    parameters = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["study", "position"], name="node_position"),
            models.UniqueConstraint(fields=["study", "ref"], name="node_ref"),
        ]
        indexes = [
            models.Index(fields=["study", "level"]),
            models.Index(fields=["study", "gain"]),
            models.Index(fields=["study", "kind"]),
        ]

    def __str__(self) -> str:
        return self.name


def node_at(study: int, ref: str, nodes: models.QuerySet[Node] | None = None) -> Node:
    """A node of a study by its `ref`; also "top", and the number it has there, as addresses had it once.

    Raises Http404 where there is none.
    """
    found = Node.objects.all() if nodes is None else nodes
    if ref == "top":
        return get_object_or_404(found, study=study, position=0)
    if ref.isdecimal() and len(ref) < _LEAST_REF:
        return get_object_or_404(found, study=study, position=int(ref))
    return get_object_or_404(found, study=study, ref=ref)


class KeptMethod(models.Model):
    """A method that a planner settled on, for one node or for all series of a kind; studies made later use it."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="kept_methods")
    node = models.CharField(max_length=400, blank=True, help_text="As `Graph.ids` has it.")
    kind = models.CharField(max_length=40, blank=True)
    method = models.CharField(max_length=300)
    reason = models.CharField(max_length=300)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)
    withdrawn_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=models.Q(node="") ^ models.Q(kind=""),
                name="kept_for_a_node_or_a_kind",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.method} for {self.node or self.kind}"

    def withdraw(self) -> None:
        """Let the backtest choose again. The entry stays, with its date."""
        self.withdrawn_at = timezone.now()
        self.save(update_fields=["withdrawn_at"])


class AdjustmentRow(models.Model):
    """One change that a planner makes to the forecast; it lives with the portfolio and holds for every study. Rows are
    never edited: one is undone, redone or withdrawn, and decided anew by another row."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="adjustments")
    act = models.PositiveIntegerField(help_text="Number within its portfolio of what was done at once, undone at once.")
    entries = models.JSONField(help_text="As a recipe has them.")
    node = models.CharField(max_length=1000, help_text="As `Graph.ids` has it.")
    node_name = models.CharField(max_length=300)
    study = models.ForeignKey(Study, on_delete=models.SET_NULL, null=True, related_name="+")
    statistical = models.FloatField(help_text="Sum that was forecast for its periods when it was made.")
    change = models.FloatField(help_text="What it changed of that.")
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)
    undone = models.BooleanField(default=False, help_text="May be redone while its planner did nothing after it.")
    withdrawn_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, null=True, related_name="+")
    withdrawn_at = models.DateTimeField(null=True)

    class Meta:
        verbose_name = "adjustment"
        indexes = [models.Index(fields=["portfolio", "withdrawn_at"]), models.Index(fields=["portfolio", "act"])]

    def __str__(self) -> str:
        return f"{self.node_name}: {self.adjustment.words()}"

    @property
    def adjustment(self) -> Adjustment:
        return read_adjustment(self.entries)

    @property
    def author(self) -> str:
        """Whose judgement it is; somebody else may have kept it over a forecast that moved."""
        return self.adjustment.author or str(self.made_by.username)


class Comment(models.Model):
    """What somebody says of a node, or of the whole, while a forecast is looked at."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="comments")
    study = models.ForeignKey(Study, on_delete=models.SET_NULL, null=True, related_name="+")
    node = models.CharField(max_length=1000, blank=True, help_text="As `Graph.ids` has it; empty for the whole.")
    node_name = models.CharField(max_length=300, blank=True)
    text = models.CharField(max_length=2000)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        indexes = [models.Index(fields=["portfolio", "node"])]

    def __str__(self) -> str:
        return f"{self.made_by}: {self.text[:40]}"


def pack(values: NDArray[Any]) -> bytes:
    return np.ascontiguousarray(values, dtype="<f8").tobytes()


def unpack(packed: bytes | memoryview, *shape: int) -> NDArray[np.float64]:
    return np.frombuffer(packed, dtype="<f8").reshape(shape or -1)
