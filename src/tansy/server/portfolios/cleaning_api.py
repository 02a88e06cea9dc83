"""History as a whole, suspicious values, the ledger of corrections, kinds of demand."""

from __future__ import annotations

import csv
import io
from typing import Any

import numpy as np
from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.cleaning.corrections import UNKNOWN_BECAUSE
from tansy.engine.cleaning.rules import LEVELS, RULES, WORDS, Rules
from tansy.engine.cleaning.rules import REPLACEMENTS as PROPOSALS
from tansy.engine.timeline import label, number_of
from tansy.server.accounts.acts import Act
from tansy.server.api.fields import MOST_ID, IdsField, NumberField, whole_number
from tansy.server.portfolios import corrections as ledger
from tansy.server.portfolios import overview
from tansy.server.portfolios.models import Correction, Load, Portfolio, Search
from tansy.server.portfolios.panels import key_parts, keys_of, labels_of, names_of, refs_of, shown

_MOST_SHOWN = 2000


def _load(pk: int) -> Load:
    return get_object_or_404(Portfolio, pk=pk).load


class CoverageSerializer(serializers.Serializer):
    periods = serializers.ListField(child=serializers.CharField())
    series = serializers.ListField(child=serializers.CharField())
    refs = serializers.ListField(child=serializers.CharField(), help_text="What addresses call each series.")
    orders = serializers.DictField(child=serializers.ListField(child=serializers.IntegerField()))
    volume = serializers.ListField(child=serializers.FloatField())
    empty = serializers.ListField(child=serializers.FloatField())
    cells = serializers.CharField(
        help_text="A byte per series and period, in base64: 0 missing, 1 zero, 2 negative, 3 up."
    )


class CoverageView(APIView):
    @extend_schema(responses=CoverageSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """Where there is history."""
        return Response(overview.coverage_of(_load(pk)))


class GroupSerializer(serializers.Serializer):
    name = serializers.CharField()
    label = serializers.CharField()  # type: ignore[assignment]  # a field of that name hides DRF's attribute
    n_series = serializers.IntegerField()
    now = serializers.FloatField()
    before = serializers.FloatField(allow_null=True)
    year_before = serializers.FloatField(allow_null=True)
    series = serializers.CharField(allow_null=True, help_text="Its ref, where the group is one series.")


class NullableRow(serializers.ListField):
    child = serializers.FloatField(allow_null=True)


class OverviewSerializer(serializers.Serializer):
    periods = serializers.ListField(child=serializers.CharField())
    last = serializers.IntegerField(help_text="How many periods count as the last ones.")
    n_series = serializers.IntegerField()
    shares = serializers.ListField(child=serializers.FloatField())
    units = serializers.ListField(child=NullableRow())
    scaled = serializers.ListField(child=NullableRow())
    total = NullableRow()
    count = serializers.ListField(child=serializers.IntegerField())
    n_groups = serializers.IntegerField()
    groups = GroupSerializer(many=True)
    dimensions = serializers.ListField(child=serializers.CharField())


class OverviewView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("by", str, description="Key or attribute to group by."),
            OpenApiParameter("within", str, many=True, description="name=value, may be given several times."),
            OpenApiParameter("last", int, description="Periods that count as the last ones."),
        ],
        responses=OverviewSerializer,
    )
    def get(self, request: Request, pk: int) -> Response:
        """All series over time, and what has moved."""
        load = _load(pk)
        within = dict(part.split("=", 1) for part in request.query_params.getlist("within") if "=" in part)
        by = request.query_params.get("by") or overview.dimensions(load)[0]
        asked = request.query_params.get("last", "")
        n_last = whole_number("last", asked, MOST_ID) if asked else None
        return Response(overview.overview_of(load, by, within, n_last))


class SeriesViewSerializer(serializers.Serializer):
    series = serializers.CharField()
    previous = serializers.CharField(allow_null=True)
    next = serializers.CharField(allow_null=True)
    place = serializers.IntegerField()
    n_series = serializers.IntegerField()
    name = serializers.CharField()
    labels = serializers.ListField(child=serializers.CharField())
    periods = serializers.ListField(child=serializers.CharField())
    season_length = serializers.IntegerField()
    frequency = serializers.CharField()
    received = NullableRow()
    corrected = NullableRow()
    reasons = serializers.DictField(child=serializers.CharField())
    switches = serializers.DictField(child=serializers.ListField(child=serializers.IntegerField()))


class SeriesView(APIView):
    @extend_schema(responses=SeriesViewSerializer)
    def get(self, request: Request, pk: int, series: str) -> Response:
        """One series as received and as corrected."""
        return Response(overview.series_view(_load(pk), series))


