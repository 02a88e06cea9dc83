"""Whether a person may do what is asked: by the portfolio that an address leads to, and the role in it.

Every address of the API leads to a portfolio, or to what is one's own. What is in a portfolio is not there for people
who have no role in it. Administrators keep all portfolios.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from typing import Any

from django.apps import apps
from django.contrib.auth.models import User
from django.db.models import QuerySet
from django.http import Http404
from rest_framework import exceptions, permissions
from rest_framework.request import Request

from tansy.server.accounts.acts import Act, Role
from tansy.server.accounts.trail import done_in
from tansy.server.portfolios.models import Member, Portfolio

OWN = ("password", "tokens", "uploads", "calendars", "people", "trail", "metrics")
"""First words of addresses that lead to no portfolio, and take somebody who has signed in."""
IN_PORTFOLIO = {
    "portfolios": ("portfolios.Portfolio", "pk"),
    "loads": ("portfolios.Load", "portfolio_id"),
    "searches": ("portfolios.Search", "load__portfolio_id"),
    "plans": ("portfolios.Plan", "portfolio_id"),
    "members": ("portfolios.Member", "portfolio_id"),
    "studies": ("studies.Study", "portfolio_id"),
    "adjustments": ("studies.AdjustmentRow", "portfolio_id"),
    "comments": ("studies.Comment", "portfolio_id"),
    "kept": ("studies.KeptMethod", "portfolio_id"),
    "releases": ("releases.Release", "portfolio_id"),
    "webhooks": ("releases.Webhook", "portfolio_id"),
}
"""First word of an address that goes on with a number: what the number is of, and where its portfolio stands."""


def portfolios_of(user: Any) -> QuerySet[Portfolio]:
    """Those in which a person has a role."""
    everything = Portfolio.objects.all()
    return everything if user.is_staff else everything.filter(members__user=user)


def role_in(user: Any, portfolio: int) -> Role | None:
    """None where a person has none."""
    if user.is_staff:
        return Role.KEEPER
    found = Member.objects.filter(portfolio=portfolio, user=user).values_list("role", flat=True).first()
    return Role(found) if found else None


def roles_of(user: Any) -> Mapping[int, Role]:
    """The role of a person in each portfolio where they have one."""
    if user.is_staff:
        return defaultdict(lambda: Role.KEEPER)
    return {portfolio: Role(role) for portfolio, role in user.memberships.values_list("portfolio", "role")}


def refusal(user: Any, portfolio: int, needed: Role) -> str:
    """Why a person may not do what a role is needed for, and whom to ask; empty where they may. Raises Http404 where
    they have no role at all."""
    role = role_in(user, portfolio)
    if role is None:
        raise Http404
    if role.covers(needed):
        return ""
    keepers = User.objects.filter(memberships__portfolio=portfolio, memberships__role=Role.KEEPER, is_active=True)
    names = ", ".join(keepers.order_by("username").values_list("username", flat=True)[:3])
    ask = f" Ask {names}, who may give you that role." if names else ""
    return f"You are a {role} of this portfolio; this takes a {needed}.{ask}"


def demand(request: Request, portfolio: int, needed: Role) -> None:
    """What an address does not say: that something is done in a portfolio. Raises PermissionDenied."""
    done_in(request, portfolio)
    if message := refusal(request.user, portfolio, needed):
        raise exceptions.PermissionDenied(message)


class InRole(permissions.BasePermission):
    """What no view has declared is refused."""

    message = "Nobody may do this."

    def has_permission(self, request: Request, view: Any) -> bool:
        looks = request.method in permissions.SAFE_METHODS
        act: Act | None = None if looks else getattr(view, "acts", {}).get(request.method)
        if not looks and act is None:
            return request.method not in view.allowed_methods  # which is said as that
        if getattr(view, "administrators_alone", False) and not request.user.is_staff:
            self.message = "This is for administrators."
            return False
        route = request.resolver_match.route.removeprefix("api/") if request.resolver_match else ""
        place = route.split("/")[0]
        if place in OWN or route == "portfolios/":
            return True
        if place not in IN_PORTFOLIO or "pk" not in view.kwargs:
            return False
        portfolio = _portfolio(place, view.kwargs["pk"])
        done_in(request, portfolio)
        needed = act.role if act else getattr(view, "seen_by", Role.READER)
        self.message = refusal(request.user, portfolio, needed)
        return not self.message


def _portfolio(place: str, pk: int) -> int:
    """Of what an address names. Raises Http404 where there is no such thing."""
    model, path = IN_PORTFOLIO[place]
    found = apps.get_model(model)._default_manager.filter(pk=pk).values_list(path, flat=True).first()
    if found is None:
        raise Http404
    return int(found)
