"""Trying methods on one node, their workings, and keeping one."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers, status
from rest_framework.exceptions import ValidationError
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.lens import tries
from tansy.engine.lens.forecast_parts import with_plan
from tansy.engine.lens.workings import workings
from tansy.engine.lens.workings.sheet import Workings
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.profile.kinds import NAMES
from tansy.server.accounts.acts import LOOK, Act
from tansy.server.api.fields import NumberField
from tansy.server.portfolios.models import Portfolio
from tansy.server.studies import services, workings_file
from tansy.server.studies.answers import BandSerializer, NullableFloats, ParameterSerializer
from tansy.server.studies.models import KeptMethod
from tansy.server.studies.place import Place, place_at
from tansy.server.studies.place import forget as forget_places

LEVELS = (50.0, 80.0, 95.0)
_Plan = tuple[tuple[str, tuple[float | None, ...]], ...]
_KINDS = (*NAMES, "seasonal", "in season only", "new")


class AskSerializer(serializers.Serializer):
    """methods: up to four. actuals: values of the next periods, made up or just come in; drivers: other values of
    drivers in the leads, null where they stay as planned. Neither is saved."""

    methods = serializers.ListField(
        child=serializers.CharField(max_length=300), min_length=1, max_length=tries.MOST_TRIES
    )
    actuals = serializers.ListField(child=NumberField(allow_null=True), required=False, max_length=52)
    drivers = serializers.DictField(
        child=serializers.ListField(child=NumberField(allow_null=True), max_length=366), required=False
    )


class TriedParameterSerializer(ParameterSerializer):
    error = serializers.FloatField(allow_null=True, help_text="Standard error.")


class TriedFormSerializer(serializers.Serializer):
    model = serializers.CharField()
    aicc = serializers.FloatField(allow_null=True)


class NullableFloatMap(serializers.DictField):
    child = serializers.FloatField(allow_null=True)


class TrySerializer(serializers.Serializer):
    """problem: what is wrong with the text, and then nothing else is there. total_forecast, totals: forecast and bands
    of the sum of leads 1..h."""

    text = serializers.CharField()
    problem = serializers.CharField()
    model = serializers.CharField(required=False)
    basis = serializers.CharField(required=False, help_text="Criteria are compared only where this is the same.")
    words = serializers.CharField(required=False)
    notes = serializers.ListField(child=serializers.CharField(), required=False)
    parameters = TriedParameterSerializer(many=True, required=False)
    criteria = NullableFloatMap(required=False)
    tried = TriedFormSerializer(many=True, required=False)
    fitted = NullableFloats(required=False)
    residuals = NullableFloats(required=False)
    forecast = NullableFloats(required=False)
    bands = BandSerializer(many=True, required=False)
    total_forecast = NullableFloats(required=False)
    totals = BandSerializer(many=True, required=False)
    measures = NullableFloatMap()


class TriesSerializer(serializers.Serializer):
    periods = serializers.ListField(child=serializers.CharField())
    n_past = serializers.IntegerField()
    history = NullableFloats()
    tries = TrySerializer(many=True)
    best = serializers.DictField(child=serializers.IntegerField(allow_null=True))


class WorkingColumnSerializer(serializers.Serializer):
    name = serializers.CharField()
    title = serializers.CharField()
    means = serializers.CharField()


class WorkingCellSerializer(serializers.Serializer):
    """value: null where there is none, and then why says why. formula: with the numbers in it; empty for input."""

    value = serializers.FloatField(allow_null=True)
    formula = serializers.CharField()
    why = serializers.CharField()


class WorkingsSerializer(serializers.Serializer):
    model = serializers.CharField()
    equation = serializers.CharField()
    columns = WorkingColumnSerializer(many=True)
    labels = serializers.ListField(child=serializers.CharField())
    n_start = serializers.IntegerField()
    n_ahead = serializers.IntegerField(help_text="Rows at the end that are leads.")
    rows = serializers.ListField(child=WorkingCellSerializer(many=True))
    parameters = ParameterSerializer(many=True)
    sums = NullableFloatMap(help_text="Of the columns that a regression adds up.")


class KeepSerializer(serializers.Serializer):
    """kind: keep it for all series of this kind; empty for this node alone."""

    method = serializers.CharField(max_length=300)
    reason = serializers.CharField(max_length=300)
    kind = serializers.CharField(required=False, allow_blank=True)

    def validate_kind(self, kind: str) -> str:
        if kind and kind not in _KINDS:
            raise serializers.ValidationError(f"There is no kind {kind!r}; kinds are {', '.join(_KINDS)}.")
        return kind


class KeptSerializer(serializers.ModelSerializer):
    made_by = serializers.CharField(source="made_by.username")
    used_by = serializers.SerializerMethodField()

    class Meta:
        model = KeptMethod
        fields = ["id", "node", "kind", "method", "reason", "made_by", "made_at", "withdrawn_at", "used_by"]
        read_only_fields = fields

    def get_used_by(self, kept: KeptMethod) -> int | None:
        """Nodes of the last study that use it; none while no study has seen it."""
        found: int | None = self.context.get("used_by", {}).get(kept.pk)
        return found


@lru_cache(maxsize=64)
def _tried(place: Place, text: str, actuals: tuple[float | None, ...], plan: _Plan) -> tuple[tries.Try, dict[str, Any]]:
    """One try and what the page says of it. Kept, because a planner turns one try while the others stand still."""
    values, timeline = place.history(list(actuals))
    wanted = {name: np.array([np.nan if v is None else v for v in row], dtype=float) for name, row in plan}
    drivers = place.drivers() if plan else place.drivers_for([text])
    found = tries.try_methods(
        values, timeline, [text], place.leads, place.profile([text], timeline, place.leads),
        with_plan(drivers, timeline.n_periods, wanted), place.pooled([text]),
        None if plan else place.learned([text], timeline),
    )[0]  # fmt: skip
    floor = 0.0 if place.study.recipe.nonnegative else -np.inf
    return found, tries.describe(found, values, LEVELS, floor)


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _tried.cache_clear()
    forget_places()


class TryView(APIView):
    acts = {"POST": LOOK}

    @extend_schema(request=AskSerializer, responses=TriesSerializer)
    def post(self, request: Request, pk: int, node: str) -> Response:
        """Fit up to four methods to a node's history and show them side by side. Nothing is saved."""
        fields = AskSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        texts = fields.validated_data["methods"]
        place = place_at(pk, node)
        actuals = fields.validated_data.get("actuals", [])
        values, timeline = place.history(actuals)
        plan = fields.validated_data.get("drivers", {})
        if plan:
            drivers = place.drivers()
            for name in plan:
                if name not in drivers:
                    known = ", ".join(drivers)
                    raise ValidationError({"drivers": f"There is no driver {name!r}; drivers are {known}."})
        given = tuple((name, tuple(row)) for name, row in sorted(plan.items()))
        found = [_tried(place, text, tuple(actuals), given) for text in texts]
        measures = tries.in_sample(values, [one for one, _ in found], timeline.season_length)
        return Response(
            {
                "periods": timeline.labels + timeline.after(place.leads).labels,
                "n_past": timeline.n_periods,
                "history": [None if np.isnan(v) else v for v in values.tolist()],
                "tries": [{**said, "measures": own} for (_, said), own in zip(found, measures, strict=True)],
                "best": tries.best_of(measures),
            }
        )


