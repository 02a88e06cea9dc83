"""Drafts and releases."""

from __future__ import annotations

import gzip
import hashlib
from typing import Any

from django.db.models import QuerySet
from django.http import HttpResponse
from django.utils.cache import patch_vary_headers
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.study.paths import MOST_PATHS
from tansy.server.accounts.acts import Act, Role
from tansy.server.api.fields import BEFORE, page_of, whole_number
from tansy.server.portfolios.models import Portfolio
from tansy.server.releases import bridge, report, services, track
from tansy.server.releases.models import Release, Withdrawal
from tansy.server.releases.workbook import as_xlsx
from tansy.server.studies.answers import BandSerializer, NullableFloats
from tansy.server.studies.models import Study

_PAGE = 1000
_PATHS = 200
_MOST_ROWS = 10**9


class CheckSerializer(serializers.Serializer):
    name = serializers.CharField()
    holds = serializers.BooleanField()
    found = serializers.CharField()


class WithdrawalSerializer(serializers.ModelSerializer):
    made_by = serializers.CharField(source="made_by.username")

    class Meta:
        model = Withdrawal
        fields = ["reason", "made_by", "made_at"]
        read_only_fields = fields


class ReleasedAdjustmentSerializer(serializers.Serializer):
    """before, after: sums of its periods."""

    name = serializers.CharField()
    words = serializers.CharField()
    reason = serializers.CharField()
    made_by = serializers.CharField()
    before = serializers.FloatField()
    after = serializers.FloatField()


class ReasonSerializer(serializers.Serializer):
    reason = serializers.CharField(max_length=400)


class ReleaseSerializer(serializers.ModelSerializer):
    published_by = serializers.CharField(source="published_by.username")
    prepared_by = serializers.CharField(source="prepared_by.username", default=None, allow_null=True)
    study_name = serializers.CharField(source="study.name")
    checks = CheckSerializer(many=True)
    total = serializers.ListField(child=serializers.FloatField())
    n_adjustments = serializers.IntegerField()
    withdrawal = WithdrawalSerializer(allow_null=True, default=None)

    class Meta:
        model = Release
        fields = [
            "id", "portfolio", "study", "study_name", "number", "published_by", "prepared_by", "published_at", "note",
            "origin", "first", "last", "n_series", "n_nodes", "checks", "total", "sha256",
            "n_adjustments", "withdrawal", "engine",
        ]  # fmt: skip
        read_only_fields = fields


class OneReleaseSerializer(ReleaseSerializer):
    adjustments = ReleasedAdjustmentSerializer(many=True)

    class Meta(ReleaseSerializer.Meta):
        fields = [*ReleaseSerializer.Meta.fields, "adjustments"]
        read_only_fields = fields


class TotalSerializer(serializers.Serializer):
    history = serializers.ListField(child=serializers.FloatField(allow_null=True))
    mean = serializers.ListField(child=serializers.FloatField())
    bands = BandSerializer(many=True)


class PreparationSerializer(serializers.Serializer):
    made_by = serializers.CharField(source="made_by.username")
    made_at = serializers.DateTimeField()
    note = serializers.CharField()


class DraftSerializer(serializers.Serializer):
    study = serializers.IntegerField()
    study_name = serializers.CharField()
    holds = serializers.BooleanField()
    published_as = serializers.IntegerField(allow_null=True, help_text="Number of the release, once published.")
    two_signatures = serializers.BooleanField(help_text="Whether one prepares and another one signs.")
    prepared = PreparationSerializer(allow_null=True, help_text="Who holds just this to be ready.")
    checks = CheckSerializer(many=True)
    adjustments = ReleasedAdjustmentSerializer(many=True)
    n_series = serializers.IntegerField()
    n_nodes = serializers.IntegerField()
    past_periods = serializers.ListField(child=serializers.CharField())
    periods = serializers.ListField(child=serializers.CharField())
    total = TotalSerializer()
    last_release = ReleaseSerializer(allow_null=True)


