"""Uploads and portfolios."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any

from django.db.models import QuerySet
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema, extend_schema_field
from rest_framework import generics, parsers, serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.reading.options import (
    COPIES,
    DUPLICATES,
    EMPTY_KEYS,
    GAPS,
    NEGATIVES,
    TOTALS,
    UNFINISHED,
    WEEK_STARTS,
    ReadOptions,
)
from tansy.engine.study.export import csv_of
from tansy.engine.timeline import FREQUENCIES
from tansy.server.accounts.acts import LOOK, Act, Role
from tansy.server.accounts.trail import done_in, nothing_done
from tansy.server.portfolios import access, services
from tansy.server.portfolios.models import Load, Portfolio, Upload


class OptionsSerializer(serializers.Serializer):
    """The planner's decisions; what is left out is guessed."""

    time = serializers.CharField(required=False, allow_blank=True)
    value = serializers.CharField(required=False, allow_blank=True)
    keys = serializers.ListField(child=serializers.CharField(), required=False)
    attribute_columns = serializers.DictField(child=serializers.CharField(), required=False, allow_null=True)
    gaps = serializers.ChoiceField(choices=GAPS, required=False)
    duplicates = serializers.ChoiceField(choices=DUPLICATES, required=False)
    copies = serializers.ChoiceField(choices=COPIES, required=False)
    totals = serializers.ChoiceField(choices=TOTALS, required=False)
    empty_keys = serializers.ChoiceField(choices=EMPTY_KEYS, required=False)
    negatives = serializers.ChoiceField(choices=NEGATIVES, required=False)
    unfinished = serializers.ChoiceField(choices=UNFINISHED, required=False)
    driver_columns = serializers.ListField(child=serializers.CharField(), required=False, allow_null=True)
    period_columns = serializers.ListField(child=serializers.CharField(), required=False)
    first_period = serializers.CharField(required=False, allow_blank=True, max_length=20)
    frequency = serializers.ChoiceField(choices=FREQUENCIES, required=False, allow_null=True)
    week_start = serializers.ChoiceField(choices=WEEK_STARTS, required=False)
    sheet = serializers.CharField(required=False, allow_null=True)
    day_first = serializers.BooleanField(required=False, allow_null=True)


def to_options(given: dict[str, Any]) -> ReadOptions:
    columns = given.get("driver_columns")
    return ReadOptions(
        **{
            **given,
            "keys": tuple(given.get("keys", ())),
            "period_columns": tuple(given.get("period_columns", ())),
            "driver_columns": None if columns is None else tuple(columns),
        }
    )


class ExampleSerializer(serializers.Serializer):
    row = serializers.IntegerField()
    column = serializers.CharField()
    text = serializers.CharField()


class FindingSerializer(serializers.Serializer):
    kind = serializers.CharField()
    count = serializers.IntegerField()
    remedy = serializers.CharField()
    examples = ExampleSerializer(many=True)


class ColumnSerializer(serializers.Serializer):
    name = serializers.CharField()
    role = serializers.ChoiceField(choices=["time", "value", "key", "attribute", "driver", "period", "ignored"])
    of = serializers.CharField(allow_null=True)
    reason = serializers.CharField()


class KeySerializer(serializers.Serializer):
    name = serializers.CharField()
    count = serializers.IntegerField()
    levels = serializers.ListField(child=serializers.CharField())
    named_by = serializers.CharField(help_text="Column that says what the codes are called; else empty.")


class DriverSerializer(serializers.Serializer):
    name = serializers.CharField()
    ahead = serializers.IntegerField(help_text="Periods after the last one for which it is known.")


class FirstRowsSerializer(serializers.Serializer):
    columns = serializers.ListField(child=serializers.CharField())
    rows = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))


class EdgesSerializer(serializers.Serializer):
    file = serializers.CharField()
    n_totals = serializers.IntegerField()
    n_tops = serializers.IntegerField()


class UnderstoodSerializer(serializers.Serializer):
    frequency = serializers.CharField()
    first = serializers.CharField()
    last = serializers.CharField()
    n_periods = serializers.IntegerField()
    n_series = serializers.IntegerField()
    n_rows = serializers.IntegerField()
    n_refused = serializers.IntegerField()
    total = serializers.FloatField()
    decimal = serializers.CharField(
        help_text="How texts were read as numbers: comma, point, or empty where none has either."
    )
    n_missing = serializers.IntegerField()
    keys = KeySerializer(many=True)
    drivers = DriverSerializer(many=True)
    edges = EdgesSerializer(allow_null=True, help_text="How series add up, where a file says so.")
    first_rows = FirstRowsSerializer()
    findings = FindingSerializer(many=True)


