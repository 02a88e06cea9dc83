"""Everybody who may come in, for administrators; and how who was invited comes in for the first time."""

from __future__ import annotations

from typing import Any, cast

from django.contrib.auth import login
from django.contrib.auth.models import User
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError
from django.db import transaction
from drf_spectacular.utils import extend_schema
from rest_framework import permissions, serializers, status
from rest_framework.authentication import SessionAuthentication
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.server.accounts import door
from tansy.server.accounts.acts import Act
from tansy.server.accounts.api import check_password
from tansy.server.accounts.models import Invitation, Trace
from tansy.server.accounts.trail import TracesSerializer, done_by, file_of, nothing_done, page
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.api.fields import BEFORE

_ENDED = "This link has ended or was used; ask who sent it for another one."


class PersonSerializer(serializers.ModelSerializer):
    """invited: has not come in yet. last_sign_in: null of who never did."""

    name = serializers.CharField(source="username")
    administrator = serializers.BooleanField(source="is_staff")
    active = serializers.BooleanField(source="is_active")
    invited = serializers.SerializerMethodField()
    last_sign_in = serializers.DateTimeField(source="last_login", allow_null=True)

    class Meta:
        model = User
        fields = ["id", "name", "administrator", "active", "invited", "last_sign_in"]

    def get_invited(self, user: User) -> bool:
        return waits(user)


class NewPersonSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=150)


class PersonChangeSerializer(serializers.Serializer):
    administrator = serializers.BooleanField(required=False)
    active = serializers.BooleanField(required=False, help_text="Who is not does not come in, nor do their tokens.")


class LinkSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    link = serializers.CharField(help_text="Where to choose a password, once and within seven days. Shown once.")


class JoinSerializer(serializers.Serializer):
    secret = serializers.CharField(max_length=100)
    password = serializers.CharField(trim_whitespace=False, max_length=200, required=False)


class JoinedSerializer(serializers.Serializer):
    name = serializers.CharField()


def waits(user: User) -> bool:
    """Whether somebody was invited and has not chosen a password yet, nor come in by the provider of sign-ins."""
    return not user.has_usable_password() and not user.identities.all()


def invite(name: str, by: User) -> tuple[User, str]:
    """A new person, and the secret of the link by which they come in. Raises Unusable where the name cannot be had."""
    try:
        UnicodeUsernameValidator()(name)
    except ValidationError as error:
        raise Unusable(f"{name!r} cannot be a name to sign in by: {error.messages[0]}") from None
    if User.objects.filter(username__iexact=name).exists():
        raise Unusable(f"There is somebody named {name} already; choose another name.")
    user = User.objects.create_user(name)
    return user, Invitation.issue(user, by)


def link_json(user: User, secret: str) -> dict[str, Any]:
    """The secret stands behind a #, which no browser sends and no log keeps."""
    return {"id": user.pk, "name": user.get_username(), "link": f"/join#{secret}"}


class PeopleView(APIView):
    acts = {"POST": Act("invited {name}")}
    people_alone = True
    administrators_alone = True

    @extend_schema(responses=PersonSerializer(many=True))
    def get(self, request: Request) -> Response:
        """Everybody who may come in, or could once."""
        people = User.objects.order_by("-is_active", "username").prefetch_related("identities")
        return Response(PersonSerializer(people, many=True).data)

    @extend_schema(request=NewPersonSerializer, responses={201: LinkSerializer})
    def post(self, request: Request) -> Response:
        """Invite a person."""
        fields = NewPersonSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        with transaction.atomic():
            user, secret = invite(fields.validated_data["name"], cast(User, request.user))
        return Response(link_json(user, secret), status=status.HTTP_201_CREATED)


class PersonView(APIView):
    acts = {"PATCH": Act("changed whether {name} comes in, and as what")}
    people_alone = True
    administrators_alone = True

    @extend_schema(request=PersonChangeSerializer, responses=PersonSerializer)
    def patch(self, request: Request, pk: int) -> Response:
        """Make somebody an administrator or not, or have them come in no more. What they did keeps their name."""
        fields = PersonChangeSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        with transaction.atomic():
            user = get_object_or_404(User, pk=pk)
            becomes = fields.validated_data.get("administrator", user.is_staff)
            if becomes and not user.is_staff and waits(user):  # whoever holds the link would be one
                raise Conflict(f"{user.get_username()} has not come in yet; make them an administrator once they have.")
            user.is_staff = becomes
            user.is_active = fields.validated_data.get("active", user.is_active)
            user.save(update_fields=["is_staff", "is_active"])
            if not User.objects.filter(is_staff=True, is_active=True).exists():
                raise Conflict("Somebody has to stay an administrator; make another person one before.")
        return Response(PersonSerializer(user).data)


class PersonLinkView(APIView):
    acts = {"POST": Act("made a link for {name} to choose a password")}
    people_alone = True
    administrators_alone = True

    @extend_schema(request=None, responses={201: LinkSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """A link to choose a password by, for who has forgotten theirs or lost the first link. Until it is used the old
        password holds."""
        user = get_object_or_404(User, pk=pk, is_active=True)
        link = link_json(user, Invitation.issue(user, cast(User, request.user)))
        return Response(link, status=status.HTTP_201_CREATED)


class JoinView(APIView):
    """Open to whoever holds the secret of a link."""

    acts = {"POST": Act("chose a password by a link")}
    permission_classes = [permissions.AllowAny]

    @extend_schema(request=JoinSerializer, responses=JoinedSerializer)
    def post(self, request: Request) -> Response:
        """Whom a link is for; and with a password, choose it and sign in."""
        SessionAuthentication().enforce_csrf(request)
        fields = JoinSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        door.check(request, "")
        invitation = Invitation.of(fields.validated_data["secret"])
        if invitation is None:
            door.failed(request, "")
            raise Unusable(_ENDED)
        user = invitation.user
        done_by(request, user.get_username())
        response = Response({"name": user.get_username()})
        password = fields.validated_data.get("password")
        if password is None:
            nothing_done(request)
            return response
        check_password(password, user, "password")
        with transaction.atomic():
            used, _ = Invitation.objects.filter(pk=invitation.pk).delete()
            if not used:  # by somebody else, a moment ago
                raise Unusable(_ENDED)
            user.set_password(password)
            user.save(update_fields=["password"])
        login(request, user)
        door.leave_mark(response, user.get_username())
        return response


class TrailView(APIView):
    """Of everything, for administrators."""

    people_alone = True
    administrators_alone = True

    @extend_schema(parameters=[BEFORE], responses=TracesSerializer)
    def get(self, request: Request) -> Response:
        return page(request, Trace.objects.all())


class TrailFileView(APIView):
    people_alone = True
    administrators_alone = True

    @extend_schema(responses={(200, "text/csv"): str})
    def get(self, request: Request) -> Any:
        return file_of(Trace.objects.all())