class RulesSerializer(serializers.Serializer):
    find = serializers.ListField(child=serializers.ChoiceField(choices=RULES), required=False)
    spike = NumberField(required=False)
    zero_run = NumberField(required=False)
    fence = NumberField(required=False)
    same_week = NumberField(required=False)
    level_shift = NumberField(required=False)
    level = serializers.ChoiceField(choices=LEVELS, required=False)
    replace = serializers.ChoiceField(choices=PROPOSALS, required=False)


STATES = ("open", "accepted", "dismissed")


class SuspicionSerializer(serializers.Serializer):
    id = serializers.IntegerField(help_text="Place in the search.")
    series = serializers.CharField()
    name = serializers.CharField()
    rule = serializers.CharField(help_text="One of the rules of `RulesSerializer`.")
    words = serializers.CharField()
    period = serializers.CharField()
    start = serializers.IntegerField()
    length = serializers.IntegerField()
    score = serializers.FloatField()
    received = serializers.FloatField(allow_null=True)
    expected = serializers.FloatField(allow_null=True)
    low = serializers.FloatField(allow_null=True)
    high = serializers.FloatField(allow_null=True)
    median = serializers.FloatField(allow_null=True)
    interpolated = serializers.FloatField(allow_null=True)
    ratio = serializers.FloatField(allow_null=True)
    state = serializers.ChoiceField(choices=["open", "accepted", "dismissed"])


class SearchSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    load = serializers.IntegerField()
    is_current = serializers.BooleanField(help_text="Whether it was made on the newest history.")
    made_by = serializers.CharField()
    made_at = serializers.DateTimeField()
    rules = RulesSerializer()
    n_found = serializers.IntegerField()
    counts = serializers.DictField(child=serializers.IntegerField(), help_text="Values and runs of values, per state.")
    values = serializers.DictField(child=serializers.IntegerField(), help_text="Single values in them, per state.")
    found = SuspicionSerializer(many=True)


def _search_json(kept: Search) -> dict[str, Any]:
    found = ledger.suspicions(kept)
    names, refs = names_of(kept.load), refs_of(kept.load)
    states = ledger.states(kept, found, keys_of(kept.load))
    labels = kept.load.timeline.labels
    order = sorted(range(len(found)), key=lambda k: (states[k] != "open", -found.score[k]))[:_MOST_SHOWN]

    def at_state(state: str) -> np.ndarray:
        return np.array([k for k, own in enumerate(states) if own == state], dtype=np.int64)

    def number(value: float) -> float | None:
        return None if np.isnan(value) else round(float(value), 4) + 0.0

    return {
        "id": kept.pk,
        "load": kept.load_id,
        "is_current": kept.load_id == kept.load.portfolio.load.pk,
        "made_by": kept.made_by.username,
        "made_at": kept.made_at,
        "rules": kept.rules,
        "n_found": kept.n_found,
        "counts": {state: states.count(state) for state in STATES},
        "values": {state: found.where(at_state(state)).n_values() for state in STATES},
        "found": [
            {
                "id": k,
                "series": refs[int(found.series[k])],
                "name": names[int(found.series[k])],
                "rule": RULES[int(found.rule[k])],
                "words": WORDS[RULES[int(found.rule[k])]],
                "period": labels[int(found.start[k])],
                "start": int(found.start[k]),
                "length": int(found.length[k]),
                **{
                    name: number(getattr(found, name)[k])
                    for name in ("score", "received", "expected", "low", "high", "median", "interpolated", "ratio")
                },
                "state": states[k],
            }
            for k in order
        ],
    }


