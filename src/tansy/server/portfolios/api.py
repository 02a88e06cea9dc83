"""Uploads and portfolios."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import generics, parsers, serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.reading.options import DUPLICATES, GAPS, ReadOptions
from tansy.server.portfolios import services
from tansy.server.portfolios.models import Load, Portfolio, Upload


class OptionsSerializer(serializers.Serializer):
    """The planner's decisions; what is left out is guessed."""

    time = serializers.CharField(required=False, allow_blank=True)
    value = serializers.CharField(required=False, allow_blank=True)
    keys = serializers.ListField(child=serializers.CharField(), required=False)
    attribute_columns = serializers.DictField(child=serializers.CharField(), required=False, allow_null=True)
    gaps = serializers.ChoiceField(choices=GAPS, required=False)
    duplicates = serializers.ChoiceField(choices=DUPLICATES, required=False)
    day_first = serializers.BooleanField(required=False, allow_null=True)


def to_options(given: dict[str, Any]) -> ReadOptions:
    return ReadOptions(**{**given, "keys": tuple(given.get("keys", ()))})


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
    role = serializers.ChoiceField(choices=["time", "value", "key", "attribute", "period", "ignored"])
    of = serializers.CharField(allow_null=True)
    reason = serializers.CharField()


class KeySerializer(serializers.Serializer):
    name = serializers.CharField()
    count = serializers.IntegerField()
    levels = serializers.ListField(child=serializers.CharField())


class UnderstoodSerializer(serializers.Serializer):
    frequency = serializers.CharField()
    first = serializers.CharField()
    last = serializers.CharField()
    n_periods = serializers.IntegerField()
    n_series = serializers.IntegerField()
    n_rows = serializers.IntegerField()
    n_refused = serializers.IntegerField()
    total = serializers.FloatField()
    n_missing = serializers.IntegerField()
    keys = KeySerializer(many=True)
    findings = FindingSerializer(many=True)


class PreviewSerializer(serializers.Serializer):
    columns = ColumnSerializer(many=True)
    rows = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    n_rows = serializers.IntegerField()
    layout = serializers.CharField()
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


class LoadSerializer(serializers.ModelSerializer):
    first = serializers.SerializerMethodField()
    last = serializers.SerializerMethodField()
    findings = FindingSerializer(many=True)
    loaded_by = serializers.CharField(source="loaded_by.username")

    class Meta:
        model = Load
        fields = [
            "id", "file_name", "sha256", "loaded_by", "loaded_at", "n_rows", "n_refused", "n_series", "total",
            "frequency", "n_periods", "season_length", "key_names", "levels", "first", "last", "findings",
        ]  # fmt: skip
        read_only_fields = fields

    def get_first(self, load: Load) -> str:
        return load.timeline.labels[0]

    def get_last(self, load: Load) -> str:
        return load.timeline.labels[-1]


class PortfolioSerializer(serializers.ModelSerializer):
    load = LoadSerializer()

    class Meta:
        model = Portfolio
        fields = ["id", "name", "made_at", "load"]
        read_only_fields = fields


class NewPortfolioSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=120)
    options = OptionsSerializer()

    def validate_name(self, name: str) -> str:
        if Portfolio.objects.filter(name=name).exists():
            raise serializers.ValidationError(f"There is a portfolio named {name} already; choose another name.")
        return name


class UploadsView(APIView):
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
    @extend_schema(responses=UploadSerializer)
    def get(self, request: Request, pk: int) -> Response:
        return Response(UploadSerializer(_upload(request, pk)).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        services.discard(_upload(request, pk))
        return Response(status=status.HTTP_204_NO_CONTENT)


class PreviewView(APIView):
    @extend_schema(request=OptionsSerializer, responses=PreviewSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """What is understood of the upload with these decisions. Nothing is loaded."""
        fields = OptionsSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        return Response(services.preview(_upload(request, pk), to_options(fields.validated_data)))


class LoadView(APIView):
    @extend_schema(request=NewPortfolioSerializer, responses={201: PortfolioSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Load the upload into a new portfolio: everything or nothing."""
        upload = _upload(request, pk)
        fields = NewPortfolioSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        options = to_options(fields.validated_data["options"])
        portfolio = services.load(upload, options, fields.validated_data["name"], request.user)
        return Response(PortfolioSerializer(portfolio).data, status=status.HTTP_201_CREATED)


class PortfoliosView(generics.ListAPIView):
    serializer_class = PortfolioSerializer
    pagination_class = None
    queryset = Portfolio.objects.order_by("-id")


class PortfolioView(generics.RetrieveAPIView):
    serializer_class = PortfolioSerializer
    queryset = Portfolio.objects.all()
