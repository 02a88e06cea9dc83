"""The structure of a study: its levels as a graph, what moved in reconciliation, and other structures tried on it."""

from __future__ import annotations

import time
from dataclasses import replace
from typing import Any

import numpy as np
from drf_spectacular.utils import extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.errors import RecipeError
from tansy.engine.graph.counts import count_levels
from tansy.engine.graph.formula import parse
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import laid_out
from tansy.engine.graph.pruned import OTHER
from tansy.engine.graph.pruning import BY, FEATURES, Kept, PruningRule, prune
from tansy.engine.profile.worth import judge_of
from tansy.engine.study.recipe import Recipe
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


class StructureSerializer(serializers.Serializer):
    formula = serializers.CharField(allow_blank=True, help_text="Empty where a file of edges says it.")
    pruning = PruningSerializer(allow_null=True)
    pruned_until = serializers.CharField(allow_blank=True)
    names = serializers.ListField(child=serializers.CharField(), help_text="Attributes and keys a formula may name.")
    levels = StructureLevelSerializer(many=True)
    n_shared = serializers.IntegerField(help_text="Series that get a share instead of a forecast of their own.")
    moved = MovedNodeSerializer(many=True)


class TriedLevelSerializer(serializers.Serializer):
    """same_as: an earlier level whose nodes are the same; else empty. kept: nodes that pruning leaves; of the series
    those that are forecast themselves."""

    name = serializers.CharField()
    possible = serializers.IntegerField()
    occurring = serializers.IntegerField()
    single = serializers.IntegerField()
    same_as = serializers.CharField(allow_blank=True)
    kept = serializers.IntegerField(allow_null=True)


class TriedSerializer(serializers.Serializer):
    """n_nodes: that occur; n_fitted: that are forecast themselves. lumps: nodes that gather others, of n_lumped series.
    own_volume: percent of the volume in series that are forecast themselves. saved: percent of the fitting."""

    levels = TriedLevelSerializer(many=True)
    possible = serializers.IntegerField()
    n_nodes = serializers.IntegerField()
    n_fitted = serializers.IntegerField()
    lumps = serializers.IntegerField()
    n_lumped = serializers.IntegerField()
    own_volume = serializers.FloatField()
    saved = serializers.FloatField()
    splits = serializers.IntegerField()
    splits_taken = serializers.IntegerField()
    seconds = serializers.FloatField()


