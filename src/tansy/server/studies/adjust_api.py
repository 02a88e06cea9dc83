"""Changing a forecast by hand: seen before it is kept, kept with a reason, undone and redone."""

from __future__ import annotations

import tempfile
from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import parsers, serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.adjust.adjustment import CHANGES, OVER, SPREADS, Adjustment, read_adjustment
from tansy.engine.adjust.file import open_adjustments, read_adjustments
from tansy.engine.errors import AdjustmentError
from tansy.engine.graph.graph import Graph
from tansy.engine.study.compare import Differences
from tansy.server.accounts.acts import Act
from tansy.server.accounts.trail import nothing_done
from tansy.server.api.errors import Conflict
from tansy.server.api.fields import MOST_ID, NumberField, whole_number
from tansy.server.portfolios.models import Portfolio
from tansy.server.portfolios.services import read_apart
from tansy.server.studies import adjustments
from tansy.server.studies.answers import BandSerializer, NullableFloats, bands_of, rounded_list
from tansy.server.studies.models import AdjustmentRow, Result, Study, node_at
from tansy.server.studies.services import prepared_of

_MOST_NODES = 500
_MOST_MOVERS = 12


class AskedChangeSerializer(serializers.Serializer):
    """One change, of one node or of each of several."""

    nodes = serializers.ListField(child=serializers.CharField(), min_length=1, max_length=_MOST_NODES)
    first = serializers.CharField(max_length=20)
    last = serializers.CharField(max_length=20)
    change = serializers.ChoiceField(choices=CHANGES)
    amount = NumberField()
    over = serializers.ChoiceField(choices=OVER, default="each")
    spread = serializers.ChoiceField(choices=SPREADS, default="forecast")
    locked = serializers.ListField(child=serializers.CharField(), max_length=_MOST_NODES, default=list)


class MakeAdjustmentsSerializer(serializers.Serializer):
    """What is done at once, and undone at once. With `preview` it is laid and shown, and not kept."""

    changes = serializers.ListField(child=AskedChangeSerializer(), min_length=1, max_length=_MOST_NODES)
    reason = serializers.CharField(max_length=300, allow_blank=True, default="")
    preview = serializers.BooleanField(default=False)


class ChangedSumSerializer(serializers.Serializer):
    """before, after: sums over all leads. change: in units; percent: of before."""

    before = serializers.FloatField()
    after = serializers.FloatField()
    change = serializers.FloatField()
    percent = serializers.FloatField(allow_null=True)


class MoverSerializer(ChangedSumSerializer):
    node = serializers.CharField()
    name = serializers.CharField()
    level = serializers.CharField()


class LaidSerializer(serializers.Serializer):
    """What a change does: to its first node (`total` over its leads), and to all others. movers: those that change
    most. n_changed, n_series: series; n_above: nodes above them that change."""

    node = serializers.CharField()
    name = serializers.CharField()
    periods = serializers.ListField(child=serializers.CharField())
    statistical = NullableFloats()
    statistical_bands = BandSerializer(many=True)
    before = NullableFloats()
    after = NullableFloats()
    bands = BandSerializer(many=True)
    total = ChangedSumSerializer()
    n_changed = serializers.IntegerField()
    n_series = serializers.IntegerField()
    n_above = serializers.IntegerField()
    movers = MoverSerializer(many=True)
    n_adjustments = serializers.IntegerField()
    kept = serializers.ListField(
        child=serializers.IntegerField(), help_text="Numbers of the adjustments; none yet of a preview."
    )


class AdjustmentSerializer(serializers.Serializer):
    """state: laid, left (with the problem), undone, or withdrawn. before, after: sums of its periods in the study that
    was asked for; null where it is not laid there."""

    id = serializers.IntegerField()
    act = serializers.IntegerField()
    node = serializers.CharField(allow_null=True, help_text="In the study; null where it has none of that name.")
    name = serializers.CharField()
    words = serializers.CharField()
    spread = serializers.CharField()
    first = serializers.CharField()
    last = serializers.CharField()
    reason = serializers.CharField()
    made_by = serializers.CharField()
    made_at = serializers.DateTimeField()
    state = serializers.CharField()
    problem = serializers.CharField(allow_blank=True)
    before = serializers.FloatField(allow_null=True)
    after = serializers.FloatField(allow_null=True)


