"""The structure of a study: its levels as a graph, what moved in reconciliation, and other structures tried on it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, NamedTuple

from drf_spectacular.utils import extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.errors import RecipeError
from tansy.engine.graph.counts import count_levels
from tansy.engine.graph.formula import parse
from tansy.engine.graph.pruning import BY, FEATURES, PruningRule
from tansy.engine.graph.time_levels import LEVELS, named_levels
from tansy.engine.study.structures import formula_of, levels_held, try_structure
from tansy.server.studies import services
from tansy.server.studies.api import StudySerializer
from tansy.server.studies.models import Result, Study


class LimitSerializer(serializers.Serializer):
    feature = serializers.ChoiceField(choices=FEATURES)
    limit = serializers.FloatField()


class PruningSerializer(serializers.Serializer):
    """share: of the parts, or of their volume, that must qualify for a split to be taken, in percent."""

    limits = LimitSerializer(many=True)
    share = serializers.FloatField(min_value=0.0, max_value=99.9)
    by = serializers.ChoiceField(choices=BY)
    lump = serializers.BooleanField()


class StructureAskedSerializer(serializers.Serializer):
    formula = serializers.CharField(max_length=2000)
    pruning = PruningSerializer(required=False, allow_null=True, help_text="Without it every node is kept.")
    time_levels = serializers.ListField(
        child=serializers.CharField(max_length=20), required=False, help_text="Longer periods to forecast in too."
    )
    name = serializers.CharField(required=False, max_length=120, help_text="Of the study made with it.")


class PullSerializer(serializers.Serializer):
    node = serializers.CharField()
    name = serializers.CharField()
    amount = serializers.FloatField()


class MovedNodeSerializer(serializers.Serializer):
    """base, reconciled: sums over all leads. moved_errors: by how many usual errors it moved. of_series: what its
    series say instead of it. pulls: totals that moved it most."""

    node = serializers.CharField()
    name = serializers.CharField()
    level = serializers.CharField()
    base = serializers.FloatField()
    reconciled = serializers.FloatField()
    moved_errors = serializers.FloatField()
    of_series = serializers.FloatField()
    pulls = PullSerializer(many=True)


class StructureLevelSerializer(serializers.Serializer):
    """volume: share of the last season's that its nodes hold, in percent. above: positions of the levels it is the next
    finer of. gap: largest between a node and the sum of its series before reconciliation, over all leads, as a share of
    the node."""

    name = serializers.CharField()
    labels = serializers.ListField(child=serializers.CharField())
    n_nodes = serializers.IntegerField()
    volume = serializers.FloatField()
    above = serializers.ListField(child=serializers.IntegerField())
    gap = serializers.FloatField(allow_null=True)


class TimeLevelSerializer(serializers.Serializer):
    """periods: of the history that make one."""

    name = serializers.CharField()
    periods = serializers.IntegerField()
    used = serializers.BooleanField(help_text="Whether this study forecasts in them too.")


class StructureSerializer(serializers.Serializer):
    formula = serializers.CharField(allow_blank=True, help_text="Empty where a file of edges says it.")
    pruning = PruningSerializer(allow_null=True)
    pruned_until = serializers.CharField(allow_blank=True)
    names = serializers.ListField(child=serializers.CharField(), help_text="Attributes and keys a formula may name.")
    levels = StructureLevelSerializer(many=True)
    time_levels = TimeLevelSerializer(many=True, help_text="That fit into the leads.")
    n_shared = serializers.IntegerField(help_text="Series that get a share instead of a forecast of their own.")
    n_longer = serializers.IntegerField(help_text="Nodes that are forecast in longer periods only.")
    moved = MovedNodeSerializer(many=True)


class TriedLevelSerializer(serializers.Serializer):
    """same_as: an earlier level whose nodes are the same; else empty. kept: nodes that pruning leaves; of the series
    those that are forecast themselves."""

    name = serializers.CharField()
    possible = serializers.IntegerField()
    empty = serializers.IntegerField()
    occurring = serializers.IntegerField()
    single = serializers.IntegerField()
    same_as = serializers.CharField(allow_blank=True)
    kept = serializers.IntegerField(allow_null=True)


class TriedSerializer(serializers.Serializer):
    """n_nodes: that occur; n_fitted: that are forecast themselves, n_longer of them in longer periods only. lumps:
    nodes that gather others. n_shared: series that get a share. own_volume: percent of the volume in series that are
    forecast themselves. saved: percent of the fitting at the periods of the history."""

    levels = TriedLevelSerializer(many=True)
    possible = serializers.IntegerField()
    n_nodes = serializers.IntegerField()
    n_fitted = serializers.IntegerField()
    n_longer = serializers.IntegerField()
    lumps = serializers.IntegerField()
    n_shared = serializers.IntegerField()
    own_volume = serializers.FloatField()
    saved = serializers.FloatField()
    splits = serializers.IntegerField()
    splits_taken = serializers.IntegerField()


class StructureView(APIView):
    @extend_schema(responses=StructureSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """Levels and what lies above what, and the nodes that reconciliation moved most."""
        result = get_object_or_404(Result.objects.select_related("study__load").defer("sheet", "evidence"), study_id=pk)
        prepared = services.prepared_of(result.study)
        panel, gaps = prepared.planned.panel, result.accuracy.get("gaps", [])
        levels = [
            {
                "name": level.name,
                "labels": level.labels,
                "n_nodes": level.n_nodes,
                "volume": round(level.volume, 2),
                "above": level.above,
                "gap": gaps[k] if k < len(gaps) else None,
            }
            for k, level in enumerate(levels_held(prepared))
        ]
        attributes = [name for key in panel.key_names for name in panel.attributes.get(key, {}) if name != "name"]
        return Response(
            {
                "formula": formula_of(prepared),
                "pruning": _pruning_json(prepared.recipe.pruning),
                "pruned_until": prepared.recipe.pruned_until,
                "names": [*panel.key_names, *dict.fromkeys(attributes)],
                "levels": levels,
                "time_levels": [
                    {"name": one.name, "periods": one.periods, "used": one in prepared.time_levels}
                    for one in LEVELS.get(panel.timeline.frequency, ())
                    if one.periods <= prepared.recipe.leads
                ],
                "n_shared": int((~prepared.pruned.own).sum()) if prepared.pruned else 0,
                "n_longer": int((prepared.pruned.own & (prepared.pruned.finest > 0)).sum()) if prepared.pruned else 0,
                "moved": result.accuracy.get("moved", []),
            }
        )

    @extend_schema(request=StructureAskedSerializer, responses=TriedSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """What another structure would have, level by level, and what pruning would leave of it; nothing is changed."""
        study = get_object_or_404(Study, pk=pk)
        asked = _asked(request)
        panel = services.prepared_of(study).planned.panel
        levels = named_levels(panel.timeline.frequency, asked.time_levels, study.recipe.leads)
        found = try_structure(panel, parse(asked.formula), asked.rule, levels)
        return Response(
            {
                "levels": [
                    {
                        "name": " × ".join(one.labels),
                        "possible": one.possible,
                        "empty": one.empty,
                        "occurring": one.occurring,
                        "single": one.single,
                        "same_as": " × ".join(one.same_as or ()),
                        "kept": found.kept[k] if found.kept else None,
                    }
                    for k, one in enumerate(found.counts)
                ],
                "possible": found.possible,
                "n_nodes": found.n_nodes,
                "n_fitted": found.n_fitted,
                "n_longer": found.n_longer,
                "lumps": found.n_lumps,
                "n_shared": found.n_shared,
                "own_volume": found.own_volume,
                "saved": found.saved,
                "splits": found.n_splits,
                "splits_taken": found.n_taken,
            }
        )


class StructureStudyView(APIView):
    @extend_schema(request=StructureAskedSerializer, responses={201: StudySerializer})
    def post(self, request: Request, pk: int) -> Response:
        """A study with this structure, and otherwise the choices of this one; what is pruned stands from then on."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        asked = _asked(request)
        until = study.portfolio.load.timeline.labels[-1] if asked.rule else ""
        recipe = replace(
            study.recipe, structure={}, edges="", formula=asked.formula, pruning=asked.rule, pruned_until=until,
            time_levels=asked.time_levels,
        )  # fmt: skip
        panel = services.prepared_of(study).planned.panel
        count_levels(panel, parse(asked.formula))  # what is wrong is said now
        named_levels(panel.timeline.frequency, asked.time_levels, recipe.leads)
        name = asked.name or f"{study.name}, other structure"
        made = services.make(study.portfolio, request.user, recipe, name)
        return Response(StudySerializer(made).data, status=status.HTTP_201_CREATED)


class _Asked(NamedTuple):
    formula: str
    time_levels: tuple[str, ...]
    rule: PruningRule | None
    name: str


def _asked(request: Request) -> _Asked:
    fields = StructureAskedSerializer(data=request.data)
    fields.is_valid(raise_exception=True)
    given = fields.validated_data
    rule = given.get("pruning")
    name, times = given.get("name", ""), tuple(given.get("time_levels", ()))
    if rule is None:
        return _Asked(given["formula"], times, None, name)
    limits = {one["feature"]: one["limit"] for one in rule["limits"]}
    if not limits:
        raise RecipeError("Name at least one limit by which nodes are worth a forecast.")
    return _Asked(given["formula"], times, PruningRule(limits, rule["share"] / 100.0, rule["by"], rule["lump"]), name)


def _pruning_json(rule: PruningRule | None) -> dict[str, Any] | None:
    if rule is None:
        return None
    limits = [{"feature": name, "limit": limit} for name, limit in rule.limits.items()]
    return {"limits": limits, "share": 100.0 * rule.share, "by": rule.by, "lump": rule.lump}
