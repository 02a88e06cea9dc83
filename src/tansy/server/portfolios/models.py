"""What a team plans together: loads of history and the series in them."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from django.conf import settings
from django.db import models
from numpy.typing import NDArray

from tansy.engine.panel import Edges, Panel
from tansy.engine.timeline import FREQUENCIES, Timeline
from tansy.server.accounts.acts import Role


class FrozenQuerySet(models.QuerySet[Any]):
    def update(self, **kwargs: Any) -> int:
        raise TypeError(f"A {self.model._meta.verbose_name} is frozen and cannot be changed.")


class Frozen(models.Model):
    """A row that is written once and never changed, neither by itself nor in bulk."""

    objects = FrozenQuerySet.as_manager()

    class Meta:
        abstract = True

    def save(self, *args: Any, **kwargs: Any) -> None:
        if self.pk is not None and not kwargs.get("force_insert"):
            raise TypeError(f"A {self._meta.verbose_name} is frozen and cannot be changed.")
        super().save(*args, **kwargs)


class Upload(models.Model):
    """A file that was handed in and not loaded yet. The files lie in a folder of their own."""

    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    made_at = models.DateTimeField(auto_now_add=True)
    file_name = models.CharField(max_length=200)
    attribute_names = models.JSONField(default=list)
    sha256 = models.CharField(max_length=64)
    size = models.BigIntegerField()

    def __str__(self) -> str:
        return self.file_name


class Portfolio(models.Model):
    name = models.CharField(max_length=120, unique=True)
    whole_units = models.BooleanField(default=False, help_text="Studies round their forecasts; totals still add up.")
    two_signatures = models.BooleanField(default=False, help_text="Who prepares a release does not sign it.")
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.name

    @property
    def load(self) -> Load:
        """The history that studies see: the newest load."""
        return self.loads.order_by("-id").first()  # type: ignore[return-value]


class Member(models.Model):
    """What a person may do in a portfolio."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="members")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=10, choices=Role)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["portfolio", "user"], name="one_role_each")]

    def __str__(self) -> str:
        return f"{self.user}: {self.role} of {self.portfolio}"


