"""Plans of a portfolio: kept one by one, handed to studies in their recipe."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.errors import PlanError
from tansy.engine.plans.calendars import calendars
from tansy.engine.plans.kinds import DRIVER_CHANGES, KINDS, DriverPlan, describe, period_number, read_plan
from tansy.engine.plans.kinds import Plan as EnginePlan
from tansy.engine.plans.planned import with_plans
from tansy.server.accounts.acts import Act
from tansy.server.api.fields import NumberField
from tansy.server.portfolios.models import Load, Plan, Portfolio
from tansy.server.portfolios.panels import panel_of


def plans_of(portfolio: Portfolio) -> tuple[EnginePlan, ...]:
    return tuple(read_plan(plan.entries) for plan in portfolio.plans.order_by("id"))


class TextMap(serializers.DictField):
    child = serializers.CharField(allow_blank=True)


class PlanSerializer(serializers.Serializer):
    """Which fields a plan has depends on its kind; see `docs/recipe.md`."""

    kind = serializers.ChoiceField(choices=list(KINDS))
    key = serializers.CharField(required=False)
    old = serializers.CharField(required=False)
    new = serializers.CharField(required=False)
    share = NumberField(required=False)
    keys = TextMap(required=False)
    like = TextMap(required=False)
    start = serializers.CharField(required=False)
    low = NumberField(required=False, allow_null=True)
    high = NumberField(required=False, allow_null=True)
    where = TextMap(required=False)
    first = serializers.CharField(required=False, allow_null=True)
    last = serializers.CharField(required=False, allow_null=True)
    name = serializers.CharField(required=False, allow_blank=True)
    periods = serializers.ListField(child=serializers.CharField(), required=False)
    of = serializers.CharField(required=False, allow_blank=True)
    change = serializers.ChoiceField(choices=list(DRIVER_CHANGES), required=False)
    amount = NumberField(required=False, allow_null=True)


class KeptPlanSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    kind = serializers.CharField()
    words = serializers.CharField()
    made_by = serializers.CharField()
    made_at = serializers.DateTimeField()


def _filled(data: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in data.items() if value not in (None, {}, [], "")}


def own_plans(portfolio: Portfolio, asked: list[dict[str, Any]]) -> tuple[EnginePlan, ...]:
    """Plans from what `PlanSerializer` has let through. Raises ValidationError that names the field at fault where one
    does not fit the history and the plans of the portfolio."""
    try:
        found = tuple(read_plan(_filled(data)) for data in asked)
        with_plans(panel_of(portfolio.load), (*plans_of(portfolio), *found))
        for plan in found:
            _check_ahead(plan, portfolio.load)
    except PlanError as error:
        raise serializers.ValidationError({error.field: [str(error)]}) from None
    return found


class CalendarSerializer(serializers.Serializer):
    country = serializers.CharField(help_text="ISO 3166, two letters.")
    regions = serializers.ListField(child=serializers.CharField())


class CalendarsView(APIView):
    @extend_schema(responses=CalendarSerializer(many=True))
    def get(self, request: Request) -> Response:
        """Countries and their regions whose public holidays are known."""
        return Response([{"country": country, "regions": list(regions)} for country, regions in calendars().items()])


class PlansView(APIView):
    acts = {"POST": Act("added plan {made}")}

    @extend_schema(responses=KeptPlanSerializer(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """All plans of a portfolio, the newest first."""
        portfolio = get_object_or_404(Portfolio, pk=pk)
        frequency = portfolio.load.frequency
        return Response(
            [
                {
                    "id": plan.pk,
                    "kind": plan.entries["kind"],
                    "words": describe(read_plan(plan.entries), frequency),
                    "made_by": plan.made_by.username,
                    "made_at": plan.made_at,
                }
                for plan in portfolio.plans.select_related("made_by").order_by("-id")
            ]
        )

    @extend_schema(request=PlanSerializer, responses={201: KeptPlanSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Keep a plan, if it fits the history and the other plans; else the field at fault is named."""
        portfolio = get_object_or_404(Portfolio, pk=pk)
        fields = PlanSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        (plan,) = own_plans(portfolio, [fields.validated_data])
        entries = _filled(fields.validated_data)
        user: Any = request.user
        kept = Plan.objects.create(portfolio=portfolio, entries=entries, made_by=user)
        answer = {
            "id": kept.pk,
            "kind": entries["kind"],
            "words": describe(plan, portfolio.load.frequency),
            "made_by": kept.made_by.username,
            "made_at": kept.made_at,
        }
        return Response(answer, status=status.HTTP_201_CREATED)


def _check_ahead(plan: EnginePlan, load: Load) -> None:
    """Raise PlanError where a driver is planned for what is past."""
    timeline = load.timeline
    if isinstance(plan, DriverPlan) and period_number("last", plan.last, timeline.frequency) <= timeline.last:
        raise PlanError(
            "last", f"{plan.last} is past: what came is in the history, which ends in {timeline.labels[-1]}."
        )


class PlanView(APIView):
    acts = {"DELETE": Act("withdrew plan {id}")}

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Drop a plan. Studies that have seen it keep it in their recipe."""
        get_object_or_404(Plan, pk=pk).delete()
        return Response(status=status.HTTP_204_NO_CONTENT)
