"""Signing in where an organisation signs in anyway: OpenID Connect, by settings.

Authorization code with a proof of the key (PKCE), state and nonce, all tied to the session of the browser that asked.
Somebody is known by what the provider calls them in itself (issuer and subject), which never changes. The first time,
who was invited under the name that the provider tells, and has not come in yet, comes in as that; who has a password
here connects while signed in, so that nobody becomes another by choosing their name at the provider.
"""

from __future__ import annotations

import logging
from functools import lru_cache
from typing import Any, cast

from authlib.integrations.base_client import OAuthError
from authlib.integrations.django_client import OAuth
from django.conf import settings
from django.contrib.auth import login
from django.contrib.auth.models import User
from django.core.exceptions import ValidationError
from django.db import transaction
from drf_spectacular.utils import OpenApiResponse, extend_schema
from joserfc.errors import JoseError
from requests import RequestException
from rest_framework import permissions, serializers
from rest_framework.authentication import SessionAuthentication
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.server.accounts import door
from tansy.server.accounts.acts import Act
from tansy.server.accounts.models import Identity
from tansy.server.accounts.trail import done_by, nothing_done
from tansy.server.api.errors import Unusable

_log = logging.getLogger("tansy.elsewhere")
_REFUSED, _CONNECT = "elsewhere-refused", "elsewhere-connect"
_NONE = "No provider is set up here; sign in with a name and a password."
_NO_MORE = "{} does not come in any more; ask an administrator of Tansy."
_WITHIN = 10.0  # seconds, for an answer of the provider


_FAULTS = (RequestException, OAuthError, ValueError, RuntimeError)
"""Of a provider that is silent, refuses, or does not say what it has to."""


class Refused(Exception):
    """Who comes from the provider does not come in; says why."""


@lru_cache(maxsize=1)
def _provider() -> Any:
    return OAuth().register(
        "provider",
        client_id=settings.OIDC_ID,
        client_secret=settings.OIDC_SECRET or None,
        server_metadata_url=f"{settings.OIDC}/.well-known/openid-configuration",
        client_kwargs={
            "scope": "openid profile email",
            "code_challenge_method": "S256",
            "token_endpoint_auth_method": "client_secret_basic" if settings.OIDC_SECRET else "none",
            "default_timeout": _WITHIN,
        },
    )


def forget() -> None:
    """What was read of the provider."""
    _provider.cache_clear()


def refused(request: Request) -> str:
    """Why the last one who came back from the provider in this browser was not let in; until it is tried again."""
    return str(request.session.get(_REFUSED, ""))


def can_connect(user: User) -> bool:
    """Whether somebody could sign in by the provider, and does not yet."""
    return bool(settings.OIDC) and not Identity.objects.filter(user=user, issuer=settings.OIDC).exists()


class AddressSerializer(serializers.Serializer):
    address = serializers.CharField(help_text="Of the provider, to go on at.")


class ElsewhereView(APIView):
    """Where a sign-in by the provider begins. Of somebody who is signed in, it connects them with it."""

    acts = {"POST": Act("")}
    permission_classes = [permissions.AllowAny]

    @extend_schema(request=None, responses=AddressSerializer)
    def post(self, request: Request) -> Response:
        SessionAuthentication().enforce_csrf(request)
        nothing_done(request)
        if not settings.OIDC:
            raise NotFound(_NONE)
        back = request.build_absolute_uri("/api/session/back/")
        try:
            answer = _provider().authorize_redirect(request, back)
        except _FAULTS as error:
            _log.warning("the provider does not answer: %s", error)
            raise Unusable(f"{settings.OIDC_NAME} does not answer now; try again, or ask who runs Tansy.") from None
        request.session[_CONNECT] = request.user.is_authenticated
        request.session.pop(_REFUSED, None)
        return Response({"address": answer["Location"]})


class BackView(APIView):
    """Where the provider sends a browser back to; goes on to the page, which says it where somebody is refused."""

    acts = {"GET": Act("signed in by the provider")}
    permission_classes = [permissions.AllowAny]

    @extend_schema(responses={302: OpenApiResponse(description="To the page.")})
    def get(self, request: Request) -> Response:
        if not settings.OIDC:
            raise NotFound(_NONE)
        connects = request.session.pop(_CONNECT, None)
        try:
            user = _arrived(request, connects)
        except Refused as why:
            request.session[_REFUSED] = str(why)
            nothing_done(request)
            return _on("/sign-in" if not connects else "/")
        if not connects:
            login(request, user)
            request.user = user
        done_by(request, user.get_username())
        response = _on("/")
        door.leave_mark(response, user.get_username())
        return response


def _on(address: str) -> Response:
    return Response(status=302, headers={"Location": address})


def _arrived(request: Request, connects: bool | None) -> User:
    """Who came back. Raises Refused."""
    if connects is None:
        raise Refused("This sign-in was begun in another browser, or is too old; begin it again.")
    try:
        issuer = {"essential": True, "values": [settings.OIDC, f"{settings.OIDC}/"]}
        told = _provider().authorize_access_token(request, claims_options={"iss": issuer})["userinfo"]
        subject, name = str(told["sub"]), str(told.get(settings.OIDC_CLAIM) or "").strip()
    except (*_FAULTS, JoseError, KeyError) as error:
        _log.warning("a sign-in by the provider failed: %s", error)
        raise Refused(f"{settings.OIDC_NAME} did not sign you in; begin it again, or ask who runs Tansy.") from None
    if settings.OIDC_CLAIM == "email" and told.get("email_verified") is not True:
        name = ""
    with transaction.atomic():
        known = Identity.objects.select_related("user").filter(issuer=settings.OIDC, subject=subject).first()
        if connects:
            return _connected(cast(User, request.user), known, subject)
        user = known.user if known else _first_time(name, subject)
    if not user.is_active:
        raise Refused(_NO_MORE.format(user.get_username()))
    return user


def _connected(user: User, known: Identity | None, subject: str) -> User:
    if known and known.user != user:
        raise Refused(f"At {settings.OIDC_NAME} you are {known.user.get_username()} here already.")
    if not user.is_authenticated:
        raise Refused("You are not signed in any more; sign in, and connect again.")
    if not known:
        if not can_connect(user):
            raise Refused(f"You are connected with another account at {settings.OIDC_NAME}.")
        Identity.objects.create(user=user, issuer=settings.OIDC, subject=subject)
    return user


def _first_time(name: str, subject: str) -> User:
    if not name:
        raise Refused(
            f"{settings.OIDC_NAME} tells no {settings.OIDC_CLAIM} of you that can be trusted; ask who runs Tansy."
        )
    user = User.objects.filter(username__iexact=name).first()
    if user is None and settings.OIDC_NEWCOMERS and _can_be_a_name(name):
        user = User.objects.create_user(name)
    if user is None:
        raise Refused(
            f"Nobody is named {name[:150]} here; ask an administrator of Tansy to invite you under that name."
        )
    if not user.is_active:
        raise Refused(_NO_MORE.format(user.get_username()))
    if user.has_usable_password() or not can_connect(user):
        raise Refused(
            f"{name} signs in with a password here; do so, and connect with {settings.OIDC_NAME} under “password”."
        )
    user.invitations.all().delete()
    Identity.objects.create(user=user, issuer=settings.OIDC, subject=subject)
    return user


def _can_be_a_name(name: str) -> bool:
    try:
        User(username=name).clean_fields(exclude=["password"])
    except ValidationError:
        return False
    return True