class PublishSerializer(serializers.Serializer):
    note = serializers.CharField(max_length=400, allow_blank=True, required=False)


class RowsSerializer(serializers.Serializer):
    release = serializers.IntegerField()
    withdrawn = serializers.BooleanField(help_text="Not to be used any more.")
    count = serializers.IntegerField()
    rows = serializers.ListField(child=serializers.DictField())


class ReleasedSerializer(serializers.Serializer):
    release = serializers.IntegerField(allow_null=True, help_text="Its number; null where none holds this node.")
    mean = serializers.ListField(child=serializers.FloatField(allow_null=True), help_text="By lead of the study.")


class HeldSerializer(serializers.Serializer):
    level = serializers.FloatField()
    share = serializers.FloatField(allow_null=True)


class TrackMeasuresSerializer(serializers.Serializer):
    """In percent of volume; bias is actual minus forecast. gain: over the seasonal naive of that day, on what both
    forecast. Null where nothing has come."""

    wape = serializers.FloatField(allow_null=True)
    wape_statistical = serializers.FloatField(allow_null=True, help_text="Before planners changed anything.")
    bias = serializers.FloatField(allow_null=True)
    gain = serializers.FloatField(allow_null=True)
    held = HeldSerializer(many=True)
    tracking = serializers.FloatField(
        allow_null=True, help_text="Mean size of the nodes' tracking signals; of all periods together."
    )


class TrackLevelSerializer(TrackMeasuresSerializer):
    name = serializers.CharField()
    n_nodes = serializers.IntegerField()


class TrackLeadSerializer(TrackMeasuresSerializer):
    """Measures over the series; actual, forecast, naive: of the total."""

    period = serializers.CharField()
    actual = serializers.FloatField(allow_null=True)
    forecast = serializers.FloatField()
    naive = serializers.FloatField(allow_null=True)


class HelpSerializer(serializers.Serializer):
    """gained: absolute error before the change less that after it, in units; percent of the error before it."""

    periods = serializers.IntegerField()
    gained = serializers.FloatField()
    percent = serializers.FloatField(allow_null=True)
    tracking = serializers.FloatField(allow_null=True, help_text="Of what was missed after it.")
    brought = serializers.CharField(help_text="The same in words.")


class NamedHelpSerializer(HelpSerializer):
    name = serializers.CharField()


class AdjustmentHelpSerializer(NamedHelpSerializer):
    words = serializers.CharField()
    reason = serializers.CharField()
    made_by = serializers.CharField()


class LeftSerializer(serializers.Serializer):
    """tracking: sum of errors over their mean size; near the number of periods it was always missed to one side."""

    node = serializers.CharField()
    name = serializers.CharField()
    actual = serializers.FloatField()
    forecast = serializers.FloatField()
    error = serializers.FloatField()
    outside = serializers.IntegerField()
    of = serializers.IntegerField()
    tracking = serializers.FloatField()


class TrackSerializer(serializers.Serializer):
    release = serializers.IntegerField()
    id = serializers.IntegerField()
    origin = serializers.CharField()
    periods = serializers.ListField(child=serializers.CharField())
    n_came = serializers.IntegerField(help_text="Periods of which actuals have come.")
    sentence = serializers.CharField(help_text="What a manager is told of it.")
    levels = TrackLevelSerializer(many=True)
    kinds = TrackLevelSerializer(many=True, help_text="Of the series of each kind of demand.")
    leads = TrackLeadSerializer(many=True)
    adjustments = AdjustmentHelpSerializer(
        many=True, help_text="In their order; of very many those that brought or cost most."
    )
    n_adjustments = serializers.IntegerField()
    by_reason = NamedHelpSerializer(many=True)
    by_planner = NamedHelpSerializer(many=True)
    left = LeftSerializer(many=True, help_text="Series that left their widest band, the largest misses first.")
    n_series = serializers.IntegerField()


