"""The structure of a study: its levels as a graph, what moved in reconciliation, and other structures tried on it."""

from __future__ import annotations

from dataclasses import replace
from itertools import chain
from typing import Any, NamedTuple

from drf_spectacular.utils import extend_schema
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.errors import RecipeError, StructureError
from tansy.engine.graph.pruning import BY, FEATURES, PruningRule
from tansy.engine.graph.time_levels import named_levels
from tansy.engine.study.kin import kin_of
from tansy.engine.study.structures import Tried, try_edges, try_structure
from tansy.server.accounts.acts import LOOK, Act
from tansy.server.studies import services
from tansy.server.studies.api import StudySerializer
from tansy.server.studies.models import Node, Result, Study, node_at, unpack
from tansy.server.studies.structure import structure_json

_MOST_CHILDREN = 60
_AT_ONCE = 500  # parameters of a query


class LimitSerializer(serializers.Serializer):
    feature = serializers.ChoiceField(choices=FEATURES)
    limit = serializers.FloatField()


class PruningSerializer(serializers.Serializer):
    """share: of the parts, or of their volume, that must qualify for a split to be taken, in percent."""

    limits = LimitSerializer(many=True)
    share = serializers.FloatField(min_value=0.0, max_value=99.9)
    by = serializers.ChoiceField(choices=BY)
    lump = serializers.BooleanField()


class RowSerializer(serializers.Serializer):
    """below: another total of the rows, a value such as "group: Hostas", or a series, its keys joined by " × ". level:
    what the total's level is called."""

    total = serializers.CharField(max_length=200, allow_blank=True)
    below = serializers.CharField(max_length=400, allow_blank=True)
    level = serializers.CharField(max_length=200, allow_blank=True, required=False)


class StructureAskedSerializer(serializers.Serializer):
    formula = serializers.CharField(
        max_length=2000, required=False, allow_blank=True, help_text="Without it and rows: the file of edges."
    )
    rows = RowSerializer(many=True, required=False, help_text="Instead of a formula, drawn by hand.")
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
    formula = serializers.CharField(allow_blank=True, help_text="Empty where edges or rows say it.")
    edges = serializers.CharField(allow_blank=True, help_text="The file of edges that came with the sales.")
    rows = RowSerializer(many=True, help_text="Where the structure was drawn by hand.")
    values = serializers.ListField(child=serializers.CharField(), help_text="Some of what may stand below a total.")
    pruning = PruningSerializer(allow_null=True)
    pruned_until = serializers.CharField(allow_blank=True)
    names = serializers.ListField(child=serializers.CharField(), help_text="Attributes and keys a formula may name.")
    top = serializers.CharField(help_text="The first node, where following begins.")
    levels = StructureLevelSerializer(many=True)
    time_levels = TimeLevelSerializer(many=True, help_text="That fit into the leads.")
    n_shared = serializers.IntegerField(help_text="Series that get a share instead of a forecast of their own.")
    n_longer = serializers.IntegerField(help_text="Nodes that are forecast in longer periods only.")
    moved = MovedNodeSerializer(many=True)


class TriedLevelSerializer(serializers.Serializer):
    """same_as: an earlier level whose nodes are the same; else empty. equal: nodes that hold just the series of one
    on an earlier level, such as example. kept: nodes that pruning leaves; of the series those that are forecast
    themselves."""

    name = serializers.CharField()
    possible = serializers.IntegerField()
    empty = serializers.IntegerField()
    occurring = serializers.IntegerField()
    single = serializers.IntegerField()
    same_as = serializers.CharField(allow_blank=True)
    equal = serializers.IntegerField()
    example = serializers.CharField(allow_blank=True)
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
    findings = serializers.ListField(child=serializers.CharField())


class KinNodeSerializer(serializers.Serializer):
    """base, forecast: over all leads, before reconciliation and as it stands, without what planners changed."""

    node = serializers.CharField()
    name = serializers.CharField()
    base = serializers.FloatField()
    forecast = serializers.FloatField()


class KinChildrenSerializer(serializers.Serializer):
    """nodes: of n_nodes those that sold most in the last season."""

    level = serializers.CharField()
    n_nodes = serializers.IntegerField()
    nodes = KinNodeSerializer(many=True)


class KinParentSerializer(KinNodeSerializer):
    level = serializers.CharField()


class KinSerializer(serializers.Serializer):
    """A node with what lies next above it, and next below it, level by level."""

    itself = KinParentSerializer()
    parents = KinParentSerializer(many=True)
    children = KinChildrenSerializer(many=True)


