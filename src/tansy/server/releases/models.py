"""Published forecasts."""

from __future__ import annotations

import hashlib

from django.conf import settings
from django.db import models

from tansy.server.api.errors import Damaged
from tansy.server.portfolios.models import Frozen, Portfolio
from tansy.server.studies.models import Study


class Release(Frozen):
    """A forecast as it went out: numbered within its portfolio, and never changed."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.PROTECT, related_name="releases")
    study = models.ForeignKey(Study, on_delete=models.PROTECT, related_name="releases")
    number = models.PositiveIntegerField()
    published_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    published_at = models.DateTimeField(auto_now_add=True)
    prepared_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, null=True, related_name="+")
    note = models.CharField(max_length=400, blank=True)
    origin = models.CharField(max_length=10)
    first = models.CharField(max_length=10)
    last = models.CharField(max_length=10)
    n_series = models.PositiveIntegerField()
    n_nodes = models.PositiveIntegerField()
    checks = models.JSONField()
    recipe_text = models.TextField(default="", help_text="With the adjustments that were laid over it.")
    adjustments = models.JSONField(default=list, help_text="What planners had changed, in their order.")
    engine = models.CharField(max_length=40, default="", help_text="Version that made it.")
    total = models.JSONField(help_text="Mean of the topmost node per lead.")
    forecasts = models.BinaryField(help_text="All nodes and leads, as Parquet.")
    sha256 = models.CharField(max_length=64)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["portfolio", "number"], name="release_number"),
            models.CheckConstraint(condition=models.Q(number__gt=0), name="release_number_positive"),
        ]

    def __str__(self) -> str:
        return f"R{self.number}"

    @property
    def n_adjustments(self) -> int:
        return len(self.adjustments)

    def content(self) -> bytes:
        """All nodes and leads, as Parquet, as they were published. Raises Damaged where they are not."""
        found = bytes(self.forecasts)
        if hashlib.sha256(found).hexdigest() != self.sha256:
            raise Damaged(
                f"{self} of {self.portfolio} is not what was published: its content has another SHA-256 than was "
                "written down with it. Nothing was given out; put a backup back in which it is sound."
            )
        return found


class Withdrawal(Frozen):
    """That a release is not to be used any more. The release itself stays as it is."""

    release = models.OneToOneField(Release, on_delete=models.PROTECT, related_name="withdrawal")
    reason = models.CharField(max_length=400)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT)
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"{self.release} withdrawn"


class Preparation(Frozen):
    """That somebody holds a forecast to be ready, and asks another one to look at it and sign. It counts while just
    this would go out: what is adjusted after it is to be prepared anew."""

    study = models.ForeignKey(Study, on_delete=models.CASCADE, related_name="preparations")
    adjustments = models.JSONField(help_text="Numbers of those that were laid.")
    note = models.CharField(max_length=400, blank=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"{self.study} prepared by {self.made_by}"


class Webhook(models.Model):
    """An address of another system that is told of releases of a portfolio."""

    portfolio = models.ForeignKey(Portfolio, on_delete=models.CASCADE, related_name="webhooks")
    url = models.CharField(max_length=500)
    secret = models.CharField(max_length=80, help_text="What deliveries are signed with; shown once.")
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.url


class Delivery(models.Model):
    """Something that an address is to hear, until it has. body: as it is sent, every time the same."""

    webhook = models.ForeignKey(Webhook, on_delete=models.CASCADE, related_name="deliveries")
    event = models.CharField(max_length=40)
    body = models.TextField()
    made_at = models.DateTimeField(auto_now_add=True)
    attempts = models.PositiveIntegerField(default=0)
    next_at = models.DateTimeField(null=True, db_index=True, help_text="When it is tried next; null where it is over.")
    delivered_at = models.DateTimeField(null=True)
    answer = models.CharField(max_length=200, blank=True, help_text="What came back last.")

    class Meta:
        verbose_name_plural = "deliveries"

    def __str__(self) -> str:
        return f"{self.event} to {self.webhook}"
