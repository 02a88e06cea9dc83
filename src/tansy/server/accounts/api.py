"""Signing in and out, and tokens."""

from __future__ import annotations

import json

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.db.models import QuerySet
from drf_spectacular.utils import extend_schema
from rest_framework import generics, permissions, serializers, status
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.server.accounts.models import Token


class DemoSerializer(serializers.Serializer):
    username = serializers.CharField()
    password = serializers.CharField()


class SessionSerializer(serializers.Serializer):
    user = serializers.CharField(allow_null=True)
    demo = DemoSerializer(allow_null=True)


class SignInSerializer(serializers.Serializer):
    username = serializers.CharField()
    password = serializers.CharField(trim_whitespace=False)


def demo_sign_in() -> dict[str, str] | None:
    """The demo user's name and password where this data directory was made by `tansy demo`."""
    mark = settings.DEMO_MARK
    return json.loads(mark.read_text()) if mark.exists() else None


def _session(request: Request) -> Response:
    user = request.user.get_username() if request.user.is_authenticated else None
    return Response({"user": user, "demo": None if user else demo_sign_in()})


class SessionView(APIView):
    """Who is signed in. In demo mode, and only there, the demo user's sign-in is told to whoever is not."""

    permission_classes = [permissions.AllowAny]

    @extend_schema(responses=SessionSerializer)
    def get(self, request: Request) -> Response:
        return _session(request)

    @extend_schema(request=SignInSerializer, responses=SessionSerializer)
    def post(self, request: Request) -> Response:
        fields = SignInSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        user = authenticate(request, **fields.validated_data)
        if user is None:
            raise AuthenticationFailed("This name and password do not belong together.")
        login(request, user)
        request.user = user
        return _session(request)

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        logout(request)
        return Response(status=status.HTTP_204_NO_CONTENT)


class TokenSerializer(serializers.ModelSerializer):
    class Meta:
        model = Token
        fields = ["id", "name", "created_at"]


class NewTokenSerializer(TokenSerializer):
    token = serializers.CharField(read_only=True, help_text="Shown once.")

    class Meta(TokenSerializer.Meta):
        fields = ["id", "name", "created_at", "token"]


class TokensView(generics.ListCreateAPIView):
    """Tokens of the person who asks."""

    serializer_class = TokenSerializer
    pagination_class = None

    def get_queryset(self) -> QuerySet[Token]:
        return Token.objects.filter(user=self.request.user.pk).order_by("-created_at")

    @extend_schema(request=TokenSerializer, responses={201: NewTokenSerializer})
    def post(self, request: Request, *args, **kwargs) -> Response:
        fields = TokenSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        token, text = Token.issue(request.user, fields.validated_data["name"])
        return Response({**TokenSerializer(token).data, "token": text}, status=status.HTTP_201_CREATED)


class TokenView(generics.DestroyAPIView):
    serializer_class = TokenSerializer

    def get_queryset(self) -> QuerySet[Token]:
        return Token.objects.filter(user=self.request.user.pk)
