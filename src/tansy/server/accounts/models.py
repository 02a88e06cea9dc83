"""Tokens for machines, of which only a hash is kept, invitations, sign-ins that failed, and who did what."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models, transaction
from django.utils import timezone

INVITED_FOR = timedelta(days=7)


def digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


class Scope(models.TextChoices):
    """What a token may do of what its owner may."""

    READ = "read", "read"
    ACT = "act", "read and act"


class Token(models.Model):
    """It ends with its owner, and when it was said to."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=80)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    scope = models.CharField(max_length=10, choices=Scope, default=Scope.READ)
    expires_at = models.DateTimeField(null=True, help_text="Null of tokens of earlier versions.")

    def __str__(self) -> str:
        return self.name

    @classmethod
    def issue(cls, user: User, name: str, scope: str, days: int) -> tuple[Token, str]:
        """A new token that lasts so many days, and its text, which cannot be had again."""
        text = f"tansy_{secrets.token_urlsafe(32)}"
        until = timezone.now() + timedelta(days=days)
        return cls.objects.create(user=user, name=name, digest=digest(text), scope=scope, expires_at=until), text

    @property
    def has_ended(self) -> bool:
        return self.expires_at is not None and self.expires_at <= timezone.now()


class Invitation(models.Model):
    """A link by which a person chooses a password, once; only a hash of it is kept. A newer one ends those before."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="invitations")
    digest = models.CharField(max_length=64, unique=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    expires_at = models.DateTimeField()

    def __str__(self) -> str:
        return f"for {self.user}"

    @classmethod
    def issue(cls, user: User, made_by: User) -> str:
        """The secret of a new one, which cannot be had again."""
        text = secrets.token_urlsafe(32)
        with transaction.atomic():
            cls.objects.filter(user=user).delete()
            until = timezone.now() + INVITED_FOR
            cls.objects.create(user=user, digest=digest(text), made_by=made_by, expires_at=until)
        return text

    @classmethod
    def of(cls, text: str) -> Invitation | None:
        """The one with a secret, None where it has ended or never was."""
        found = cls.objects.select_related("user").filter(digest=digest(text), expires_at__gt=timezone.now()).first()
        return found if found and found.user.is_active else None


class Identity(models.Model):
    """What a provider of sign-ins calls somebody, in itself and for good."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="identities")
    issuer = models.CharField(max_length=300)
    subject = models.CharField(max_length=255)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["issuer", "subject"], name="one_person_of_a_subject"),
            models.UniqueConstraint(fields=["user", "issuer"], name="one_subject_of_a_person"),
        ]

    def __str__(self) -> str:
        return f"{self.user} at {self.issuer}"


class Trace(models.Model):
    """One act of one person, written once: the database itself refuses to change or delete it. portfolio: its number,
    which outlives it; null of acts in none. by: the token that acted, empty of a person."""

    at = models.DateTimeField(auto_now_add=True, db_index=True)
    who = models.CharField(max_length=150)
    by = models.CharField(max_length=80, blank=True)
    portfolio = models.BigIntegerField(null=True, db_index=True)
    words = models.CharField(max_length=200)

    def __str__(self) -> str:
        return f"{self.who} {self.words}"


class FailedSignIn(models.Model):
    """See `door`. mark: of the browser, empty of one that is not known."""

    name = models.CharField(max_length=150, db_index=True)
    mark = models.CharField(max_length=32, blank=True, db_index=True)
    address = models.CharField(max_length=45, db_index=True)
    at = models.DateTimeField(auto_now_add=True, db_index=True)

    def __str__(self) -> str:
        return f"{self.name} from {self.address}"
