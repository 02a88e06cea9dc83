"""One node of a finished study: all that is shown of it."""

from __future__ import annotations

from typing import Any

import numpy as np
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.backtest.intervals import groups_of_levels
from tansy.engine.backtest.measures import nan_mean
from tansy.engine.study.bands_held import inside
from tansy.engine.study.forecast import ROUNDING
from tansy.engine.study.shared_out import NO_METHODS, brief_of, form_of
from tansy.engine.study.sums import quantiles_of_sums
from tansy.server.studies import adjustments
from tansy.server.studies.answers import (
    BandSerializer,
    NullableFloats,
    ParameterSerializer,
    bands_of,
    parts_of,
    rounded_list,
)
from tansy.server.studies.models import Node, Result, node_at, unpack
from tansy.server.studies.services import result_of


class StepSerializer(serializers.Serializer):
    name = serializers.CharField()
    code = serializers.CharField(required=False, help_text="Where it is not the name.")
    node = serializers.CharField()


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


class NodeView(APIView):
    @extend_schema(responses=NodeSerializer)
    def get(self, request: Request, pk: int, node: str) -> Response:
        """Everything the Series screen shows of one node."""
        result, here = result_of(pk), node_at(pk, node)
        return Response(
            {
                "node": here.ref,
                "name": here.name,
                "trail": here.trail,
                **_on_level(result, here),
                **_past(result, here),
                **_ahead(result, here),
                **_method(result, here),
                **_tested(result, here),
            }
        )


def _on_level(result: Result, here: Node) -> dict[str, Any]:
    level = result.levels[here.level]
    place = here.position - sum(one["n_nodes"] for one in result.levels[: here.level])
    before = here.position - 1 if place > 0 else -1
    after = here.position + 1 if place + 1 < level["n_nodes"] else -1
    beside = Node.objects.filter(study_id=result.study_id, position__in=(before, after))
    refs = dict(beside.values_list("position", "ref"))
    return {
        "level": level["name"],
        "previous": refs.get(before),
        "next": refs.get(after),
        "place": place + 1,
        "n_on_level": level["n_nodes"],
    }


def _past(result: Result, here: Node) -> dict[str, Any]:
    timeline = result.study.load.timeline
    return {
        "frequency": timeline.frequency,
        "season_length": timeline.season_length,
        "periods": timeline.labels + timeline.after(result.leads).labels,
        "n_past": timeline.n_periods,
        "history": rounded_list(unpack(here.history)),
        "received": rounded_list(unpack(here.received)) if here.received else None,
    }


def _ahead(result: Result, here: Node) -> dict[str, Any]:
    """What is forecast, before planners changed it and after."""
    h, levels = result.leads, result.band_levels
    statistical = unpack(here.layers, -1, h)[-1]
    statistical_quantiles = unpack(here.quantiles, 2 * len(levels), h)
    forecast, quantiles = statistical, statistical_quantiles
    adjusted_by: list[dict[str, Any]] = []
    if adjustments.rows_of(result.study.portfolio).exists():
        found = adjustments.adjusted(result.study)
        forecast, quantiles = found.mean[here.position], found.bands(here.position)
        statistical = found.statistical.statistical[here.position]
        adjusted_by = adjustments.that_change(found, here.position)
    return {
        "base": rounded_list(unpack(here.base)),
        "statistical": rounded_list(statistical),
        "statistical_bands": bands_of(statistical_quantiles, levels),
        "forecast": rounded_list(forecast),
        "bands": bands_of(quantiles, levels),
        "sums": rounded_list(np.cumsum(forecast)),
        "sum_bands": bands_of(_sums(result, here.level, forecast, quantiles), levels),
        "adjusted_by": adjusted_by,
    }


def _method(result: Result, here: Node) -> dict[str, Any]:
    text = result.methods[here.chosen] if here.chosen >= 0 else None
    form = form_of(text) if text else None
    names = result.parameter_names[here.chosen] if text else []
    values = unpack(here.parameters)[: len(names)].tolist()
    return {
        "method": text,
        "family": form.family if form else "",
        "searched": bool(form and form.searched),
        "brief": brief_of(text) if text else "",
        "parts": parts_of(form),
        "reason": here.reason,
        "plan": here.plan,
        "kept": here.kept,
        "kind": {"words": here.kind, **here.kind_figures},
        "parameters": [
            {"name": name, "value": value} for name, value in zip(names, values, strict=True) if np.isfinite(value)
        ],
    }


def _tested(result: Result, here: Node) -> dict[str, Any]:
    """What was forecast at each origin, and how it held against what came."""
    timeline, methods, levels = result.study.load.timeline, result.methods, result.band_levels
    h, n_origins = result.leads, len(result.seen_at)
    tested = unpack(here.tested, n_origins, h)
    quantiles = unpack(here.tested_quantiles, n_origins, 2 * len(levels), h)
    came = _after(unpack(here.received or here.history), result.seen_at, h)
    errors = came - tested
    within = inside(came[None], quantiles[None])[0, ..., 0]
    held = np.where(np.isnan(came), np.nan, within.sum(axis=1))
    chosen = [methods[j] if j >= 0 else None for j in unpack(here.chosen_at).astype(int).tolist()]
    briefs = {text: brief_of(text) for text in set(chosen) if text}
    wape = rounded_list(unpack(here.origin_wape))
    scores = unpack(here.scores, len(methods), 5)
    return {
        "scores": [_score(name, scores[j]) for j, name in enumerate(methods) if name not in NO_METHODS],
        "published": _score("published", unpack(here.node_scores)),
        "hits": [
            {"level": level, "share": share}
            for level, share in zip(levels, rounded_list(unpack(here.hits)), strict=True)
        ],
        "origins": [
            {
                "period": timeline.labels[n_seen - 1],
                "at": n_seen - 1,
                "method": chosen[o],
                "brief": briefs.get(chosen[o] or "", ""),
                "forecast": rounded_list(tested[o]),
                "missed": rounded_list(errors[o]),
                "held": [None if np.isnan(v) else int(v) for v in held[o].tolist()],
                "bands": bands_of(quantiles[o], levels),
                "wape": wape[o],
            }
            for o, n_seen in enumerate(result.seen_at)
        ],
        "usual_error": rounded_list(np.sqrt(nan_mean(errors.reshape(1, -1) ** 2, axis=1)))[0],
    }


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