class Load(Frozen):
    """History as received, with the decisions it was read with."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="loads")
    file_name = models.CharField(max_length=200)
    sha256 = models.CharField(max_length=64)
    loaded_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    loaded_at = models.DateTimeField(auto_now_add=True)
    options = models.JSONField()
    findings = models.JSONField()
    n_rows = models.PositiveIntegerField()
    n_refused = models.PositiveIntegerField()
    n_series = models.PositiveIntegerField()
    total = models.FloatField()
    frequency = models.CharField(max_length=2)
    first_period = models.IntegerField()
    n_periods = models.PositiveIntegerField()
    season_length = models.PositiveIntegerField()
    key_names = models.JSONField()
    attributes = models.JSONField()
    levels = models.JSONField()
    edges = models.JSONField(null=True, help_text="Which node or series lies below which parent, where a file says so.")
    driver_names = models.JSONField(default=list)
    n_ahead = models.PositiveIntegerField(default=0, help_text="Periods ahead for which drivers are known.")
    appended = models.JSONField(null=True, help_text="What was new and revised; null where the load began anew.")

    class Meta:
        constraints = [
            models.CheckConstraint(condition=models.Q(n_series__gt=0, n_periods__gt=0), name="load_not_empty"),
            models.CheckConstraint(condition=models.Q(frequency__in=list(FREQUENCIES)), name="load_frequency"),
        ]

    def __str__(self) -> str:
        return self.file_name

    @property
    def timeline(self) -> Timeline:
        return Timeline(self.frequency, self.first_period, self.n_periods, self.season_length)

    def panel(self) -> Panel:
        """The series as the engine takes them."""
        rows = list(self.series.order_by("position").values_list("keys", "packed", "drivers"))
        values = np.frombuffer(b"".join(row[1] for row in rows), dtype="<f8").reshape(len(rows), self.n_periods)
        keys = {name: [row[0][d] for row in rows] for d, name in enumerate(self.key_names)}
        drivers: dict[str, NDArray[np.float64]] = {}
        if self.driver_names:
            shape = (len(rows), len(self.driver_names), self.n_periods + self.n_ahead)
            packed = b"".join(row[2] for row in rows)
            kept_in = "<f8" if len(packed) == 8 * math.prod(shape) else "<f4"  # loads of earlier versions
            cube = np.frombuffer(packed, dtype=kept_in).reshape(shape)
            drivers = {name: cube[:, d].astype(np.float64) for d, name in enumerate(self.driver_names)}
        return Panel(self.timeline, tuple(self.key_names), keys, values, self.attributes, drivers, _edges(self.edges))

    @property
    def is_used(self) -> bool:
        """Whether a study was made from it, so that it cannot be undone any more."""
        return self.studies.exists()


def _edges(kept: dict[str, Any] | None) -> Edges | None:
    if kept is None:
        return None
    children = tuple(tuple(child) for child in kept["children"])
    lists = {name: tuple(kept[name]) for name in ("parents", "splits", "levels")}
    return Edges(kept["name"], children=children, several_keys=kept["several_keys"], **lists)


class Series(Frozen):
    """One series of a load: its key, and its values packed as little-endian float64."""

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="series")
    position = models.PositiveIntegerField()
    keys = models.JSONField()
    packed = models.BinaryField()
    drivers = models.BinaryField(
        default=b"", help_text="float64 [drivers, periods and those ahead]; float32 in loads of earlier versions."
    )

    class Meta:
        verbose_name_plural = "series"
        constraints = [models.UniqueConstraint(fields=["load", "position"], name="series_position")]

    def __str__(self) -> str:
        return " × ".join(self.keys)


class Search(Frozen):
    """Suspicious values that rules have found in a load, packed as a Parquet table of `cleaning.Suspicions`."""

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="searches")
    rules = models.JSONField()
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)
    n_found = models.PositiveIntegerField()
    found = models.BinaryField()

    class Meta:
        verbose_name_plural = "searches"

    def __str__(self) -> str:
        return f"{self.n_found} found in {self.load}"


class Correction(models.Model):
    """A reasoned change of one historical value. What was received is kept in it and in the load; nothing is ever
    overwritten. A correction is reverted, never deleted or edited."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="corrections")
    key = models.CharField(max_length=300, help_text="Key values of the series, as `panels.key_id` writes them.")
    period = models.IntegerField()
    received = models.FloatField(null=True)
    value = models.FloatField(null=True, help_text="What methods see; null is unknown.")
    unjudged = models.BooleanField(default=False, help_text="No forecast is scored by this period.")
    rule = models.CharField(max_length=20, blank=True)
    score = models.FloatField(null=True)
    reason = models.CharField(max_length=200)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)
    reverted_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, null=True, related_name="+")
    reverted_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["portfolio", "key", "period"],
                condition=models.Q(reverted_at__isnull=True),
                name="one_standing_correction_per_value",
            ),
            models.CheckConstraint(condition=~models.Q(reason=""), name="correction_has_a_reason"),
        ]
        indexes = [models.Index(fields=["portfolio", "reverted_at"])]

    def __str__(self) -> str:
        return f"{self.key}, period {self.period}"


class Dismissal(models.Model):
    """A suspicious value that a person found right as it is, so that searches do not bring it up again."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="dismissals")
    key = models.CharField(max_length=300)
    period = models.IntegerField()
    rule = models.CharField(max_length=20)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["portfolio", "key", "period", "rule"], name="dismissed_once"),
        ]

    def __str__(self) -> str:
        return f"{self.key}, period {self.period}: {self.rule}"


class MovedSeries(models.Model):
    """A kind of demand that a person gave to a series by hand."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="moved_series")
    key = models.CharField(max_length=300)
    kind = models.CharField(max_length=20)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        verbose_name_plural = "moved series"
        constraints = [models.UniqueConstraint(fields=["portfolio", "key"], name="moved_once")]

    def __str__(self) -> str:
        return f"{self.key}: {self.kind}"


class Plan(models.Model):
    """What planners know that history does not say; `engine.plans` says what there is."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="plans")
    entries = models.JSONField()
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return str(self.entries.get("kind"))
