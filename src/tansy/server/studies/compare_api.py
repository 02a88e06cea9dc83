"""Studies beside each other: what another recipe, plan or adjustment would make of the same periods."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.study.compare import Compared, Differences, compare
from tansy.server.api.fields import MOST_ID, whole_number
from tansy.server.studies import adjustments
from tansy.server.studies.models import Result, Study, node_at

_MOST_LISTED = 200
_MOST_ALSO = 2


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
    also = serializers.ListField(
        child=serializers.FloatField(allow_null=True), help_text="Of each further study; null where it has none."
    )


class ComparedLevelSerializer(serializers.Serializer):
    name = serializers.CharField()
    n_nodes = serializers.IntegerField()
    n_changed = serializers.IntegerField()
    moved = serializers.FloatField(help_text="Sum of absolute differences, in units.")


class ComparedSerializer(serializers.Serializer):
    """nodes: of the level that was asked for, those that differ most first. total, by_period: of `name`, the node that
    was asked for, else the topmost; null and empty where both do not have it. also: further studies."""

    one = ComparedStudySerializer()
    other = ComparedStudySerializer()
    also = ComparedStudySerializer(many=True)
    name = serializers.CharField()
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
        parameters=[
            OpenApiParameter("level", int, description="Position of the level of `nodes`; the first without."),
            OpenApiParameter("node", str, description="Node of `by_period`; the topmost without."),
            OpenApiParameter("also", str, description=f"Further studies, as 3,5; at most {_MOST_ALSO}."),
        ],
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
        node = node_at(one.pk, request.query_params.get("node", "top")).position
        at = int(np.searchsorted(found.nodes, node))
        both = at < len(found.nodes) and found.nodes[at] == node
        periods = zip(found.periods, found.one[at].tolist(), found.other[at].tolist(), strict=True) if both else ()
        further = _further(one, request.query_params.get("also", ""))
        beside = [_of_node(study, first.ids[node], found.periods) for study in further]
        return Response(
            {
                "one": _study(one),
                "other": _study(two),
                "also": [_study(study) for study in further],
                "name": first.name(node),
                "total": _sums(apart, at) if both else None,
                "by_period": [
                    {
                        "period": period,
                        "one": own,
                        "other": theirs,
                        "difference": theirs - own,
                        "also": [of_study[h] for of_study in beside],
                    }
                    for h, (period, own, theirs) in enumerate(periods)
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


def _further(one: Study, written: str) -> list[Study]:
    """Raises ValidationError where it names no studies."""
    numbers = [part for part in written.split(",") if part]
    if len(numbers) > _MOST_ALSO:
        raise serializers.ValidationError({"also": [f"At most {_MOST_ALSO} numbers of studies, as 3,5."]})
    own = Study.objects.select_related("portfolio", "load").filter(portfolio=one.portfolio)
    return [get_object_or_404(own, pk=whole_number("also", part, MOST_ID)) for part in numbers]


def _of_node(study: Study, key: str, periods: list[str]) -> list[float | None]:
    """What a study forecasts for a node in periods; None where it does not."""
    found = adjustments.adjusted(study)
    node = found.statistical.graph.position.get(key)
    labels = found.statistical.timeline.labels
    return [
        float(found.mean[node, labels.index(period)]) if node is not None and period in labels else None
        for period in periods
    ]


def _study(study: Study) -> dict[str, Any]:
    result = Result.objects.only("rmsse", "gain").get(study=study)
    return {"id": study.pk, "name": study.name, "rmsse": result.rmsse, "gain": result.gain}
