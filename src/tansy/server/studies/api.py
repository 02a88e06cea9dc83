"""Studies, their progress, and what they found."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.db.models import Prefetch, QuerySet
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.backtest.intervals import groups_of_levels
from tansy.engine.backtest.measures import nan_mean
from tansy.engine.methods.form import Form
from tansy.engine.methods.notation import parse
from tansy.engine.study import export
from tansy.engine.study.accuracy import CHOICE, PUBLISHED
from tansy.engine.study.bands_held import inside
from tansy.engine.study.forecast import ROUNDING
from tansy.engine.study.recipe import BEST, read_recipe
from tansy.engine.study.shared_out import NO_METHODS, brief_of, form_of
from tansy.engine.study.sums import quantiles_of_sums
from tansy.engine.timeline import Timeline
from tansy.server.accounts.acts import Act
from tansy.server.api.errors import Conflict
from tansy.server.api.fields import BEFORE, page_of
from tansy.server.portfolios import corrections as ledger
from tansy.server.portfolios.models import Portfolio
from tansy.server.portfolios.plans import PlanSerializer, own_plans
from tansy.server.studies import adjustments, services
from tansy.server.studies.models import Node, Result, Run, Study, node_at, unpack


class RunSerializer(serializers.ModelSerializer):
    class Meta:
        model = Run
        fields = [
            "id", "state", "step", "done", "of", "seconds_left", "attempts", "stop_requested", "message",
            "queued_at", "started_at", "finished_at",
        ]  # fmt: skip
        read_only_fields = fields


class StudySerializer(serializers.ModelSerializer):
    run = RunSerializer()
    portfolio_name = serializers.CharField(source="portfolio.name")
    n_series = serializers.IntegerField(source="load.n_series")
    last_period = serializers.SerializerMethodField()
    rmsse = serializers.FloatField(
        source="result_or_none.rmsse", default=None, allow_null=True, help_text="Of what is published, over the series."
    )
    gain = serializers.FloatField(
        source="result_or_none.gain", default=None, allow_null=True, help_text="Over the seasonal naive, in percent."
    )
    tasks_computed = serializers.IntegerField(
        source="result_or_none.tasks_computed", default=None, allow_null=True,
        help_text="Tasks (a method, an origin, a block of nodes) that were fitted for it.",
    )  # fmt: skip
    tasks_reused = serializers.IntegerField(
        source="result_or_none.tasks_reused", default=None, allow_null=True,
        help_text="Tasks whose results earlier studies had left.",
    )  # fmt: skip
    made_by = serializers.CharField(source="made_by.username")

    class Meta:
        model = Study
        fields = [
            "id",
            "portfolio",
            "portfolio_name",
            "name",
            "made_by",
            "made_at",
            "n_series",
            "last_period",
            "rmsse",
            "gain",
            "tasks_computed",
            "tasks_reused",
            "archived_at",
            "run",
        ]
        read_only_fields = fields

    def get_last_period(self, study: Study) -> str:
        return study.load.timeline.ends[1]


class NewStudySerializer(serializers.Serializer):
    recipe = serializers.CharField(required=False, help_text="A recipe in TOML; the default one without it.")
    name = serializers.CharField(required=False, max_length=120, help_text="Instead of the name in the recipe.")
    plans = PlanSerializer(many=True, required=False, help_text="Of this study alone, beside those of its recipe.")


class ChangeStudySerializer(serializers.Serializer):
    name = serializers.CharField(required=False, max_length=120)
    archived = serializers.BooleanField(required=False, help_text="Out of the way, or back.")


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


class StepSerializer(serializers.Serializer):
    name = serializers.CharField()
    code = serializers.CharField(required=False, help_text="Where it is not the name.")
    node = serializers.CharField()


class ParameterSerializer(serializers.Serializer):
    name = serializers.CharField()
    value = serializers.FloatField()


class NullableFloats(serializers.ListField):
    child = serializers.FloatField(allow_null=True)


class BandSerializer(serializers.Serializer):
    level = serializers.FloatField()
    low = NullableFloats()
    high = NullableFloats()


class OriginSerializer(serializers.Serializer):
    period = serializers.CharField()
    at = serializers.IntegerField(help_text="Position of the origin in the periods.")
    method = serializers.CharField(allow_null=True)
    brief = serializers.CharField(help_text="The method in a few words; empty without one.", allow_blank=True)
    forecast = NullableFloats()
    missed = NullableFloats(help_text="What came less the forecast, by lead.")
    held = serializers.ListField(
        child=serializers.IntegerField(allow_null=True), help_text="How many of the bands hold what came, by lead."
    )
    bands = BandSerializer(many=True)
    wape = serializers.FloatField(allow_null=True)


class ScoreSerializer(serializers.Serializer):
    method = serializers.CharField()
    mae = serializers.FloatField(allow_null=True)
    wape = serializers.FloatField(allow_null=True)
    rmsse = serializers.FloatField(allow_null=True)
    gain = serializers.FloatField(allow_null=True)
    origins = serializers.IntegerField()


class HitSerializer(serializers.Serializer):
    level = serializers.FloatField()
    share = serializers.FloatField(allow_null=True)


class KindSerializer(serializers.Serializer):
    """words: "seasonal, smooth". interval: periods from one sale to the next. variation: squared coefficient of
    variation of the sizes of sales. empty: share of periods without a sale. window: length of the only season."""

    words = serializers.CharField()
    interval = serializers.FloatField(allow_null=True)
    variation = serializers.FloatField(allow_null=True)
    empty = serializers.FloatField(allow_null=True)
    window = serializers.FloatField(allow_null=True)


class AdjustedBySerializer(serializers.Serializer):
    """own: made for this very node, not for one above or below it. n: how many it stands for; more than one were made
    at once, and are withdrawn at once."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    words = serializers.CharField()
    n = serializers.IntegerField()
    reason = serializers.CharField()
    made_by = serializers.CharField()
    first = serializers.CharField()
    last = serializers.CharField()
    own = serializers.BooleanField()


