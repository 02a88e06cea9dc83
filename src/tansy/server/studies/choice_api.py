"""Another rule of choice, tried on what a study's choice stood on, before it is kept."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.backtest.choice import MEASURES, ChoiceRule
from tansy.engine.methods.notation import parse
from tansy.engine.study.evidence import Evidence
from tansy.engine.study.shared_out import brief_of
from tansy.server.accounts.acts import Act
from tansy.server.api.errors import Conflict
from tansy.server.studies import services
from tansy.server.studies.api import StudySerializer
from tansy.server.studies.models import Result, Study


class RuleSerializer(serializers.Serializer):
    measure = serializers.ChoiceField(choices=MEASURES)
    margin = serializers.FloatField(min_value=0.0, max_value=10.0, help_text="Standard errors.")
    own = serializers.FloatField(min_value=0.0, max_value=99.0, help_text="Percent less error, to leave its group.")
    fallback = serializers.CharField(
        help_text="What stands until others have shown to be better: a method of the study, before the others of the "
        "recipe; empty as the recipe has it.",
        allow_blank=True,
        default="",
    )


class LevelOutcomeSerializer(serializers.Serializer):
    """Errors are before reconciliation, in naive steps, windows counting alike."""

    name = serializers.CharField()
    n_nodes = serializers.IntegerField()
    n_changed = serializers.IntegerField(help_text="Nodes that would have another method now.")
    rmsse = serializers.FloatField(allow_null=True)
    rmsse_as_run = serializers.FloatField(allow_null=True)
    mean_absolute = serializers.FloatField(allow_null=True)
    mean_absolute_as_run = serializers.FloatField(allow_null=True)


class MethodOutcomeSerializer(serializers.Serializer):
    method = serializers.CharField()
    brief = serializers.CharField()
    n_nodes = serializers.IntegerField()
    n_as_run = serializers.IntegerField()


class ChoiceOutcomeSerializer(serializers.Serializer):
    as_run = RuleSerializer()
    candidates = serializers.ListField(child=serializers.CharField())
    levels = LevelOutcomeSerializer(many=True)
    methods = MethodOutcomeSerializer(many=True)


_PARAMETERS = [
    OpenApiParameter("measure", str, enum=MEASURES),
    OpenApiParameter("margin", float),
    OpenApiParameter("own", float),
    OpenApiParameter("fallback", str),
]


@lru_cache(maxsize=2)
def _evidence_of(pk: int) -> Evidence:
    """Read once: a result is written once and stays."""
    data = bytes(Result.objects.values_list("evidence", flat=True).get(study_id=pk))
    if not data:
        raise Conflict("This study was run by an older version that kept nothing to try a choice on; run it again.")
    return Evidence.unpacked(data)


@lru_cache(maxsize=16)
def _had(pk: int, rule: ChoiceRule, fallback: tuple[int, ...]) -> tuple[np.ndarray, np.ndarray]:
    """Methods of all nodes now [nodes], and errors by level [measures, levels]. fallback: empty for that of the
    study."""
    evidence = _evidence_of(pk)
    if fallback:
        evidence = evidence.with_fallback(np.array(fallback, dtype=np.int64))
    methods = evidence.methods(rule)
    return methods[:, -1], evidence.by_level(evidence.errors(methods))


def _number(value: float) -> float | None:
    return round(float(value), 4) if np.isfinite(value) else None


class ChoiceView(APIView):
    acts = {"POST": Act("made study {made} with another rule of choice from study {id}")}

    @extend_schema(parameters=_PARAMETERS, responses=ChoiceOutcomeSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """What another rule would have chosen all along, and what that would have brought. What is not given is as the
        study was run."""
        result = get_object_or_404(Result.objects.select_related("study").defer("sheet", "evidence"), study_id=pk)
        given = RuleSerializer(data={**_as_run(result.study), **request.query_params.dict()})
        given.is_valid(raise_exception=True)
        methods = list(result.methods)
        own_rule, rule = _rule(_as_run(result.study)), _rule(given.validated_data)
        before, errors_before = _had(pk, own_rule, ())
        after, errors = _had(pk, rule, _first(given.validated_data["fallback"], pk, methods))
        squared, absolute = MEASURES.index("squared"), MEASURES.index("absolute")
        levels, changed = [], before != after
        level_of = _evidence_of(pk).level_of
        for k, level in enumerate(result.levels[:-1]):
            levels.append(
                {
                    "name": level["name"],
                    "n_nodes": level["n_nodes"],
                    "n_changed": int(changed[level_of == k].sum()),
                    "rmsse": _number(errors[squared, k]),
                    "rmsse_as_run": _number(errors_before[squared, k]),
                    "mean_absolute": _number(errors[absolute, k]),
                    "mean_absolute_as_run": _number(errors_before[absolute, k]),
                }
            )
        counts, counts_before = (np.bincount(one[one >= 0], minlength=len(methods)) for one in (after, before))
        order = np.argsort(-(counts + counts_before), kind="stable").tolist()
        return Response(
            {
                "as_run": _as_run(result.study),
                "candidates": [methods[j] for j in np.nonzero(_evidence_of(pk).eligible)[0].tolist()],
                "levels": levels,
                "methods": [
                    {
                        "method": methods[j],
                        "brief": brief_of(methods[j]),
                        "n_nodes": int(counts[j]),
                        "n_as_run": int(counts_before[j]),
                    }
                    for j in order
                    if counts[j] + counts_before[j]
                ],
            }
        )

    @extend_schema(request=RuleSerializer, responses={201: StudySerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Make a study with this rule. It fits nothing anew unless the history or its corrections have changed."""
        result = get_object_or_404(Result.objects.select_related("study").defer("sheet", "evidence"), study_id=pk)
        study, methods = result.study, list(result.methods)
        asked = request.data
        given = RuleSerializer(data=_as_run(study) | asked if isinstance(asked, dict) else asked)
        given.is_valid(raise_exception=True)
        changed = replace(study.recipe, choice=_rule(given.validated_data))
        stands = _first(given.validated_data["fallback"], pk, methods)
        if stands:
            changed = replace(changed, fallback=tuple(methods[j] for j in stands), in_season="")
        made = services.make(study.portfolio, request.user, changed)
        return Response(StudySerializer(made).data, status=status.HTTP_201_CREATED)


def _as_run(study: Study) -> dict[str, Any]:
    rule = study.recipe.choice
    return {"measure": rule.measure, "margin": rule.margin, "own": round(100.0 * rule.own, 9), "fallback": ""}


def _rule(given: dict[str, Any]) -> ChoiceRule:
    return ChoiceRule(given["measure"], given["margin"], given["own"] / 100.0)


def _first(fallback: str, pk: int, methods: list[str]) -> tuple[int, ...]:
    """Positions of what stands first, and after it what the study has; empty to leave it all as it is."""
    if not fallback:
        return ()
    text = str(parse(fallback))
    if text not in methods:
        raise serializers.ValidationError({"fallback": f"{text} is not a method of this study."})
    return tuple(dict.fromkeys((methods.index(text), *_evidence_of(pk).fallback.tolist())))
