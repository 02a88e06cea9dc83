"""Studies beside each other: what another recipe, plan or adjustment would make of the same periods."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.study.compare import Compared, Differences, compare
from tansy.server.api.fields import whole_number
from tansy.server.studies import adjustments
from tansy.server.studies.models import Result, Study

_MOST_LISTED = 200


class ComparedStudySerializer(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    rmsse = serializers.FloatField(allow_null=True)
    gain = serializers.FloatField(allow_null=True)


class ComparedSumsSerializer(serializers.Serializer):
    """one, other: sums over the periods that both forecast; difference: other less one, percent: of the one."""

    one = serializers.FloatField()
    other = serializers.FloatField()
    difference = serializers.FloatField()
    percent = serializers.FloatField(allow_null=True)


class ComparedNodeSerializer(ComparedSumsSerializer):
    node = serializers.CharField()
    name = serializers.CharField()


class ComparedPeriodSerializer(serializers.Serializer):
    period = serializers.CharField()
    one = serializers.FloatField()
    other = serializers.FloatField()
    difference = serializers.FloatField()


class ComparedLevelSerializer(serializers.Serializer):
    name = serializers.CharField()
    n_nodes = serializers.IntegerField()
    n_changed = serializers.IntegerField()
    moved = serializers.FloatField(help_text="Sum of absolute differences, in units.")


class ComparedSerializer(serializers.Serializer):
    """nodes: of the level that was asked for, those that differ most first. total, by_period: of the topmost node, null
    and empty where it is not the same."""

    one = ComparedStudySerializer()
    other = ComparedStudySerializer()
    total = ComparedSumsSerializer(allow_null=True)
    by_period = ComparedPeriodSerializer(many=True)
    levels = ComparedLevelSerializer(many=True)
    level = serializers.IntegerField()
    nodes = ComparedNodeSerializer(many=True)
    only_one = serializers.IntegerField(help_text="Series that the other has not.")
    only_other = serializers.IntegerField()


@lru_cache(maxsize=2)
def _compared(one: int, other: int, standing: tuple[int, ...]) -> Compared:
    """Results are written once, and standing adjustments are told apart by their numbers."""
    studies = [Study.objects.select_related("portfolio", "load").get(pk=pk) for pk in (one, other)]
    first, second = (adjustments.adjusted(study) for study in studies)
    return compare(first.statistical, first.mean, second.statistical, second.mean)


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _compared.cache_clear()


class CompareView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("level", int, description="Position of the level of `nodes`; the first without.")],
        responses=ComparedSerializer,
    )
    def get(self, request: Request, pk: int, other: int) -> Response:
        """A study beside another one of the portfolio, over the periods that both forecast."""
        one = get_object_or_404(Study.objects.select_related("portfolio"), pk=pk)
        two = get_object_or_404(Study, pk=other, portfolio=one.portfolio)
        first, second = (adjustments.adjusted(study).statistical.graph for study in (one, two))
        standing = tuple(adjustments.rows_of(one.portfolio).values_list("pk", flat=True))
        found = _compared(one.pk, two.pk, standing)
        level = whole_number("level", request.query_params.get("level", "0"), len(first.levels) - 1)
        levels_of = first.level_of[found.nodes]
        apart = Differences.of(found.one, found.other, levels_of, len(first.levels))
        n_series = int((found.nodes >= first.n_aggregates).sum())
        same_top = len(found.nodes) > 0 and found.nodes[0] == 0
        periods = zip(found.periods, found.one[0].tolist(), found.other[0].tolist(), strict=True) if same_top else ()
        return Response(
            {
                "one": _study(one),
                "other": _study(two),
                "total": _sums(apart, 0) if same_top else None,
                "by_period": [
                    {"period": period, "one": own, "other": theirs, "difference": theirs - own}
                    for period, own, theirs in periods
                ],
                "levels": [
                    {
                        "name": own.name,
                        "n_nodes": own.n_nodes,
                        "n_changed": int(apart.n_changed[k]),
                        "moved": float(apart.units[k]),
                    }
                    for k, own in enumerate(first.levels)
                ],
                "level": level,
                "nodes": [
                    {
                        "node": first.refs[found.nodes[i]],
                        "name": first.name(int(found.nodes[i])),
                        **_sums(apart, i),
                    }
                    for i in apart.largest(_MOST_LISTED, levels_of == level).tolist()
                ],
                "only_one": first.n_series - n_series,
                "only_other": second.n_series - n_series,
            }
        )


def _sums(apart: Differences, i: int) -> dict[str, Any]:
    one, other = float(apart.before[i]), float(apart.after[i])
    return {"one": one, "other": other, "difference": other - one, "percent": apart.percent(i)}


def _study(study: Study) -> dict[str, Any]:
    result = Result.objects.only("rmsse", "gain").get(study=study)
    return {"id": study.pk, "name": study.name, "rmsse": result.rmsse, "gain": result.gain}