class StudyCorrectionsView(APIView):
    @extend_schema(responses={(200, "text/csv"): OpenApiTypes.BINARY})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """Corrections that people had made when the study was made, as a file for `tansy run --corrections`."""
        study = get_object_or_404(Study.objects.select_related("load"), pk=pk)
        table = export.corrections(ledger.unpack(study.corrections), study.load.panel())
        return HttpResponse(
            export.csv_of(table),
            content_type="text/csv",
            headers={"Content-Disposition": f'attachment; filename="corrections-{study.pk}.csv"'},
        )


class NodeSerializer(serializers.Serializer):
    node = serializers.CharField()
    name = serializers.CharField()
    level = serializers.CharField()
    trail = serializers.ListField(child=StepSerializer(many=True))
    previous = serializers.CharField(allow_null=True)
    next = serializers.CharField(allow_null=True)
    place = serializers.IntegerField()
    n_on_level = serializers.IntegerField()
    frequency = serializers.CharField()
    season_length = serializers.IntegerField()
    periods = serializers.ListField(child=serializers.CharField())
    n_past = serializers.IntegerField()
    history = NullableFloats(help_text="As methods see it, corrected.")
    received = NullableFloats(help_text="As received, where it differs; else null.", allow_null=True)
    base = NullableFloats()
    statistical = NullableFloats(help_text="The forecast before planners changed it.")
    statistical_bands = BandSerializer(many=True)
    forecast = NullableFloats()
    bands = BandSerializer(many=True)
    sums = NullableFloats(help_text="The forecast of leads 1 to each, together.")
    sum_bands = BandSerializer(many=True, help_text="Of these sums.")
    adjusted_by = AdjustedBySerializer(many=True, help_text="Adjustments that change this forecast.")
    method = serializers.CharField(allow_null=True)
    family = serializers.CharField(help_text="Of the method; empty without one.", allow_blank=True)
    searched = serializers.BooleanField(help_text="Whether the method looks for its form, which may change.")
    brief = serializers.CharField(help_text="The method in a few words; empty without one.", allow_blank=True)
    parts = serializers.ListField(child=serializers.CharField(), help_text="Methods of a blend; empty without one.")
    reason = serializers.CharField(help_text="Why it has this method; empty without one.", allow_blank=True)
    plan = serializers.CharField(help_text="The plan that the forecast comes from; else empty.")
    kept = serializers.CharField(help_text="Why the method was kept by hand; else empty.")
    kind = KindSerializer()
    parameters = ParameterSerializer(many=True)
    scores = ScoreSerializer(many=True)
    published = ScoreSerializer()
    hits = HitSerializer(many=True)
    origins = OriginSerializer(many=True)
    usual_error = serializers.FloatField(allow_null=True, help_text="Root of the mean square of all errors of origins.")


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