class PreviewSerializer(serializers.Serializer):
    columns = ColumnSerializer(many=True)
    rows = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    n_rows = serializers.IntegerField()
    layout = serializers.CharField()
    sheets = serializers.ListField(child=serializers.CharField())
    sheet = serializers.CharField(allow_null=True)
    problem = serializers.CharField(allow_null=True)
    understood = UnderstoodSerializer(allow_null=True)


class UploadSerializer(serializers.ModelSerializer):
    class Meta:
        model = Upload
        fields = ["id", "file_name", "attribute_names", "size", "made_at"]
        read_only_fields = fields


class NewUploadSerializer(serializers.Serializer):
    sales = serializers.FileField()
    attributes = serializers.ListField(child=serializers.FileField(), required=False)


class RevisionSerializer(serializers.Serializer):
    key = serializers.ListField(child=serializers.CharField())
    period = serializers.CharField()
    old = serializers.FloatField(allow_null=True)
    new = serializers.FloatField(allow_null=True)


class AppendedSerializer(serializers.Serializer):
    """What later actuals brought."""

    new_periods = serializers.ListField(child=serializers.CharField())
    n_new = serializers.IntegerField()
    total_new = serializers.FloatField()
    n_revised = serializers.IntegerField()
    revised_by = serializers.FloatField()
    revisions = RevisionSerializer(many=True)
    n_new_series = serializers.IntegerField()
    new_series = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    n_silent = serializers.IntegerField()
    silent_series = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))


class LoadSerializer(serializers.ModelSerializer):
    first = serializers.SerializerMethodField()
    last = serializers.SerializerMethodField()
    findings = FindingSerializer(many=True)
    appended = AppendedSerializer(allow_null=True)
    is_used = serializers.BooleanField()
    driver_names = serializers.ListField(child=serializers.CharField())
    loaded_by = serializers.CharField(source="loaded_by.username")

    class Meta:
        model = Load
        fields = [
            "id", "file_name", "sha256", "loaded_by", "loaded_at", "n_rows", "n_refused", "n_series", "total",
            "frequency", "n_periods", "season_length", "key_names", "levels", "first", "last", "findings",
            "driver_names", "n_ahead", "appended", "is_used",
        ]  # fmt: skip
        read_only_fields = fields

    def get_first(self, load: Load) -> str:
        return load.timeline.ends[0]

    def get_last(self, load: Load) -> str:
        return load.timeline.ends[1]


class PortfolioSerializer(serializers.ModelSerializer):
    load = LoadSerializer()
    role = serializers.SerializerMethodField(help_text="Of the person who asks.")

    class Meta:
        model = Portfolio
        fields = ["id", "name", "made_at", "whole_units", "two_signatures", "role", "load"]
        read_only_fields = fields

    @extend_schema_field(serializers.ChoiceField(choices=Role.choices))
    def get_role(self, portfolio: Portfolio) -> str | None:
        return self._roles[portfolio.pk]

    @cached_property
    def _roles(self) -> Mapping[int, Role]:
        return access.roles_of(self.context["request"].user)


class PortfolioChangeSerializer(serializers.Serializer):
    whole_units = serializers.BooleanField(required=False)
    two_signatures = serializers.BooleanField(required=False, help_text="Who prepares a release does not sign it.")


class NewPortfolioSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=120)
    options = OptionsSerializer()

    def validate_name(self, name: str) -> str:
        if Portfolio.objects.filter(name=name).exists():
            raise serializers.ValidationError(f"There is a portfolio named {name} already; choose another name.")
        return name


class UploadsView(APIView):
    acts = {"POST": Act("handed in upload {made}")}
    parser_classes = [parsers.MultiPartParser]

    @extend_schema(request={"multipart/form-data": NewUploadSerializer}, responses={201: UploadSerializer})
    def post(self, request: Request) -> Response:
        """Hand in a sales file and, if there are any, files of attributes."""
        sales = request.FILES.get("sales")
        if sales is None:
            raise serializers.ValidationError({"sales": "Choose a file of sales."})
        upload = services.hand_in(request.user, sales, request.FILES.getlist("attributes"))
        return Response(UploadSerializer(upload).data, status=status.HTTP_201_CREATED)


def _upload(request: Request, pk: int) -> Upload:
    return get_object_or_404(Upload, pk=pk, made_by=request.user)


