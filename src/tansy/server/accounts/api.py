"""Signing in and out, and tokens."""

from __future__ import annotations

import json
from typing import cast

from django.conf import settings
from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db.models import QuerySet
from drf_spectacular.utils import extend_schema
from rest_framework import generics, permissions, serializers, status
from rest_framework.authentication import SessionAuthentication
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.server.accounts import door, elsewhere
from tansy.server.accounts.acts import Act
from tansy.server.accounts.models import Scope, Token
from tansy.server.accounts.trail import done_by


class DemoSerializer(serializers.Serializer):
    username = serializers.CharField()
    password = serializers.CharField()


class SessionSerializer(serializers.Serializer):
    user = serializers.CharField(allow_null=True)
    administrator = serializers.BooleanField(help_text="Whether the person keeps all portfolios, and who comes in.")
    demo = DemoSerializer(allow_null=True)
    elsewhere = serializers.CharField(
        help_text="What the provider is called by which people may sign in too; empty without one."
    )
    password = serializers.BooleanField(help_text="Whether the person has one here.")
    connects = serializers.BooleanField(help_text="Whether the person could, and has not done so yet.")
    refused = serializers.CharField(help_text="Why the last sign-in by the provider let nobody in.")


class SignInSerializer(serializers.Serializer):
    username = serializers.CharField()
    password = serializers.CharField(trim_whitespace=False)


def demo_sign_in() -> dict[str, str] | None:
    """The demo user's name and password where this data directory was made by `tansy demo`."""
    mark = settings.DEMO_MARK
    return json.loads(mark.read_text()) if mark.exists() else None


def _session(request: Request) -> Response:
    user = request.user.get_username() if request.user.is_authenticated else None
    return Response(
        {
            "user": user,
            "administrator": bool(user and request.user.is_staff),
            "demo": None if user else demo_sign_in(),
            "elsewhere": settings.OIDC_NAME if settings.OIDC else "",
            "password": bool(user) and cast(User, request.user).has_usable_password(),
            "connects": bool(user) and elsewhere.can_connect(cast(User, request.user)),
            "refused": elsewhere.refused(request),
        }
    )


class SessionView(APIView):
    """Who is signed in. In demo mode, and only there, the demo user's sign-in is told to whoever is not."""

    acts = {"POST": Act("signed in"), "DELETE": Act("signed out")}
    permission_classes = [permissions.AllowAny]

    @extend_schema(responses=SessionSerializer)
    def get(self, request: Request) -> Response:
        return _session(request)

    @extend_schema(request=SignInSerializer, responses=SessionSerializer)
    def post(self, request: Request) -> Response:
        SessionAuthentication().enforce_csrf(request)  # a page elsewhere signs nobody in
        fields = SignInSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        name = fields.validated_data["username"]
        door.check(request, name)
        user = authenticate(request, **fields.validated_data)
        if user is None:
            door.failed(request, name)
            raise AuthenticationFailed("This name and password do not belong together.")
        login(request, user)
        request.user = user
        response = _session(request)
        door.leave_mark(response, name)
        return response

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        done_by(request, request.user.get_username() or "nobody")
        logout(request)
        return Response(status=status.HTTP_204_NO_CONTENT)


class PasswordSerializer(serializers.Serializer):
    old = serializers.CharField(trim_whitespace=False)
    new = serializers.CharField(trim_whitespace=False, max_length=200)


def check_password(password: str, user: User, field: str) -> None:
    """Raises ValidationError, at the field, where a password is too easy."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise serializers.ValidationError({field: error.messages}) from None


class PasswordView(APIView):
    """The own password. Other browsers that are signed in with the old one are not any more."""

    acts = {"POST": Act("changed the own password")}
    people_alone = True

    @extend_schema(request=PasswordSerializer, responses={204: None})
    def post(self, request: Request) -> Response:
        fields = PasswordSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        user = cast(User, request.user)  # strangers do not come here
        name = user.get_username()
        door.check(request, name)
        if not user.check_password(fields.validated_data["old"]):
            door.failed(request, name)
            raise serializers.ValidationError({"old": ["This is not your password."]})
        check_password(fields.validated_data["new"], user, "new")
        user.set_password(fields.validated_data["new"])
        user.save(update_fields=["password"])
        update_session_auth_hash(request, user)
        return Response(status=status.HTTP_204_NO_CONTENT)


class TokenSerializer(serializers.ModelSerializer):
    class Meta:
        model = Token
        fields = ["id", "name", "created_at", "scope", "expires_at"]
        read_only_fields = ["expires_at"]


class AskedTokenSerializer(serializers.ModelSerializer):
    days = serializers.IntegerField(min_value=1, max_value=730, default=365, help_text="How long it lasts.")

    class Meta:
        model = Token
        fields = ["name", "scope", "days"]


class NewTokenSerializer(TokenSerializer):
    token = serializers.CharField(read_only=True, help_text="Shown once.")

    class Meta(TokenSerializer.Meta):
        fields = [*TokenSerializer.Meta.fields, "token"]


class TokensView(generics.ListCreateAPIView):
    """Tokens of the person who asks."""

    acts = {"POST": Act("made token {made}, {name}")}
    people_alone = True
    serializer_class = TokenSerializer
    pagination_class = None

    def get_queryset(self) -> QuerySet[Token]:
        return Token.objects.filter(user=self.request.user.pk).order_by("-created_at")

    @extend_schema(request=AskedTokenSerializer, responses={201: NewTokenSerializer})
    def post(self, request: Request, *args, **kwargs) -> Response:
        fields = AskedTokenSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        given = fields.validated_data
        token, text = Token.issue(
            cast(User, request.user), given["name"], given.get("scope", Scope.READ), given["days"]
        )
        return Response({**TokenSerializer(token).data, "token": text}, status=status.HTTP_201_CREATED)


class TokenView(generics.DestroyAPIView):
    acts = {"DELETE": Act("ended token {id}")}
    people_alone = True
    serializer_class = TokenSerializer

    def get_queryset(self) -> QuerySet[Token]:
        return Token.objects.filter(user=self.request.user.pk)
