"""What a study found: the sheet of its nodes, and its accuracy."""

from __future__ import annotations

from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.methods.notation import parse
from tansy.engine.study.accuracy import CHOICE, PUBLISHED
from tansy.engine.study.recipe import BEST
from tansy.server.studies.answers import NullableFloats, parts_of
from tansy.server.studies.services import result_of


class TreeRowSerializer(serializers.Serializer):
    name = serializers.CharField()
    code = serializers.CharField(required=False, help_text="Where it is not the name.")
    depth = serializers.IntegerField()
    parent = serializers.IntegerField()  # type: ignore[assignment]  # a field of that name hides DRF's attribute
    series = serializers.IntegerField()


class SheetSerializer(serializers.Serializer):
    """Column by column: entry i of each list belongs to the same node. `spark` is base64 of bytes, 255 missing."""

    rows = TreeRowSerializer(many=True)
    columns = TreeRowSerializer(many=True)
    node = serializers.ListField(child=serializers.CharField())
    row = serializers.ListField(child=serializers.IntegerField())
    column = serializers.ListField(child=serializers.IntegerField())
    wape = serializers.ListField(child=serializers.FloatField(allow_null=True))
    rmsse = serializers.ListField(child=serializers.FloatField(allow_null=True))
    gain = serializers.ListField(child=serializers.FloatField(allow_null=True))
    kinds = serializers.ListField(child=serializers.CharField(), help_text="The kinds that a node counts to.")
    kind = serializers.ListField(child=serializers.IntegerField(), help_text="Position in kinds.")
    spark = serializers.ListField(child=serializers.CharField())
    n_past = serializers.IntegerField()


class AccuracyLevelSerializer(serializers.Serializer):
    name = serializers.CharField()
    labels = serializers.ListField(child=serializers.CharField(), help_text="Its parts, one an axis.")
    n_nodes = serializers.IntegerField()


class KindSizeSerializer(serializers.Serializer):
    name = serializers.CharField()
    n_series = serializers.IntegerField()


class SortOfKnowledgeSerializer(serializers.Serializer):
    name = serializers.CharField()
    worse = serializers.FloatField(help_text="Percent by which the error grows without it.")


class EffectPointSerializer(serializers.Serializer):
    at = serializers.FloatField()
    change = serializers.FloatField(help_text="Percent more expected than at the usual value.")


class LearnedEffectSerializer(serializers.Serializer):
    driver = serializers.CharField()
    relative = serializers.BooleanField(help_text="Whether points are percent more or less than usual, else values.")
    points = EffectPointSerializer(many=True)


class DrivesSerializer(serializers.Serializer):
    """What the learner goes by, on series that it did not learn from."""

    groups = SortOfKnowledgeSerializer(many=True)
    effects = LearnedEffectSerializer(many=True)


class ReportSerializer(serializers.Serializer):
    """by_kind: [kind][method][measure], of the series of a kind; kind_coverage: [kind][band]. coverage_error:
    [level][band], standard error over origins. between: [level][share of actuals below the lowest quantile, between
    each two, above the highest] of `probabilities`. interval_score: [level][band], in naive steps. gains: series whose
    gain lies below the first of `gain_cuts`, between each two, and above the last; n_worse: of these below zero.
    seconds: [method without the last two], of one processor, 0 where all was there already."""

    kinds = KindSizeSerializer(many=True)
    by_kind = serializers.ListField(child=serializers.ListField(child=NullableFloats()))
    kind_coverage = serializers.ListField(child=NullableFloats())
    coverage_error = serializers.ListField(child=NullableFloats())
    between = serializers.ListField(child=NullableFloats())
    probabilities = serializers.ListField(child=serializers.FloatField())
    interval_score = serializers.ListField(child=NullableFloats())
    gain_cuts = serializers.ListField(child=serializers.FloatField())
    gains = serializers.ListField(child=serializers.IntegerField())
    n_worse = serializers.IntegerField()
    drives = DrivesSerializer(required=False, allow_null=True, help_text="Of studies with a learner.")
    seconds = serializers.ListField(child=serializers.FloatField())