class BesideSerializer(serializers.Serializer):
    release = serializers.IntegerField()
    origin = serializers.CharField()
    periods = serializers.ListField(child=serializers.CharField())
    forecast = serializers.ListField(child=serializers.FloatField())


class ReleaseOriginSerializer(serializers.Serializer):
    """A release as an origin: what it said of a node, and what came, by lead."""

    release = serializers.IntegerField()
    period = serializers.CharField()
    at = serializers.IntegerField(help_text="Position of its origin in the periods of the study.")
    forecast = NullableFloats()
    missed = NullableFloats(help_text="What came less the forecast.")
    held = serializers.ListField(
        child=serializers.IntegerField(allow_null=True), help_text="Bands that hold what came."
    )
    bands = BandSerializer(many=True)
    wape = serializers.FloatField(allow_null=True)


class NodeReleasesView(APIView):
    @extend_schema(responses=ReleaseOriginSerializer(many=True))
    def get(self, request: Request, pk: int, node: str) -> Response:
        """What the last releases said of a node, of which something has come by the end of this study's history."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        return Response(track.of_node(study, node))


class MovedSerializer(serializers.Serializer):
    """before, after: sums over the periods that both forecast. because: what moves it most."""

    node = serializers.CharField(allow_null=True, help_text="Null where the study has it no more.")
    name = serializers.CharField()
    before = serializers.FloatField()
    after = serializers.FloatField()
    change = serializers.FloatField()
    because = serializers.CharField()


class BridgePartSerializer(serializers.Serializer):
    name = serializers.CharField()
    change = serializers.FloatField()
    n_series = serializers.IntegerField()
    series = MovedSerializer(many=True, help_text="Those that it moves most.")


class BridgeSerializer(serializers.Serializer):
    """From a release to what would go out; parts add up to the change."""

    release = serializers.IntegerField()
    first = serializers.CharField()
    last = serializers.CharField()
    before = serializers.FloatField()
    after = serializers.FloatField()
    change = serializers.FloatField()
    percent = serializers.FloatField(allow_null=True)
    parts = BridgePartSerializer(many=True)
    movers = MovedSerializer(many=True)


class BridgeView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("release", int, required=True, description="Id of the release to begin from."),
            OpenApiParameter("node", str, description="Of this node; the total without it."),
        ],
        responses=BridgeSerializer,
    )
    def get(self, request: Request, pk: int) -> Response:
        """What moves the forecast from a release to what would go out of a study."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        number = whole_number("release", request.query_params.get("release", ""), _MOST_ROWS)
        releases = Release.objects.defer("forecasts").select_related("study__load")
        release = get_object_or_404(releases, pk=number, portfolio=study.portfolio)
        return Response(bridge.report(release, study, request.query_params.get("node", "top")))