class StructureView(APIView):
    @extend_schema(responses=StructureSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """Levels and what lies above what, and the nodes that reconciliation moved most."""
        result = get_object_or_404(Result.objects.select_related("study__load").defer("sheet", "evidence"), study_id=pk)
        study = result.study
        prepared = services.prepared_of(study)
        graph, panel = prepared.graph, prepared.planned.panel
        season = np.nan_to_num(panel.values[:, -max(panel.timeline.season_length, 1) :])
        found = _levels(graph, np.maximum(season, 0.0).sum(axis=1), result.accuracy.get("gaps", []))
        recipe = study.recipe
        return Response(
            {
                "formula": formula_of(recipe, graph),
                "pruning": _pruning_json(recipe.pruning),
                "pruned_until": recipe.pruned_until,
                "names": [*panel.key_names, *(name for key in panel.key_names for name in _attributes(panel, key))],
                "levels": found,
                "n_shared": int((~prepared.pruned.own).sum()) if prepared.pruned else 0,
                "moved": result.accuracy.get("moved", []),
            }
        )

    @extend_schema(request=StructureAskedSerializer, responses=TriedSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """What another structure would have, level by level, and what pruning would leave of it; nothing is changed."""
        study = get_object_or_404(Study, pk=pk)
        formula, rule, _ = _asked(request)
        began = time.perf_counter()
        panel = services.prepared_of(study).planned.panel
        counted = count_levels(panel, parse(formula))
        n_nodes = sum(one.occurring for one in counted)
        left = None
        if rule:
            laid = laid_out(panel, parse(formula))
            left = prune(*laid, panel.values, rule, judge_of(panel.timeline))
        volume = np.maximum(np.nan_to_num(panel.values), 0.0).sum(axis=1)
        own = np.ones(panel.n_series, dtype=bool)
        if left:
            own[:] = False
            own[left.held[left.start[:-1][left.themselves(len(counted) - 1)]]] = True
        fitted = left.n_nodes if left else n_nodes
        kept = _kept(left, len(counted)) if left else [None] * len(counted)
        lumped = left.lumped if left else np.zeros(0, dtype=bool)
        return Response(
            {
                "levels": [
                    {
                        "name": " × ".join(one.labels),
                        "possible": one.possible,
                        "occurring": one.occurring,
                        "single": one.single,
                        "same_as": " × ".join(one.same_as or ()),
                        "kept": kept[k],
                    }
                    for k, one in enumerate(counted)
                ],
                "possible": sum(one.possible for one in counted),
                "n_nodes": n_nodes,
                "n_fitted": fitted,
                "lumps": int(lumped.sum()),
                "n_lumped": int((~own).sum()),
                "own_volume": float(100.0 * volume[own].sum() / max(volume.sum(), 1e-300)),
                "saved": 100.0 * (1.0 - fitted / max(n_nodes, 1)),
                "splits": len(left.splits.node) if left else 0,
                "splits_taken": int(left.splits.taken.sum()) if left else 0,
                "seconds": round(time.perf_counter() - began, 3),
            }
        )


class StructureStudyView(APIView):
    @extend_schema(request=StructureAskedSerializer, responses={201: StudySerializer})
    def post(self, request: Request, pk: int) -> Response:
        """A study with this structure, and otherwise the choices of this one; what is pruned stands from then on."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        formula, rule, name = _asked(request)
        until = study.portfolio.load.timeline.labels[-1] if rule else ""
        recipe = replace(study.recipe, structure={}, edges="", formula=formula, pruning=rule, pruned_until=until)
        count_levels(services.prepared_of(study).planned.panel, parse(formula))  # what is wrong with it is said now
        made = services.make(study.portfolio, request.user, recipe, name or f"{study.name}, other structure")
        return Response(StudySerializer(made).data, status=status.HTTP_201_CREATED)


def _asked(request: Request) -> tuple[str, PruningRule | None, str]:
    fields = StructureAskedSerializer(data=request.data)
    fields.is_valid(raise_exception=True)
    given = fields.validated_data
    parse(given["formula"])
    rule = given.get("pruning")
    if rule is None:
        return given["formula"], None, given.get("name", "")
    limits = {one["feature"]: one["limit"] for one in rule["limits"]}
    if not limits:
        raise RecipeError("Name at least one limit by which nodes are worth a forecast.")
    return given["formula"], PruningRule(limits, rule["share"] / 100.0, rule["by"], rule["lump"]), given.get("name", "")


def _kept(left: Kept, n_levels: int) -> list[int]:
    plain = left.level[~left.lumped]
    return np.bincount(plain, minlength=n_levels).tolist()


def _attributes(panel: Any, key: str) -> list[str]:
    return [name for name in panel.attributes.get(key, {}) if name != "name"]


def formula_of(recipe: Recipe, graph: Graph) -> str:
    """The structure of a recipe as a formula; empty for one of edges."""
    if recipe.edges or recipe.formula:
        return recipe.formula
    chains = [" > ".join((*recipe.structure.get(axis.name, ()), axis.name)) for axis in graph.axes]
    return " * ".join(f"({chain})" if " > " in chain and len(chains) > 1 else chain for chain in chains)


def _pruning_json(rule: PruningRule | None) -> dict[str, Any] | None:
    if rule is None:
        return None
    limits = [{"feature": name, "limit": limit} for name, limit in rule.limits.items()]
    return {"limits": limits, "share": 100.0 * rule.share, "by": rule.by, "lump": rule.lump}


def _levels(graph: Graph, volume: np.ndarray, gaps: list[float]) -> list[dict[str, Any]]:
    depths = np.stack([axis.depths[graph.place[:, d]] for d, axis in enumerate(graph.axes)], axis=1)
    of_level = [tuple(depths[level.first].tolist()) for level in graph.levels]
    total = max(float(volume.sum()), 1e-300)
    found = []
    for k, level in enumerate(graph.levels):
        nodes = np.arange(level.first, level.first + level.n_nodes)
        held = np.zeros(graph.n_series, dtype=bool)
        held[graph.below(nodes).series] = True
        found.append(
            {
                "name": level.name,
                "labels": list(level.labels),
                "n_nodes": level.n_nodes,
                "volume": round(100.0 * float(volume[held].sum()) / total, 2),
                "above": [] if level.name == OTHER else _next_above(of_level, k, graph),
                "gap": gaps[k] if k < len(gaps) else None,
            }
        )
    return found


def _next_above(depths: list[tuple[int, ...]], k: int, graph: Graph) -> list[int]:
    """Levels that one is the next finer of, by how far down its axes each stands."""

    def within(a: int, b: int) -> bool:
        return a != b and depths[a] != depths[b] and all(x <= y for x, y in zip(depths[a], depths[b], strict=True))

    coarser = [i for i in range(len(depths)) if graph.levels[i].name != OTHER and within(i, k)]
    return [i for i in coarser if not any(within(i, other) for other in coarser)]