class SearchesView(APIView):
    acts = {"POST": Act("searched for suspicious values")}

    @extend_schema(responses={200: SearchSerializer, 204: None})
    def get(self, request: Request, pk: int) -> Response:
        """The newest search of a portfolio, if there is one."""
        kept = Search.objects.filter(load__portfolio_id=pk).order_by("-id").first()
        if kept is None:
            return Response(status=status.HTTP_204_NO_CONTENT)
        return Response(_search_json(kept))

    @extend_schema(request=RulesSerializer, responses={201: SearchSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Look for suspicious values in the newest history."""
        fields = RulesSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        kept = ledger.search(_load(pk), Rules.from_mapping(fields.validated_data), request.user)
        return Response(_search_json(kept), status=status.HTTP_201_CREATED)


class DecisionSerializer(serializers.Serializer):
    decision = serializers.ChoiceField(choices=["accept", "dismiss", "reopen"])
    ids = IdsField()
    replace = serializers.ChoiceField(choices=ledger.REPLACEMENTS, default="expected")
    value = NumberField(required=False, allow_null=True)
    reason = serializers.CharField(required=False, allow_blank=True, max_length=200)


class CountSerializer(serializers.Serializer):
    count = serializers.IntegerField()


class DecisionView(APIView):
    acts = {"POST": Act("decided on findings of search {id}")}

    @extend_schema(request=DecisionSerializer, responses=CountSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Accept, dismiss or reopen suspicions of a search: all that are named, or none."""
        kept = get_object_or_404(Search, pk=pk)
        fields = DecisionSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        given = fields.validated_data
        if given["decision"] == "accept":
            choice = ledger.Choice(given["ids"], given["replace"], given.get("value"), given.get("reason", ""))
            n = ledger.accept(kept, choice, request.user)
        elif given["decision"] == "dismiss":
            n = ledger.dismiss(kept, given["ids"], request.user)
        else:
            n = ledger.reopen(kept, given["ids"])
        return Response({"count": n})


class CorrectionSerializer(serializers.ModelSerializer):
    made_by = serializers.CharField(source="made_by.username")
    reverted_by = serializers.CharField(source="reverted_by.username", default=None, allow_null=True)
    period = serializers.SerializerMethodField()
    key = serializers.SerializerMethodField(help_text="Key values of the series.")
    name = serializers.SerializerMethodField(help_text="What the series is called.")
    holds = serializers.SerializerMethodField(
        help_text="Not where it was reverted, or where its value was revised since."
    )

    class Meta:
        model = Correction
        fields = [
            "id", "key", "name", "period", "received", "value", "unjudged", "rule", "score", "reason", "made_by",
            "made_at", "reverted_by", "reverted_at", "holds",
        ]  # fmt: skip
        read_only_fields = fields

    def get_holds(self, correction: Correction) -> bool:
        return correction.pk in self.context["holding"]

    def get_key(self, correction: Correction) -> list[str]:
        return key_parts(correction.key)

    def get_name(self, correction: Correction) -> str:
        parts = key_parts(correction.key)
        labels: list[dict[str, str]] = self.context["labels"]
        return shown([of.get(code) or code for of, code in zip(labels, parts, strict=True)])

    def get_period(self, correction: Correction) -> str:
        return label(correction.period, self.context["frequency"])


class MovedVolumeSerializer(serializers.Serializer):
    name = serializers.CharField()
    count = serializers.IntegerField()
    added = serializers.FloatField()
    removed = serializers.FloatField()
    unknown = serializers.FloatField(help_text="Volume of values that became unknown.")


class LedgerSerializer(serializers.Serializer):
    corrections = CorrectionSerializer(many=True)
    n_standing = serializers.IntegerField()
    n_reverted = serializers.IntegerField()
    level = serializers.CharField()
    levels = serializers.ListField(child=serializers.CharField())
    moved = MovedVolumeSerializer(many=True)


_FILTERS = [
    OpenApiParameter("state", str, enum=["standing", "reverted", "all"]),
    OpenApiParameter("key", str, description="Part of a code or name of the series."),
    OpenApiParameter("rule", str),
    OpenApiParameter("level", str, description="Key or attribute by which the volume moved is summed."),
]


def _filtered(request: Request, pk: int) -> Any:
    rows = Correction.objects.filter(portfolio_id=pk).select_related("made_by", "reverted_by").order_by("-id")
    state = request.query_params.get("state", "all")
    if state != "all":
        rows = rows.filter(reverted_at__isnull=state == "standing")
    if part := request.query_params.get("key", "").casefold():
        load = _load(pk)
        labels = [labels_of(load, key) for key in load.key_names]

        def holds(key: str) -> bool:
            pairs = zip(labels, key_parts(key), strict=True)
            return any(part in code.casefold() or part in of.get(code, "").casefold() for of, code in pairs)

        keys = Correction.objects.filter(portfolio_id=pk).values_list("key", flat=True).distinct()
        rows = rows.filter(key__in=[key for key in keys if holds(key)])
    if rule := request.query_params.get("rule"):
        rows = rows.filter(rule=rule)
    return rows


class LedgerView(APIView):
    @extend_schema(parameters=_FILTERS, responses=LedgerSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """All corrections, the newest first, and the volume that those that stand have moved."""
        load = _load(pk)
        rows = _filtered(request, pk)
        level = request.query_params.get("level") or overview.dimensions(load)[0]
        every = Correction.objects.filter(portfolio_id=pk)
        holding = ledger.holding_ids(load)
        labels = [labels_of(load, key) for key in load.key_names]
        context = {"frequency": load.frequency, "holding": holding, "labels": labels}
        return Response(
            {
                "corrections": CorrectionSerializer(rows[:_MOST_SHOWN], many=True, context=context).data,
                "n_standing": len(holding),
                "n_reverted": every.exclude(reverted_at=None).count(),
                "level": level,
                "levels": overview.dimensions(load),
                "moved": overview.volume_moved(load, level),
            }
        )


class LedgerFileView(APIView):
    @extend_schema(parameters=_FILTERS[:3], responses={(200, "text/csv"): str})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The ledger as CSV."""
        load = _load(pk)
        buffer = io.StringIO()
        out = csv.writer(buffer)
        out.writerow(
            [*load.key_names, "period", "received", "corrected", "unjudged", "rule", "score", "reason", "by", "at",
             "reverted by", "reverted at"]
        )  # fmt: skip
        for row in _filtered(request, pk):
            out.writerow(
                [
                    *key_parts(row.key),
                    label(row.period, load.frequency),
                    row.received,
                    "unknown" if row.value is None else row.value,
                    "yes" if row.unjudged else "",
                    row.rule,
                    row.score,
                    row.reason,
                    row.made_by.username,
                    row.made_at.isoformat(timespec="seconds"),
                    row.reverted_by.username if row.reverted_by else "",
                    row.reverted_at.isoformat(timespec="seconds") if row.reverted_at else "",
                ]
            )
        return HttpResponse(
            buffer.getvalue(),
            content_type="text/csv",
            headers={"Content-Disposition": 'attachment; filename="corrections.csv"'},
        )


class RevertSerializer(serializers.Serializer):
    ids = IdsField()


class RevertView(APIView):
    acts = {"POST": Act("reverted corrections")}

    @extend_schema(request=RevertSerializer, responses=CountSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Take corrections back. They stay in the ledger."""
        fields = RevertSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        portfolio = get_object_or_404(Portfolio, pk=pk)
        return Response({"count": ledger.revert(portfolio, fields.validated_data["ids"], request.user)})


class MarkSerializer(serializers.Serializer):
    where = serializers.DictField(child=serializers.CharField())
    first = serializers.CharField()
    last = serializers.CharField()
    because = serializers.ChoiceField(choices=UNKNOWN_BECAUSE)
    reason = serializers.CharField(required=False, allow_blank=True, max_length=200)


class MarkView(APIView):
    acts = {"POST": Act("corrected values")}

    @extend_schema(request=MarkSerializer, responses=CountSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Mark a stock-out or closure over some periods: these values become unknown."""
        fields = MarkSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        load, given = _load(pk), fields.validated_data
        ends = []
        for field in ("first", "last"):
            number = number_of(given[field], load.frequency)
            if number is None:
                raise serializers.ValidationError(
                    {field: f"{given[field]!r} is no period such as {load.timeline.labels[-1]}."}
                )
            ends.append(number)
        n = ledger.mark(load, given["where"], ends[0], ends[1], given["because"], given.get("reason", ""), request.user)
        return Response({"count": n})


class KindEntrySerializer(serializers.Serializer):
    series = serializers.CharField()
    name = serializers.CharField()
    kind = serializers.CharField()
    by_hand = serializers.BooleanField()
    first_sale = serializers.CharField(allow_null=True)
    last_sale = serializers.CharField(allow_null=True)
    interval = serializers.FloatField(allow_null=True)
    variation = serializers.FloatField(allow_null=True)
    empty = serializers.FloatField(allow_null=True)
    trend = serializers.FloatField(allow_null=True)
    season = serializers.FloatField(allow_null=True)
    entropy = serializers.FloatField(allow_null=True)
    volume = serializers.FloatField(allow_null=True)


class KindGroupSerializer(serializers.Serializer):
    kind = serializers.CharField()
    count = serializers.IntegerField()
    volume = serializers.FloatField(help_text="Sold in the last season.")
    examples = KindEntrySerializer(many=True)


class CloudSerializer(serializers.Serializer):
    interval = serializers.ListField(child=serializers.FloatField())
    variation = serializers.ListField(child=serializers.FloatField())


class KindsSerializer(serializers.Serializer):
    n_series = serializers.IntegerField()
    volume = serializers.FloatField()
    kinds = KindGroupSerializer(many=True)
    series = KindEntrySerializer(many=True)
    movable = serializers.ListField(child=serializers.CharField())
    cloud = CloudSerializer()


class MoveSerializer(serializers.Serializer):
    series = serializers.ListField(child=serializers.CharField())
    kind = serializers.CharField(allow_null=True)


class KindsView(APIView):
    acts = {"POST": Act("moved series to another kind of demand")}

    @extend_schema(parameters=[OpenApiParameter("kind", str)], responses=KindsSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """Kinds of demand of the newest history, corrected; with `kind`, the series of that kind."""
        return Response(overview.kinds_of(_load(pk), request.query_params.get("kind")))

    @extend_schema(request=MoveSerializer, responses=CountSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Give a kind to series by hand; null takes it back."""
        fields = MoveSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        n = overview.move(_load(pk), fields.validated_data["series"], fields.validated_data["kind"], request.user)
        return Response({"count": n})
