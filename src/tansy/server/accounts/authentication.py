"""`Authorization: Bearer TOKEN` for machines."""

from __future__ import annotations

from typing import Any

from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework import authentication, exceptions
from rest_framework.request import Request

from tansy.server.accounts.models import Token, digest


class TokenAuthentication(authentication.BaseAuthentication):
    keyword = "Bearer"

    def authenticate(self, request: Request) -> tuple[Any, Token] | None:
        word, _, text = request.headers.get("Authorization", "").partition(" ")
        if word != self.keyword:
            return None
        token = Token.objects.select_related("user").filter(digest=digest(text.strip())).first()
        if token is None or not token.user.is_active:
            raise exceptions.AuthenticationFailed("This token is not known; make a new one under Releases.")
        if token.has_ended:
            raise exceptions.AuthenticationFailed("This token has ended; make a new one under Releases.")
        return token.user, token

    def authenticate_header(self, request: Request) -> str:
        return self.keyword


class TokenScheme(OpenApiAuthenticationExtension):
    target_class = TokenAuthentication
    name = "token"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        return {"type": "http", "scheme": "bearer"}
