"""What tokens may do."""

from __future__ import annotations

from typing import Any

from rest_framework import permissions
from rest_framework.request import Request

from tansy.server.accounts.models import Scope, Token


class WithinScope(permissions.BasePermission):
    """A token does no more than it was made for, and makes no further tokens nor changes passwords."""

    message = "This token may read alone; make one that may act as well."

    def has_permission(self, request: Request, view: Any) -> bool:
        if not isinstance(request.auth, Token):
            return True
        if getattr(view, "people_alone", False):
            self.message = "This is for people who have signed in, not for tokens."
            return False
        return request.method in permissions.SAFE_METHODS or request.auth.scope == Scope.ACT