class TrackView(APIView):
    @extend_schema(responses=TrackSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """A release held against what has come since."""
        release = get_object_or_404(Release.objects.defer("forecasts").select_related("portfolio"), pk=pk)
        return Response(track.report(track.tracked(release)))


class ReportView(APIView):
    @extend_schema(responses={(200, "text/html"): OpenApiTypes.STR})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The monthly report of a portfolio, as a page that stands by itself and prints well."""
        return HttpResponse(report.as_html(get_object_or_404(Portfolio, pk=pk)))


class BesideView(APIView):
    @extend_schema(responses=BesideSerializer(many=True))
    def get(self, request: Request, pk: int, node: str) -> Response:
        """What the last releases of a portfolio say of a node, by its ref or "top"."""
        return Response(track.beside(get_object_or_404(Portfolio, pk=pk), node))


class ReleasedView(APIView):
    @extend_schema(responses=ReleasedSerializer)
    def get(self, request: Request, pk: int, node: str) -> Response:
        """What the release before this study says of a node, over the periods that the study forecasts."""
        study = get_object_or_404(Study, pk=pk)
        found = services.released_before(study, node)
        if found is None:
            return Response({"release": None, "mean": []})
        release, means = found
        ahead = study.load.timeline.after(study.result.leads).labels
        return Response({"release": release.number, "mean": [means.get(period) for period in ahead]})


class DraftView(APIView):
    @extend_schema(responses=DraftSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """What would go out, with the checks that must hold."""
        study = get_object_or_404(Study, pk=pk)
        draft = services.draft(study)
        published = services.published_as(draft)
        others = Release.objects.filter(portfolio=study.portfolio, withdrawal=None).order_by("-number")
        last = (others.exclude(pk=published.pk) if published else others).defer("forecasts").first()
        return Response(
            {
                "study": study.pk,
                "study_name": study.name,
                "holds": draft.holds,
                "published_as": published.number if published else None,
                "two_signatures": study.portfolio.two_signatures,
                "prepared": PreparationSerializer(ready).data if (ready := services.prepared(draft)) else None,
                "checks": CheckSerializer(draft.checks, many=True).data,
                "adjustments": ReleasedAdjustmentSerializer(draft.adjustments, many=True).data,
                "n_series": draft.forecast.graph.n_series,
                "n_nodes": draft.forecast.graph.n_nodes,
                "past_periods": study.load.timeline.labels,
                "periods": draft.forecast.timeline.labels,
                "total": services.total_of(draft),
                "last_release": ReleaseSerializer(last).data if last else None,
            }
        )


class PrepareView(APIView):
    acts = {"POST": Act("held study {id} ready to be signed")}

    @extend_schema(request=PublishSerializer, responses={201: PreparationSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Hold a study to be ready, so that another person may look at it and sign."""
        fields = PublishSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        made = services.prepare(get_object_or_404(Study, pk=pk), request.user, fields.validated_data.get("note", ""))
        return Response(PreparationSerializer(made).data, status=status.HTTP_201_CREATED)


class PublishView(APIView):
    acts = {"POST": Act("published study {id} as release {made}", Role.SIGNER)}

    @extend_schema(request=PublishSerializer, responses={201: ReleaseSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Publish the study as the next release."""
        fields = PublishSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        release = services.publish(get_object_or_404(Study, pk=pk), request.user, fields.validated_data.get("note", ""))
        return Response(ReleaseSerializer(release).data, status=status.HTTP_201_CREATED)


def _told() -> QuerySet[Release]:
    """Releases with what is told of them."""
    return Release.objects.defer("forecasts", "recipe_text").select_related(
        "study", "published_by", "prepared_by", "withdrawal__made_by"
    )


class ReleasesView(APIView):
    @extend_schema(parameters=[BEFORE], responses=ReleaseSerializer(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """The newest hundred releases of a portfolio, or those before one of them."""
        page = page_of(request, _told().filter(portfolio_id=pk))
        return Response(ReleaseSerializer(page, many=True).data)


class ReleaseView(APIView):
    @extend_schema(responses=OneReleaseSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """A release, with every adjustment in it."""
        return Response(OneReleaseSerializer(get_object_or_404(_told(), pk=pk)).data)


class WithdrawReleaseView(APIView):
    acts = {"POST": Act("withdrew release {id}", Role.SIGNER)}

    @extend_schema(request=ReasonSerializer, responses={201: WithdrawalSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Say that a release is not to be used, and why. It stays as it is."""
        fields = ReasonSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        release = get_object_or_404(Release.objects.defer("forecasts"), pk=pk)
        made = services.withdraw(release, request.user, fields.validated_data["reason"])
        return Response(WithdrawalSerializer(made).data, status=status.HTTP_201_CREATED)


def _file(content: bytes, kind: str, release: Release, ending: str, what: str = "") -> HttpResponse:
    response = HttpResponse(content, content_type=kind)
    response["Content-Disposition"] = f'attachment; filename="release-{release.number}{what}.{ending}"'
    return response


LEVEL = OpenApiParameter("level", str, description="Of this level alone, such as `product × store`.")
_XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


class CsvView(APIView):
    @extend_schema(parameters=[LEVEL], responses={(200, "text/csv"): OpenApiTypes.BINARY})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """Rows of a release as CSV."""
        release = get_object_or_404(Release, pk=pk)
        packed = services.as_csv_packed(release, request.query_params.get("level", ""))
        taken = "gzip" in request.headers.get("Accept-Encoding", "")
        response = _file(packed if taken else gzip.decompress(packed), "text/csv", release, "csv")
        patch_vary_headers(response, ("Accept-Encoding",))
        if taken:
            response.headers["Content-Encoding"] = "gzip"
        return response


class ParquetView(APIView):
    @extend_schema(parameters=[LEVEL], responses={(200, "application/vnd.apache.parquet"): OpenApiTypes.BINARY})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """Rows of a release as Parquet; all of them are the file as it was published, to the byte."""
        release = get_object_or_404(Release, pk=pk)
        content = services.as_parquet(release, request.query_params.get("level", ""))
        return _file(content, "application/vnd.apache.parquet", release, "parquet")


class PathsView(APIView):
    @extend_schema(
        parameters=[LEVEL, OpenApiParameter("n", int, description=f"How many paths, {_PATHS} without.")],
        responses={(200, "application/vnd.apache.parquet"): OpenApiTypes.BINARY},
    )
    def get(self, request: Request, pk: int) -> HttpResponse:
        """Sample paths of a release as Parquet: a row per series, period and path. Every path adds up at every node,
        and the bands of a series are those of the release."""
        release = get_object_or_404(Release.objects.select_related("study__load"), pk=pk)
        n = whole_number("n", request.query_params.get("n", str(_PATHS)), MOST_PATHS)
        content = services.as_paths(release, n, request.query_params.get("level", ""))
        return _file(content, "application/vnd.apache.parquet", release, "parquet", "-paths")


class WorkbookView(APIView):
    @extend_schema(responses={(200, _XLSX): OpenApiTypes.BINARY})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """A release as a workbook: a cover, and a sheet per level."""
        release = get_object_or_404(Release.objects.select_related("portfolio", "published_by", "study__load"), pk=pk)
        return _file(as_xlsx(release), _XLSX, release, "xlsx")


class RowsView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("start", int, description="Rows to pass over."),
            OpenApiParameter("limit", int, description=f"At most {_PAGE}."),
            OpenApiParameter("since", int, description="Number of a release: only rows that it has not just so."),
        ],
        responses={200: RowsSerializer, 304: None},
    )
    def get(self, request: Request, pk: int) -> Response:
        """Rows of a release, with an ETag: they never change. Any column can be a filter:
        ?product=P1001&store=HC02&lead=1; one that is named like a parameter is written with `column:` before it:
        ?column:start=north."""
        release = get_object_or_404(Release.objects.select_related("withdrawal"), pk=pk)
        query: dict[str, Any] = request.query_params.dict()
        withdrawn = hasattr(release, "withdrawal")
        asked = repr((sorted(query.items()), release.sha256, withdrawn))
        tag = f'"{hashlib.sha256(asked.encode()).hexdigest()[:32]}"'
        if request.headers.get("If-None-Match") == tag:
            return Response(status=status.HTTP_304_NOT_MODIFIED, headers={"ETag": tag})
        start = whole_number("start", query.pop("start", "0"), _MOST_ROWS)
        limit = whole_number("limit", query.pop("limit", str(_PAGE)), _MOST_ROWS)
        since = None
        if "since" in query:
            number = whole_number("since", query.pop("since"), _MOST_ROWS)
            since = get_object_or_404(Release, portfolio=release.portfolio_id, number=number)
        filters = {name.removeprefix("column:"): wanted for name, wanted in query.items()}
        count, rows = services.rows(release, filters, start, min(limit, _PAGE), since)
        answer = {"release": release.number, "withdrawn": withdrawn, "count": count, "rows": rows}
        return Response(answer, headers={"ETag": tag, "Cache-Control": "private, no-cache"})