@dataclass(frozen=True)
class _Worked:
    """model: the method with its choices resolved. measures: of its errors one period ahead, by name."""

    place: Place
    model: str
    workings: Workings
    measures: dict[str, float | None]


def _workings(pk: int, node: str, request: Request) -> _Worked:
    text = request.query_params.get("method", "")
    if not text:
        raise ValidationError({"method": "Say which method, as in ?method=ets(A,N,N)."})
    place = place_at(pk, node)
    values, timeline = place.history([])
    parse(text)
    ahead = place.leads
    profile = place.profile([text], timeline, ahead)
    own = None if profile is None else profile[None]
    drivers, pooled, learned = place.drivers_for([text]), place.pooled([text]), place.learned([text], timeline)
    (one,) = tries.try_methods(values, timeline, [text], ahead, profile, drivers, pooled, learned)
    if one.fits is None or not one.fits.defined[0]:
        raise ValidationError({"method": one.problem or "This method cannot be fitted to this series."})
    found = workings(Batch(values[None], timeline, drivers, pooled, learned, profiles=own), one.fits)
    (measures,) = tries.in_sample(values, [one], timeline.season_length)
    return _Worked(place, str(one.fits.form(0)), found, measures)


METHOD = OpenApiParameter("method", str, required=True)


class WorkingsView(APIView):
    @extend_schema(parameters=[METHOD], responses=WorkingsSerializer)
    def get(self, request: Request, pk: int, node: str) -> Response:
        """Every period's arithmetic, each cell with its formula and the numbers in it."""
        worked = _workings(pk, node, request)
        found = worked.workings

        def cell(name: str, row: int) -> dict[str, Any]:
            one = found.cells[name][row]
            formula = found.with_numbers(name, row) if one.formula else ""
            return {"value": one.value, "formula": formula, "why": one.why}

        return Response(
            {
                "model": worked.model,
                "equation": found.equation,
                "columns": [{"name": c.name, "title": c.title, "means": c.means} for c in found.columns],
                "labels": found.labels,
                "n_start": found.n_start,
                "n_ahead": found.n_ahead,
                "rows": [[cell(c.name, row) for c in found.columns] for row in range(len(found.labels))],
                "parameters": [{"name": name, "value": value} for name, value in found.parameters.items()],
                "sums": found.sums,
            }
        )


_XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


class WorkingsFileView(APIView):
    @extend_schema(
        parameters=[METHOD], responses={(200, "text/csv"): OpenApiTypes.STR, (200, _XLSX): OpenApiTypes.BINARY}
    )
    def get(self, request: Request, pk: int, node: str, form: str) -> HttpResponse:
        """The workings as `csv`, or as `xlsx` with live formulas."""
        if form not in ("csv", "xlsx"):
            raise ValidationError({"form": "Workings are to be had as csv or xlsx."})
        worked = _workings(pk, node, request)
        if form == "csv":
            response = HttpResponse(workings_file.as_csv(worked.workings), content_type="text/csv; charset=utf-8")
        else:
            sheet = workings_file.as_xlsx(worked.workings, worked.place.node.name, worked.model, worked.measures)
            response = HttpResponse(sheet, content_type=_XLSX)
        response["Content-Disposition"] = f'attachment; filename="workings-{pk}-{worked.place.node.ref}.{form}"'
        return response


class KeepView(APIView):
    acts = {"POST": Act("kept a method for a node of study {id}")}

    @extend_schema(request=KeepSerializer, responses={201: KeptSerializer})
    def post(self, request: Request, pk: int, node: str) -> Response:
        """Keep a method for this node or for all series of a kind; studies made from now on use it."""
        fields = KeepSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        data = fields.validated_data
        place = place_at(pk, node)
        kind = data.get("kind", "")
        node = "" if kind else place.node.key
        kept = services.keep(place.study.portfolio, request.user, data["method"], data["reason"], node=node, kind=kind)
        return Response(KeptSerializer(kept).data, status=status.HTTP_201_CREATED)


class KeptView(APIView):
    @extend_schema(responses=KeptSerializer(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """Methods kept by hand, newest first; those withdrawn stay listed with their date."""
        portfolio = get_object_or_404(Portfolio, pk=pk)
        context = {"used_by": services.used_by(portfolio)}
        return Response(KeptSerializer(portfolio.kept_methods.order_by("-id"), many=True, context=context).data)


class WithdrawView(APIView):
    acts = {"POST": Act("withdrew kept method {id}")}

    @extend_schema(request=None, responses=KeptSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Let the backtest choose again."""
        kept = get_object_or_404(KeptMethod, pk=pk, withdrawn_at=None)
        kept.withdraw()
        return Response(KeptSerializer(kept).data)