class UploadView(APIView):
    acts = {"DELETE": Act("discarded upload {id}")}

    @extend_schema(responses=UploadSerializer)
    def get(self, request: Request, pk: int) -> Response:
        return Response(UploadSerializer(_upload(request, pk)).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        services.discard(_upload(request, pk))
        return Response(status=status.HTTP_204_NO_CONTENT)


class PreviewView(APIView):
    acts = {"POST": LOOK}

    @extend_schema(request=OptionsSerializer, responses=PreviewSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """What is understood of the upload with these decisions. Nothing is loaded."""
        fields = OptionsSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        return Response(services.preview(_upload(request, pk), to_options(fields.validated_data)))


class LoadView(APIView):
    acts = {"POST": Act("loaded portfolio {made}, {name}, from upload {id}")}

    @extend_schema(request=NewPortfolioSerializer, responses={201: PortfolioSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Load the upload into a new portfolio: everything or nothing."""
        upload = _upload(request, pk)
        fields = NewPortfolioSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        options = to_options(fields.validated_data["options"])
        portfolio = services.load(upload, options, fields.validated_data["name"], request.user)
        done_in(request, portfolio.pk)
        told = PortfolioSerializer(portfolio, context={"request": request}).data
        return Response(told, status=status.HTTP_201_CREATED)


class PortfoliosView(generics.ListAPIView):
    serializer_class = PortfolioSerializer
    pagination_class = None

    def get_queryset(self) -> QuerySet[Portfolio]:
        return access.portfolios_of(self.request.user).order_by("-id")


class PortfolioView(generics.RetrieveAPIView):
    acts = {"PATCH": Act("changed what the portfolio asks", Role.KEEPER)}
    serializer_class = PortfolioSerializer
    queryset = Portfolio.objects.all()

    @extend_schema(request=PortfolioChangeSerializer, responses=PortfolioSerializer)
    def patch(self, request: Request, pk: int) -> Response:
        """What a portfolio asks: of studies made from now on, whole units; of releases, two people."""
        portfolio = self.get_object()
        fields = PortfolioChangeSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        for name, value in fields.validated_data.items():
            setattr(portfolio, name, value)
        portfolio.save(update_fields=list(fields.validated_data))
        return Response(self.get_serializer(portfolio).data)


class RefusedView(APIView):
    acts = {"POST": LOOK}

    @extend_schema(request=OptionsSerializer, responses={(200, "text/csv"): str})
    def post(self, request: Request, pk: int) -> HttpResponse:
        """The rows that these decisions leave out, as written, with their line and the reason."""
        fields = OptionsSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        reading = services.read(_upload(request, pk), to_options(fields.validated_data))
        return HttpResponse(csv_of(reading.refused, numbers_stay=True), content_type="text/csv")


class AppendSerializer(serializers.Serializer):
    portfolio = serializers.PrimaryKeyRelatedField(queryset=Portfolio.objects.all())
    options = OptionsSerializer(required=False)
    only_look = serializers.BooleanField(default=False, help_text="Say what would change, and load nothing.")


class AppendAnswerSerializer(serializers.Serializer):
    appended = AppendedSerializer()
    findings = FindingSerializer(many=True)
    n_refused = serializers.IntegerField()
    load = serializers.IntegerField(allow_null=True, help_text="The new load, null where it was only looked at.")


class AppendView(APIView):
    acts = {"POST": Act("appended actuals from upload {id}")}

    @extend_schema(request=AppendSerializer, responses=AppendAnswerSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Put later actuals to a portfolio, or look at what that would change."""
        upload = _upload(request, pk)
        fields = AppendSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        portfolio = fields.validated_data["portfolio"]
        access.demand(request, portfolio.pk, Role.PLANNER)
        options = to_options(fields.validated_data.get("options", {}))
        if fields.validated_data["only_look"]:
            nothing_done(request)
            reading, _, summary = services.appended(upload, portfolio, options)
            findings = [finding.to_json() for finding in reading.findings]
            answer = {"appended": summary.to_json(), "findings": findings, "n_refused": reading.n_refused, "load": None}
        else:
            load = services.append_upload(upload, portfolio, options, request.user)
            answer = {
                "appended": load.appended, "findings": load.findings, "n_refused": load.n_refused, "load": load.pk
            }  # fmt: skip
        return Response(answer)


class LoadsView(generics.ListAPIView):
    """Every load of a portfolio, the newest first."""

    serializer_class = LoadSerializer
    pagination_class = None

    def get_queryset(self) -> Any:
        return Load.objects.filter(portfolio_id=self.kwargs["pk"]).order_by("-id")


class OneLoadView(APIView):
    acts = {"DELETE": Act("undid load {id}")}

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Undo the newest load, as long as no study has used it."""
        services.undo(get_object_or_404(Load, pk=pk))
        return Response(status=status.HTTP_204_NO_CONTENT)