class AdjustmentsSerializer(serializers.Serializer):
    adjustments = AdjustmentSerializer(many=True)
    can_undo = serializers.BooleanField()
    can_redo = serializers.BooleanField()
    reasons = serializers.ListField(child=serializers.CharField(), help_text="Used before, the most used first.")


class ChangedNodesSerializer(serializers.Serializer):
    """Entry i of `node` and of `change` belongs to the same node. periods: of the forecast."""

    node = serializers.ListField(child=serializers.CharField())
    change = serializers.ListField(
        child=serializers.FloatField(), help_text="Percent of what was forecast; 100 where nothing was."
    )
    periods = serializers.ListField(child=serializers.CharField())


def _asked(study: Study, data: dict[str, Any], graph: Graph) -> list[Adjustment]:
    reason = data["reason"].strip()

    def where(ref: str) -> dict[str, str]:
        return adjustments.where_of(graph, node_at(study.pk, ref).position)

    return [
        read_adjustment(
            {
                "where": where(ref), "from": one["first"], "to": one["last"], "change": one["change"],
                "amount": one["amount"], "over": one["over"], "spread": one["spread"], "reason": reason,
                "locked": [where(locked) for locked in one["locked"]],
            }
        )
        for one in data["changes"]
        for ref in dict.fromkeys(one["nodes"])
    ]  # fmt: skip