class AccuracySerializer(serializers.Serializer):
    """by_method: [level][method][lead, 0 for all][measure]; by_reconciliation: [level][reconciliation][measure];
    coverage: [level][lead, 0 for all][band]; coverage_by_making: [level][way that bands are made][band], over origins
    at which all ways have errors to go by; none of very large studies. The last level stands for all nodes. cells:
    [level][method], values that stand behind the measures of all leads; shared: those where the seasonal naive has a
    forecast too, which the gain is on. Bias is in percent of volume and below zero where the forecast was too high."""

    levels = AccuracyLevelSerializer(many=True)
    measures = serializers.ListField(child=serializers.CharField())
    methods = serializers.ListField(child=serializers.CharField())
    briefs = serializers.ListField(child=serializers.CharField(), help_text="The methods in a few words each.")
    parts = serializers.ListField(
        child=serializers.ListField(child=serializers.CharField()), help_text="Per method, those that it blends."
    )
    reconciliations = serializers.ListField(child=serializers.CharField())
    bands = serializers.ListField(child=serializers.FloatField())
    by_method = serializers.ListField(child=serializers.ListField(child=serializers.ListField(child=NullableFloats())))
    by_reconciliation = serializers.ListField(child=serializers.ListField(child=NullableFloats()))
    coverage = serializers.ListField(child=serializers.ListField(child=NullableFloats()))
    made = serializers.ListField(child=serializers.CharField(), required=False)
    coverage_by_making = serializers.ListField(child=serializers.ListField(child=NullableFloats()), required=False)
    cells = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()))
    shared = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()))
    chosen = serializers.DictField(child=serializers.IntegerField())
    zero_by_decision = serializers.IntegerField()
    report = ReportSerializer(required=False, help_text="Not of studies that were run before there was one.")


class SummarySerializer(serializers.Serializer):
    accuracy = AccuracySerializer()
    n_series = serializers.IntegerField()
    n_nodes = serializers.IntegerField()
    origins = serializers.ListField(child=serializers.CharField())
    frequency = serializers.CharField()
    leads = serializers.IntegerField()
    largest_gap = serializers.FloatField()
    reconciliation = serializers.CharField(help_text="That of what is published.")
    reconciled_by = serializers.ListField(
        child=serializers.CharField(),
        help_text="What the backtest chose, per origin and for what is published; empty where the recipe says which.",
    )
    edges = serializers.CharField(allow_blank=True, help_text="File that says how series add up; else empty.")
    seconds = serializers.DictField(child=serializers.FloatField())
    peak_memory_mb = serializers.FloatField()


class SheetView(APIView):
    @extend_schema(responses=SheetSerializer)
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The Field. It was packed when the study ended and is sent as it is."""
        result = result_of(pk, "sheet")
        tag = f'"{pk}-{result.made_at.timestamp():.0f}"'
        if request.headers.get("If-None-Match") == tag:
            return HttpResponse(status=304)
        response = HttpResponse(bytes(result.sheet), content_type="application/json")
        response["Content-Encoding"] = "gzip"
        response["ETag"] = tag
        response["Cache-Control"] = "private, no-cache"
        return response


class SummaryView(APIView):
    @extend_schema(responses=SummarySerializer)
    def get(self, request: Request, pk: int) -> Response:
        """Pooled accuracy, and figures of the run."""
        result = result_of(pk, "accuracy")
        summary, asked = result.summary, result.study.recipe.reconciliation
        reconciled_by = result.accuracy.get("reconciled_by", []) if asked == BEST else []
        forms = {text: None if text in (CHOICE, PUBLISHED) else parse(text) for text in result.accuracy["methods"]}
        return Response(
            {
                "accuracy": {
                    **result.accuracy,
                    "briefs": [form.brief if form else text for text, form in forms.items()],
                    "parts": [parts_of(form) for form in forms.values()],
                },
                "n_series": summary["series"],
                "n_nodes": summary["nodes"],
                "origins": summary["origins"],
                "frequency": result.study.load.frequency,
                "leads": result.leads,
                "largest_gap": summary["largest_gap"],
                "reconciliation": (reconciled_by or [asked])[-1],
                "reconciled_by": reconciled_by,
                "edges": result.study.recipe.edges,
                "seconds": summary["seconds"],
                "peak_memory_mb": summary["peak_memory_mb"],
            }
        )