class PortfolioStudiesView(APIView):
    acts = {"POST": Act("made study {made}, {name}")}

    @extend_schema(parameters=[BEFORE], responses=StudySerializer(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """The newest hundred studies of a portfolio, or those before one of them."""
        get_object_or_404(Portfolio, pk=pk)
        studies = page_of(request, listed().filter(portfolio_id=pk))
        return Response(StudySerializer(studies, many=True).data)

    @extend_schema(request=NewStudySerializer, responses={201: StudySerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Make a study and put it in the queue."""
        portfolio = get_object_or_404(Portfolio, pk=pk)
        fields = NewStudySerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        text = fields.validated_data.get("recipe")
        name = fields.validated_data.get("name", "")
        plans = own_plans(portfolio, fields.validated_data.get("plans", []))
        study = services.make(portfolio, request.user, read_recipe(text) if text else None, name, plans)
        return Response(StudySerializer(study).data, status=status.HTTP_201_CREATED)


class StudyView(APIView):
    acts = {"PATCH": Act("changed study {id}, {name}"), "DELETE": Act("deleted study {id}")}

    @extend_schema(responses=StudySerializer)
    def get(self, request: Request, pk: int) -> Response:
        return Response(StudySerializer(get_object_or_404(Study, pk=pk)).data)

    @extend_schema(request=ChangeStudySerializer, responses=StudySerializer)
    def patch(self, request: Request, pk: int) -> Response:
        """Rename a study, or put it out of the way."""
        study = get_object_or_404(Study, pk=pk)
        fields = ChangeStudySerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        services.change(study, **fields.validated_data)
        return Response(StudySerializer(study).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Delete a study and what it found. One that a release stands on stays."""
        services.delete(get_object_or_404(Study, pk=pk))
        return Response(status=status.HTTP_204_NO_CONTENT)


class AgainView(APIView):
    acts = {"POST": Act("ran study {id} again on new history")}

    @extend_schema(request=None, responses={201: StudySerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Run the same recipe on the newest history and the corrections that stand now."""
        made = services.again(get_object_or_404(Study, pk=pk), request.user)
        return Response(StudySerializer(made).data, status=status.HTTP_201_CREATED)


class StopView(APIView):
    acts = {"POST": Act("stopped study {id}")}

    @extend_schema(request=None, responses=StudySerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Ask the run to stop. What it has fitted is kept."""
        study = get_object_or_404(Study, pk=pk)
        if not study.run.is_open:
            raise Conflict("This study is not running.")
        study.run.ask_to_stop()
        return Response(StudySerializer(study).data)


class RunView(APIView):
    acts = {"POST": Act("ran study {id}")}

    @extend_schema(request=None, responses=StudySerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Run a study again that was stopped or failed; it goes on where it was."""
        study = get_object_or_404(Study, pk=pk)
        services.enqueue(study)
        return Response(StudySerializer(study).data)


class RecipeView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("as_made", bool, description="Without what has been adjusted since.")],
        responses={(200, "application/toml"): OpenApiTypes.STR},
    )
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The recipe as a file for `tansy run`."""
        study = get_object_or_404(Study, pk=pk)
        as_made = request.query_params.get("as_made", "") == "true"
        text = study.recipe_text if as_made else adjustments.recipe_text(study)
        response = HttpResponse(text, content_type="application/toml")
        response["Content-Disposition"] = f'attachment; filename="study-{study.pk}.toml"'
        return response


def listed() -> QuerySet[Study]:
    """Studies with what a list says of them, in as many queries as for one; no large column is read."""
    newest = Prefetch("runs", Run.objects.order_by("-id"), to_attr="newest_runs")
    return (
        Study.objects.select_related("portfolio", "load", "made_by", "result")
        .prefetch_related(newest)
        .only(
            "name", "made_at", "archived_at", "portfolio__name", "made_by__username", "load__n_series",
            "load__frequency", "load__first_period", "load__n_periods", "load__season_length",
            "result__rmsse", "result__gain", "result__tasks_computed", "result__tasks_reused",
        )
    )  # fmt: skip


def _result(pk: int, *columns: str) -> Result:
    """The result of a study, of its large columns only those that are named."""
    large = {"sheet", "accuracy", "evidence"} - set(columns)
    unread = ("study__load__attributes", "study__load__findings", "study__load__options")
    found = Result.objects.filter(study_id=pk).defer(*large, *unread).select_related("study__load").first()
    if found is None:
        study = get_object_or_404(Study, pk=pk)
        raise Conflict(f"This study has no result yet; its run is {study.run.state}.")
    return found


class SheetView(APIView):
    @extend_schema(responses=SheetSerializer)
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The Field. It was packed when the study ended and is sent as it is."""
        result = _result(pk, "sheet")
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
        result = _result(pk, "accuracy")
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


def parts_of(form: Form | None) -> list[str]:
    """Methods of a blend; none of anything else."""
    return [str(leaf) for leaf in form.leaves] if form and form.leaves != (form,) else []


def rounded_list(values: np.ndarray) -> list[float | None]:
    """Four decimals are more than a screen shows; releases and downloads keep them all."""
    return [None if not np.isfinite(v) else round(v, 4) + 0.0 for v in values.tolist()]


def bands_of(quantiles: np.ndarray, levels: list[float]) -> list[dict[str, Any]]:
    """Widest first, as `levels` are."""
    return [
        {"level": level, "low": rounded_list(quantiles[b]), "high": rounded_list(quantiles[-1 - b])}
        for b, level in enumerate(levels)
    ]


def _score(method: str, row: np.ndarray) -> dict[str, Any]:
    mae, wape, rmsse, gain = rounded_list(row[:4])
    return {
        "method": method,
        "mae": mae,
        "wape": wape,
        "rmsse": rmsse,
        "gain": gain,
        "origins": int(np.nan_to_num(row[4])),
    }


def _after(values: np.ndarray, seen_at: list[int], leads: int) -> np.ndarray:
    """What came after each origin, [origins, leads], NaN where nothing has."""
    padded = np.concatenate([values, np.full(leads, np.nan)])
    return np.stack([padded[n : n + leads] for n in seen_at])


def _sums(result: Result, level: int, forecast: np.ndarray, quantiles: np.ndarray) -> np.ndarray:
    """Quantiles [Q, H] of the sums over leads 1 to L of a node of a level."""
    sizes = np.array([one["n_nodes"] for one in result.levels[:-1]], dtype=np.int64)  # the last is all nodes
    group = groups_of_levels(sizes)[level]
    h = result.leads
    of_leads = unpack(result.together, -1, h, h)[group] if result.together else np.ones((h, h))
    found = quantiles_of_sums(forecast[None], quantiles[None], of_leads, ROUNDING in result.layers)
    return np.asarray(found[0])


class NodeView(APIView):
    @extend_schema(responses=NodeSerializer)
    def get(self, request: Request, pk: int, node: str) -> Response:
        """Everything the Series screen shows of one node."""
        result = _result(pk)
        here = node_at(pk, node)
        load = result.study.load
        timeline: Timeline = load.timeline
        h, n_origins, methods = result.leads, len(result.seen_at), result.methods
        levels = result.band_levels
        history = unpack(here.history)
        tested = unpack(here.tested, n_origins, h)
        tested_quantiles = unpack(here.tested_quantiles, n_origins, 2 * len(levels), h)
        chosen_at = unpack(here.chosen_at).astype(int)
        on_level = result.levels
        first = sum(level["n_nodes"] for level in on_level[: here.level])
        n_on_level = on_level[here.level]["n_nodes"]
        place = here.position - first
        beside = (here.position - 1 if place > 0 else -1, here.position + 1 if place + 1 < n_on_level else -1)
        refs = dict(Node.objects.filter(study_id=pk, position__in=beside).values_list("position", "ref"))
        form = form_of(methods[here.chosen]) if here.chosen >= 0 else None
        values = unpack(here.parameters)
        parameters = []
        if here.chosen >= 0:
            names = result.parameter_names[here.chosen]
            parameters = [
                {"name": name, "value": float(values[i])} for i, name in enumerate(names) if np.isfinite(values[i])
            ]
        judged = unpack(here.received) if here.received else history
        came = _after(judged, result.seen_at, h)
        errors = came - tested
        within = inside(came[None], tested_quantiles[None])[0, ..., 0]
        held = np.where(np.isnan(came), np.nan, within.sum(axis=1))
        briefs = {j: brief_of(methods[j]) for j in set(chosen_at.tolist()) if j >= 0}
        origins = []
        origin_wape = rounded_list(unpack(here.origin_wape))
        for o, n_seen in enumerate(result.seen_at):
            origins.append(
                {
                    "period": timeline.labels[n_seen - 1],
                    "at": n_seen - 1,
                    "method": methods[chosen_at[o]] if chosen_at[o] >= 0 else None,
                    "brief": briefs.get(int(chosen_at[o]), ""),
                    "forecast": rounded_list(tested[o]),
                    "missed": rounded_list(errors[o]),
                    "held": [None if np.isnan(v) else int(v) for v in held[o].tolist()],
                    "bands": bands_of(tested_quantiles[o], levels),
                    "wape": origin_wape[o],
                }
            )
        scores = unpack(here.scores, len(methods), 5)
        hits = zip(levels, rounded_list(unpack(here.hits)), strict=True)
        statistical = unpack(here.layers, -1, h)[-1]
        statistical_quantiles = unpack(here.quantiles, 2 * len(levels), h)
        forecast, quantiles = statistical, statistical_quantiles
        adjusted_by: list[dict[str, Any]] = []
        if adjustments.rows_of(result.study.portfolio).exists():
            found = adjustments.adjusted(result.study)
            forecast, quantiles = found.mean[here.position], found.bands(here.position)
            statistical = found.statistical.statistical[here.position]
            adjusted_by = adjustments.that_change(found, here.position)
        return Response(
            {
                "node": here.ref,
                "name": here.name,
                "level": on_level[here.level]["name"],
                "trail": here.trail,
                "previous": refs.get(beside[0]),
                "next": refs.get(beside[1]),
                "place": place + 1,
                "n_on_level": n_on_level,
                "frequency": timeline.frequency,
                "season_length": timeline.season_length,
                "periods": timeline.labels + timeline.after(h).labels,
                "n_past": timeline.n_periods,
                "history": rounded_list(history),
                "received": rounded_list(unpack(here.received)) if here.received else None,
                "base": rounded_list(unpack(here.base)),
                "statistical": rounded_list(statistical),
                "statistical_bands": bands_of(statistical_quantiles, levels),
                "forecast": rounded_list(forecast),
                "bands": bands_of(quantiles, levels),
                "sums": rounded_list(np.cumsum(forecast)),
                "sum_bands": bands_of(_sums(result, here.level, forecast, quantiles), levels),
                "adjusted_by": adjusted_by,
                "method": methods[here.chosen] if here.chosen >= 0 else None,
                "family": form.family if form else "",
                "searched": bool(form and form.searched),
                "brief": brief_of(methods[here.chosen]) if here.chosen >= 0 else "",
                "parts": parts_of(form),
                "reason": here.reason,
                "plan": here.plan,
                "kept": here.kept,
                "kind": {"words": here.kind, **here.kind_figures},
                "parameters": parameters,
                "scores": [_score(name, scores[j]) for j, name in enumerate(methods) if name not in NO_METHODS],
                "published": _score("published", unpack(here.node_scores)),
                "hits": [{"level": level, "share": share} for level, share in hits],
                "origins": origins,
                "usual_error": rounded_list(np.sqrt(nan_mean(errors.reshape(1, -1) ** 2, axis=1)))[0],
            }
        )