class StudyAdjustmentsView(APIView):
    acts = {"POST": Act("adjusted study {id}")}

    @extend_schema(request=MakeAdjustmentsSerializer, responses={200: LaidSerializer, 201: LaidSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Change what is forecast for nodes, or see what that would do. Others see why by its reason."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        fields = MakeAdjustmentsSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        data = fields.validated_data
        try:
            asked = _asked(study, data, adjustments.adjusted(study).statistical.graph)
            tried = adjustments.try_out(study, asked)
            kept = [] if data["preview"] else adjustments.keep(study, request.user, asked)
            if data["preview"]:
                nothing_done(request)
        except AdjustmentError as error:
            name = {"from": "first", "to": "last", "where": "nodes"}.get(error.entry, error.entry)
            raise serializers.ValidationError({name: [str(error)]}) from None
        answer = _told(study, tried, [row.pk for row in kept])
        return Response(answer, status=status.HTTP_200_OK if data["preview"] else status.HTTP_201_CREATED)


class TakeSerializer(serializers.Serializer):
    nodes = serializers.ListField(child=serializers.CharField(), min_length=1, max_length=_MOST_NODES)
    by_series = serializers.BooleanField(
        default=False, help_text="Each series below has the other's forecast; else they share it out as they did."
    )
    reason = serializers.CharField(max_length=300, allow_blank=True, default="")
    preview = serializers.BooleanField(default=False)


class TakeView(APIView):
    acts = {"POST": Act("took forecasts into study {id}")}

    @extend_schema(request=TakeSerializer, responses={200: LaidSerializer, 201: LaidSerializer})
    def post(self, request: Request, pk: int, other: int) -> Response:
        """Take the forecast of some nodes from another study of the portfolio, as adjustments, in one act."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        source = get_object_or_404(
            Study.objects.select_related("portfolio", "load"), pk=other, portfolio=study.portfolio
        )
        fields = TakeSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        data = fields.validated_data
        asked = adjustments.taken(study, source, data["nodes"], data["by_series"], data["reason"].strip())
        tried = adjustments.try_out(study, asked)
        kept = [] if data["preview"] else adjustments.keep(study, request.user, asked)
        if data["preview"]:
            nothing_done(request)
        answer = _told(study, tried, [row.pk for row in kept], node_at(study.pk, data["nodes"][0]).position)
        return Response(answer, status=status.HTTP_200_OK if data["preview"] else status.HTTP_201_CREATED)


class AdjustmentFileSerializer(serializers.Serializer):
    file = serializers.FileField()
    reason = serializers.CharField(
        max_length=300, allow_blank=True, default="", help_text="Of rows that have none; the name of the file without."
    )
    preview = serializers.BooleanField(default=False)


class AdjustmentFileView(APIView):
    acts = {"POST": Act("adjusted study {id} by a file")}
    parser_classes = [parsers.MultiPartParser]

    @extend_schema(
        request={"multipart/form-data": AdjustmentFileSerializer}, responses={200: LaidSerializer, 201: LaidSerializer}
    )
    def post(self, request: Request, pk: int) -> Response:
        """A file of adjustments, a row each: all of them or none. See `docs/files.md`."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        fields = AdjustmentFileSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        data = fields.validated_data
        sent = data["file"]
        now = adjustments.adjusted(study).statistical
        panel = prepared_of(study).planned.panel
        with tempfile.TemporaryDirectory(prefix="tansy-") as folder:
            path = Path(folder) / "adjustments"
            with path.open("wb") as file:
                for chunk in sent.chunks():
                    file.write(chunk)
            table = read_apart(sent.name, open_adjustments, path, sent.name)
        read = read_adjustments(table, sent.name, now.graph, panel, now.timeline)
        said = data["reason"].strip() or sent.name
        asked = [replace(one, reason=one.reason or said) for one in read]
        tried = adjustments.try_out(study, asked)
        kept = [] if data["preview"] else adjustments.keep(study, request.user, asked)
        if data["preview"]:
            nothing_done(request)
        answer = _told(study, tried, [row.pk for row in kept])
        return Response(answer, status=status.HTTP_200_OK if data["preview"] else status.HTTP_201_CREATED)


def _told(study: Study, tried: adjustments.Tried, kept: list[int], at: int | None = None) -> dict[str, Any]:
    """at: the node that is told of, that of the first adjustment without."""
    statistical, before, after = tried.before.statistical, tried.before.mean, tried.after
    graph, node = statistical.graph, tried.placed[0].node if at is None else at
    levels = Result.objects.only("band_levels").get(study=study).band_levels
    apart = Differences.of(before, after, graph.level_of, len(graph.levels))
    largest = apart.largest(_MOST_MOVERS, apart.moved > 0.0)
    return {
        "node": graph.refs[node],
        "name": graph.name(node),
        "periods": statistical.timeline.labels,
        "statistical": rounded_list(statistical.statistical[node]),
        "statistical_bands": bands_of(statistical.quantiles[node], levels),
        "before": rounded_list(before[node]),
        "after": rounded_list(after[node]),
        "bands": bands_of(tried.bands(node), levels),
        "total": _sums(apart, node),
        "n_changed": int(apart.n_changed[-1]),
        "n_series": graph.n_series,
        "n_above": int(apart.n_changed[:-1].sum()),
        "movers": [
            {
                "node": graph.refs[i],
                "name": graph.name(i),
                "level": graph.levels[graph.level_of[i]].name,
                **_sums(apart, i),
            }
            for i in largest.tolist()
        ],
        "n_adjustments": len(tried.placed),
        "kept": kept,
    }


def _sums(apart: Differences, i: int) -> dict[str, Any]:
    before, after = float(apart.before[i]), float(apart.after[i])
    return {"before": before, "after": after, "change": after - before, "percent": apart.percent(i)}


class AdjustedNodesView(APIView):
    @extend_schema(responses=ChangedNodesSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """Nodes of a study whose forecast planners have changed, and by how much over all leads."""
        study = get_object_or_404(Study.objects.select_related("portfolio", "load"), pk=pk)
        if not adjustments.rows_of(study.portfolio).exists():
            leads = get_object_or_404(Result.objects.only("leads"), study=study).leads
            return Response({"node": [], "change": [], "periods": study.load.timeline.after(leads).labels})
        found = adjustments.adjusted(study)
        graph = found.statistical.graph
        apart = Differences.of(found.statistical.statistical, found.mean, graph.level_of, len(graph.levels))
        moved = np.nonzero(apart.moved)[0].tolist()
        percent = [apart.percent(i) for i in moved]  # a forecast that is new is as good as doubled
        return Response(
            {
                "node": [graph.refs[i] for i in moved],
                "change": [100.0 if one is None else round(one, 2) for one in percent],
                "periods": found.statistical.timeline.labels,
            }
        )


def _listed(portfolio: Portfolio, study: Study | None, user: Any) -> dict[str, Any]:
    rows = list(portfolio.adjustments.select_related("made_by").order_by("-id"))
    found = adjustments.adjusted(study) if study else None
    refs = found.statistical.graph.refs if found else []

    def told(row: AdjustmentRow) -> dict[str, Any]:
        one = row.adjustment
        outcome = found.outcomes.get(row.pk) if found else None
        state = "withdrawn" if row.withdrawn_at else "undone" if row.undone else "standing"
        if outcome is not None:
            state = "left" if outcome.problem else "laid"
        laid = outcome is not None and not outcome.problem
        return {
            "id": row.pk,
            "act": row.act,
            "node": refs[outcome.node] if outcome and outcome.node >= 0 else None,
            "name": row.node_name,
            "words": one.words(),
            "spread": one.spread,
            "first": one.first,
            "last": one.last,
            "reason": one.reason,
            "made_by": row.author,
            "made_at": row.made_at,
            "state": state,
            "problem": outcome.problem if outcome else "",
            "before": outcome.before if laid and outcome else None,
            "after": outcome.after if laid and outcome else None,
        }

    own = [row for row in rows if row.made_by_id == user.pk and not row.withdrawn_at]
    return {
        "adjustments": [told(row) for row in rows],
        "can_undo": any(not row.undone for row in own),
        "can_redo": any(row.undone for row in own),
        "reasons": [reason for reason, _ in Counter(row.entries["reason"] for row in rows).most_common(20)],
    }


def _study_of(request: Request, portfolio: Portfolio) -> Study | None:
    """The study that the address names, None where it names none; asked for before anything is changed.

    Raises a ValidationError where it is no number, Conflict where it has no result to say anything in.
    """
    asked = request.query_params.get("study", "")
    if not asked:
        return None
    study = get_object_or_404(Study, pk=whole_number("study", asked, MOST_ID), portfolio=portfolio)
    if not Result.objects.filter(study=study).exists():
        raise Conflict("This study has no result yet.")
    return study


STUDY = OpenApiParameter("study", OpenApiTypes.INT, description="Say what becomes of each in this study.")


class AdjustmentsView(APIView):
    @extend_schema(parameters=[STUDY], responses=AdjustmentsSerializer)
    def get(self, request: Request, pk: int) -> Response:
        """All adjustments of a portfolio, the newest first, those that stand no more among them."""
        portfolio = get_object_or_404(Portfolio, pk=pk)
        return Response(_listed(portfolio, _study_of(request, portfolio), request.user))


class UndoView(APIView):
    acts = {"POST": Act("undid an adjustment")}

    @extend_schema(request=None, parameters=[STUDY], responses=AdjustmentsSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Undo what you adjusted last."""
        portfolio = get_object_or_404(Portfolio, pk=pk)
        study = _study_of(request, portfolio)
        adjustments.undo(portfolio, request.user)
        return Response(_listed(portfolio, study, request.user))


class RedoView(APIView):
    acts = {"POST": Act("made an adjustment again")}

    @extend_schema(request=None, parameters=[STUDY], responses=AdjustmentsSerializer)
    def post(self, request: Request, pk: int) -> Response:
        """Redo what you undid last."""
        portfolio = get_object_or_404(Portfolio, pk=pk)
        study = _study_of(request, portfolio)
        adjustments.redo(portfolio, request.user)
        return Response(_listed(portfolio, study, request.user))


class AdjustmentView(APIView):
    acts = {"DELETE": Act("withdrew adjustment {id}")}

    @extend_schema(
        parameters=[OpenApiParameter("act", bool, description="With all that was done at once with it.")],
        responses={204: None},
    )
    def delete(self, request: Request, pk: int) -> Response:
        """Withdraw an adjustment; it stays listed."""
        row = get_object_or_404(AdjustmentRow, pk=pk)
        if request.query_params.get("act") == "true":
            adjustments.withdraw_act(row, request.user)
        else:
            adjustments.withdraw(row, request.user)
        return Response(status=status.HTTP_204_NO_CONTENT)


class DecideView(APIView):
    acts = {"POST": Act("kept adjustment {id} over a forecast that has moved")}

    @extend_schema(
        request=None, parameters=[OpenApiParameter("study", OpenApiTypes.INT, required=True)],
        responses=AdjustmentsSerializer,
    )  # fmt: skip
    def post(self, request: Request, pk: int) -> Response:
        """Keep an adjustment over the forecast of a study that has moved since it was made."""
        row = get_object_or_404(AdjustmentRow.objects.select_related("portfolio"), pk=pk)
        study = _study_of(request, row.portfolio)
        if study is None:
            raise serializers.ValidationError({"study": "Say over which study, as in ?study=7."})
        adjustments.decide_again(row, study, request.user)
        return Response(_listed(row.portfolio, study, request.user))
