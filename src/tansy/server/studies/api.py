"""Studies: made, changed, run and deleted."""

from __future__ import annotations

from django.db.models import Prefetch, QuerySet
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.study import export
from tansy.engine.study.recipe import read_recipe
from tansy.server.accounts.acts import Act
from tansy.server.api.errors import Conflict
from tansy.server.api.fields import BEFORE, page_of
from tansy.server.portfolios import corrections as ledger
from tansy.server.portfolios.models import Portfolio
from tansy.server.portfolios.plans import PlanSerializer, own_plans
from tansy.server.studies import adjustments, services
from tansy.server.studies.models import Run, Study


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
