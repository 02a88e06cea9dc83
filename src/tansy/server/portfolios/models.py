"""What a team plans together: loads of history and the series in them."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.conf import settings
from django.db import models

from tansy.engine.panel import Panel
from tansy.engine.timeline import Timeline


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
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.name

    @property
    def load(self) -> Load:
        """The history that studies see: the newest load."""
        return self.loads.order_by("-id").first()  # type: ignore[return-value]


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
    frequency = models.CharField(max_length=1)
    first_period = models.IntegerField()
    n_periods = models.PositiveIntegerField()
    season_length = models.PositiveIntegerField()
    key_names = models.JSONField()
    attributes = models.JSONField()
    levels = models.JSONField()

    class Meta:
        constraints = [
            models.CheckConstraint(condition=models.Q(n_series__gt=0, n_periods__gt=0), name="load_not_empty"),
            models.CheckConstraint(condition=models.Q(frequency__in=list("DWMQY")), name="load_frequency"),
        ]

    def __str__(self) -> str:
        return self.file_name

    @property
    def timeline(self) -> Timeline:
        return Timeline(self.frequency, self.first_period, self.n_periods, self.season_length)

    def panel(self) -> Panel:
        """The series as the engine takes them."""
        rows = list(self.series.order_by("position").values_list("keys", "packed"))
        values = np.frombuffer(b"".join(packed for _, packed in rows), dtype="<f8").reshape(len(rows), self.n_periods)
        keys = {name: [keys[d] for keys, _ in rows] for d, name in enumerate(self.key_names)}
        return Panel(self.timeline, tuple(self.key_names), keys, values, self.attributes)


class Series(Frozen):
    """One series of a load: its key, and its values packed as little-endian float64."""

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="series")
    position = models.PositiveIntegerField()
    keys = models.JSONField()
    packed = models.BinaryField()

    class Meta:
        verbose_name_plural = "series"
        constraints = [models.UniqueConstraint(fields=["load", "position"], name="series_position")]

    def __str__(self) -> str:
        return " × ".join(self.keys)
