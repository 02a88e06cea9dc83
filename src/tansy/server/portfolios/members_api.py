"""Who may do what in a portfolio, and what was done in it."""

from __future__ import annotations

from typing import Any, cast

from django.contrib.auth.models import User
from django.db import transaction
from drf_spectacular.utils import extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.server.accounts.acts import Act, Role
from tansy.server.accounts.models import Invitation, Trace
from tansy.server.accounts.people_api import LinkSerializer, invite, link_json, waits
from tansy.server.accounts.trail import TracesSerializer, done_to, file_of, page
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.api.fields import BEFORE
from tansy.server.portfolios.models import Member


class MemberSerializer(serializers.ModelSerializer):
    """invited: has not come in yet. active: false of who does not come in any more."""

    name = serializers.CharField(source="user.username", read_only=True)
    invited = serializers.SerializerMethodField()
    active = serializers.BooleanField(source="user.is_active", read_only=True)

    class Meta:
        model = Member
        fields = ["id", "name", "role", "invited", "active"]

    def get_invited(self, member: Member) -> bool:
        return waits(member.user)


class NewMemberSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=150)
    role = serializers.ChoiceField(choices=Role.choices)


class AddedMemberSerializer(MemberSerializer):
    link = serializers.CharField(allow_null=True, help_text="Of who is new: where to choose a password. Shown once.")

    class Meta(MemberSerializer.Meta):
        fields = [*MemberSerializer.Meta.fields, "link"]


class MemberChangeSerializer(serializers.Serializer):
    role = serializers.ChoiceField(choices=Role.choices)


class MembersView(APIView):
    acts = {"POST": Act("made {name} a {role}", Role.KEEPER)}
    people_alone = True

    @extend_schema(responses=MemberSerializer(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """Who has a role in a portfolio."""
        of = Member.objects.filter(portfolio=pk)
        members = of.select_related("user").prefetch_related("user__identities").order_by("user__username")
        return Response(MemberSerializer(members, many=True).data)

    @extend_schema(request=NewMemberSerializer, responses={201: AddedMemberSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Give a person a role; who is not there yet is invited."""
        fields = NewMemberSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        name, role = fields.validated_data["name"], fields.validated_data["role"]
        link = None
        with transaction.atomic():
            user = User.objects.filter(username=name).first()
            if user is None:
                user, secret = invite(name, cast(User, request.user))
                link = link_json(user, secret)["link"]
            if not user.is_active:
                raise Unusable(f"{name} does not come in any more; an administrator can change that.")
            member, is_new = Member.objects.get_or_create(portfolio_id=pk, user=user, defaults={"role": role})
            if not is_new:
                raise Conflict(f"{name} is a {member.role} of this portfolio already; change the role instead.")
        return Response({**MemberSerializer(member).data, "link": link}, status=status.HTTP_201_CREATED)


class MemberView(APIView):
    acts = {
        "PATCH": Act("made {name} a {role}", Role.KEEPER),
        "DELETE": Act("took {name} out", Role.KEEPER),
    }
    people_alone = True

    @extend_schema(request=MemberChangeSerializer, responses=MemberSerializer)
    def patch(self, request: Request, pk: int) -> Response:
        fields = MemberChangeSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        with transaction.atomic():
            member = get_object_or_404(Member.objects.select_related("user"), pk=pk)
            member.role = fields.validated_data["role"]
            member.save(update_fields=["role"])
            _check_kept(member.portfolio_id)
        return Response(MemberSerializer(member).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Who has no role in a portfolio does not see it. What they did in it stays."""
        with transaction.atomic():
            member = get_object_or_404(Member.objects.select_related("user"), pk=pk)
            done_to(request, member.user.get_username())
            member.delete()
            _check_kept(member.portfolio_id)
        return Response(status=status.HTTP_204_NO_CONTENT)


class MemberLinkView(APIView):
    acts = {"POST": Act("made a new link for {name} to come in", Role.KEEPER)}
    people_alone = True

    @extend_schema(request=None, responses={201: LinkSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Another link for somebody that you have invited and who has not come in yet."""
        member = get_object_or_404(Member.objects.select_related("user"), pk=pk)
        user = member.user
        by = cast(User, request.user)
        # whoever holds a link is that person: it is for who has nothing to lose yet, from who invited them
        if not by.is_staff and not (waits(user) and user.invitations.filter(made_by=by).exists()):
            raise Conflict(f"{user.get_username()} is not somebody you have invited; ask an administrator for a link.")
        if not user.is_active:
            raise Conflict(f"{user.get_username()} does not come in any more; an administrator can change that.")
        return Response(link_json(user, Invitation.issue(user, by)), status=status.HTTP_201_CREATED)


def _check_kept(portfolio: int) -> None:
    """Raises Conflict where nobody is left who keeps a portfolio."""
    if not Member.objects.filter(portfolio=portfolio, role=Role.KEEPER, user__is_active=True).exists():
        raise Conflict("Somebody has to keep this portfolio; make another person its keeper before.")


class PortfolioTrailView(APIView):
    seen_by = Role.KEEPER

    @extend_schema(responses=TracesSerializer, parameters=[BEFORE])
    def get(self, request: Request, pk: int) -> Response:
        """Who did what in a portfolio, the newest first."""
        return page(request, Trace.objects.filter(portfolio=pk))


class PortfolioTrailFileView(APIView):
    seen_by = Role.KEEPER

    @extend_schema(responses={(200, "text/csv"): str})
    def get(self, request: Request, pk: int) -> Any:
        """The same as a file, the oldest first."""
        return file_of(Trace.objects.filter(portfolio=pk))