class KinView(APIView):
    @extend_schema(responses=KinSerializer)
    def get(self, request: Request, pk: int, node: str) -> Response:
        """What lies next above a node and next below it, to follow it through the structure."""
        study = get_object_or_404(Study.objects.select_related("load"), pk=pk)
        own = node_at(pk, node)
        prepared = services.prepared_of(study)
        found = kin_of(prepared, own.position)
        levels = [level.name for level in prepared.graph.levels]
        largest = {k: nodes[:_MOST_CHILDREN].tolist() for k, nodes in found.children.items()}
        sums = _sums(study, [own.position, *found.parents.tolist(), *chain.from_iterable(largest.values())])

        def told(i: int) -> dict[str, Any]:
            return {**sums[i], "level": levels[int(prepared.graph.level_of[i])]}

        children = [
            {"level": levels[k], "n_nodes": len(nodes), "nodes": [sums[i] for i in largest[k]]}
            for k, nodes in found.children.items()
        ]
        return Response(
            {"itself": told(own.position), "parents": [told(i) for i in found.parents.tolist()], "children": children}
        )


def _sums(study: Study, positions: list[int]) -> dict[int, dict[str, Any]]:
    """What some nodes of a study are called, and their forecasts over all leads."""
    found: dict[int, dict[str, Any]] = {}
    columns = ("position", "ref", "name", "base", "layers")
    for start in range(0, len(positions), _AT_ONCE):
        rows = Node.objects.filter(study=study, position__in=positions[start : start + _AT_ONCE])
        for position, ref, name, base, layers in rows.values_list(*columns):
            own = unpack(base)
            last = unpack(layers)[-len(own) :]
            found[position] = {"node": ref, "name": name, "base": float(own.sum()), "forecast": float(last.sum())}
    return found


class StructureView(APIView):
    acts = {"POST": LOOK}

    @extend_schema(responses=StructureSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """Levels and what lies above what, and the nodes that reconciliation moved most."""
        result = get_object_or_404(Result.objects.select_related("study__load").defer("sheet", "evidence"), study_id=pk)
        told = result.accuracy.get("structure") or structure_json(services.prepared_of(result.study))
        gaps = result.accuracy.get("gaps", [])
        levels = [{**level, "gap": gaps[k] if k < len(gaps) else None} for k, level in enumerate(told["levels"])]
        return Response({**told, "levels": levels, "moved": result.accuracy.get("moved", [])})

    @extend_schema(request=StructureAskedSerializer, responses=TriedSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """What another structure would have, level by level, and what pruning would leave of it; nothing is changed."""
        study = get_object_or_404(Study, pk=pk)
        asked = _asked(request)
        found = _tried(study, asked)
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
                        "equal": one.equal,
                        "example": one.example,
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
                "findings": list(found.findings),
            }
        )


class StructureStudyView(APIView):
    acts = {"POST": Act("made study {made} with another structure from study {id}")}

    @extend_schema(request=StructureAskedSerializer, responses={201: StudySerializer})
    def post(self, request: Request, pk: int) -> Response:
        """A study with this structure, and otherwise the choices of this one; what is pruned stands from then on."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        asked = _asked(request)
        until = study.portfolio.load.timeline.labels[-1] if asked.rule else ""
        panel = services.prepared_of(study).planned.panel
        by_edges = panel.edges.name if panel.edges and not asked.formula and not asked.rows else ""
        recipe = replace(
            study.recipe, structure={}, edges=by_edges, formula=asked.formula, rows=asked.rows, pruning=asked.rule,
            pruned_until=until, time_levels=asked.time_levels,
        )  # fmt: skip
        _tried(study, asked._replace(rule=None))  # what is wrong is said now
        name = asked.name or f"{study.name}, other structure"
        made = services.make(study.portfolio, request.user, recipe, name)
        return Response(StudySerializer(made).data, status=status.HTTP_201_CREATED)


class _Asked(NamedTuple):
    """rows: (total, what lies below it, level)."""

    formula: str
    rows: tuple[tuple[str, ...], ...]
    time_levels: tuple[str, ...]
    rule: PruningRule | None
    name: str


def _asked(request: Request) -> _Asked:
    fields = StructureAskedSerializer(data=request.data)
    fields.is_valid(raise_exception=True)
    given = fields.validated_data
    rows = tuple(
        (row["total"], row["below"], *((row["level"],) if row.get("level") else ())) for row in given.get("rows", ())
    )
    formula, times = given.get("formula", ""), tuple(given.get("time_levels", ()))
    return _Asked(formula, rows, times, _rule(given.get("pruning")), given.get("name", ""))


def _rule(given: dict[str, Any] | None) -> PruningRule | None:
    if given is None:
        return None
    limits = {one["feature"]: one["limit"] for one in given["limits"]}
    if not limits:
        raise RecipeError("Name at least one limit by which nodes are worth a forecast.")
    return PruningRule(limits, given["share"] / 100.0, given["by"], given["lump"])


def _tried(study: Study, asked: _Asked) -> Tried:
    """Raises StructureError where it cannot be had."""
    panel = services.prepared_of(study).planned.panel
    levels = named_levels(panel.timeline.frequency, asked.time_levels, study.recipe.leads)
    judged = services.judged_of(study, levels) if asked.rule else []
    if asked.formula and not asked.rows:
        return try_structure(services.counted_of(study, asked.formula), asked.rule, judged)
    counted = services.counted_edges_of(study, asked.rows)
    if counted is None:
        raise StructureError("The structure is empty; name levels, or draw rows.")
    return try_edges(panel, counted, asked.rule, judged)
