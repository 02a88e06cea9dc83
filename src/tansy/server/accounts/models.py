"""Tokens for machines. Only a hash is kept; the token itself is shown once."""

from __future__ import annotations

import hashlib
import secrets

from django.conf import settings
from django.db import models


def digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


class Token(models.Model):
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=80)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.name

    @classmethod
    def issue(cls, user: settings.AUTH_USER_MODEL, name: str) -> tuple[Token, str]:  # type: ignore[name-defined]
        """A new token and its text, which cannot be had again."""
        text = f"tansy_{secrets.token_urlsafe(32)}"
        return cls.objects.create(user=user, name=name, digest=digest(text)), text
