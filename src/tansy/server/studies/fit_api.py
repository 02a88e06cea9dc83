"""Looking at a node before any method, one method under the glass, and what drivers do."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.lens import tries
from tansy.engine.lens.driver_effects import analysis_of_variance, effects
from tansy.engine.lens.forecast_parts import Part, forecast_parts, seasons_beyond
from tansy.engine.lens.look import look
from tansy.engine.lens.order_search import searched
from tansy.engine.lens.residual_checks import Diagnosis, diagnose
from tansy.engine.methods.as_json import numbers
from tansy.engine.methods.fits import Batch, Fits, Floats
from tansy.engine.methods.form import Form
from tansy.engine.methods.notation import parse
from tansy.engine.profile.decomposition import Parts
from tansy.engine.study.driven import driven_methods, entries_of
from tansy.engine.study.shared_out import NO_METHODS, form_of
from tansy.server.api.fields import whole_number
from tansy.server.studies import adjustments
from tansy.server.studies.answers import NullableFloats
from tansy.server.studies.models import unpack
from tansy.server.studies.place import Place, place_at
from tansy.server.studies.services import graph_of
from tansy.server.studies.tries_api import LEVELS, METHOD, NullableFloatMap, TrySerializer

_MOST = 5  # methods tested at once: four and what the search chose


class YearsSerializer(serializers.Serializer):
    what = serializers.CharField()
    places = serializers.ListField(child=serializers.CharField())
    years = serializers.ListField(child=serializers.IntegerField())
    values = serializers.ListField(child=NullableFloats())
    usual = NullableFloats()


class PartsSerializer(serializers.Serializer):
    """multiplied: value = trend x season x rest; else they are added."""

    trend = NullableFloats()
    season = NullableFloats()
    rest = NullableFloats()
    multiplied = serializers.BooleanField()


class LookSerializer(serializers.Serializer):
    periods = serializers.ListField(child=serializers.CharField())
    history = NullableFloats()
    shown = NullableFloats()
    acf = NullableFloats()
    pacf = NullableFloats()
    noise = serializers.FloatField()
    season_length = serializers.IntegerField()
    years = YearsSerializer(allow_null=True)
    parts = PartsSerializer()
    advice = serializers.ListField(child=serializers.CharField())


class CoefficientSerializer(serializers.Serializer):
    """error, z and p are null where the value was given by hand."""

    name = serializers.CharField()
    value = serializers.FloatField()
    error = serializers.FloatField(allow_null=True)
    z = serializers.FloatField(allow_null=True)
    p = serializers.FloatField(allow_null=True)


class RootSerializer(serializers.Serializer):
    """A reciprocal root; of: phi or theta."""

    of = serializers.CharField()
    real = serializers.FloatField()
    imaginary = serializers.FloatField()


class DiagnosisSerializer(serializers.Serializer):
    coefficients = CoefficientSerializer(many=True)
    estimated = serializers.ListField(child=serializers.CharField())
    correlation = serializers.ListField(child=NullableFloats())
    roots = RootSerializer(many=True)
    standardised = NullableFloats(help_text="One-step errors over their standard deviation.")
    acf = NullableFloats()
    pacf = NullableFloats()
    noise = serializers.FloatField()
    box = NullableFloats()
    box_p = NullableFloats()
    expected = NullableFloats()
    sorted_errors = NullableFloats()
    judgement = serializers.ListField(child=serializers.CharField())


class SearchedSerializer(serializers.Serializer):
    """refused: why a model may not stand, empty if it may."""

    model = serializers.CharField()
    aicc = serializers.FloatField(allow_null=True)
    refused = serializers.CharField()


class VarianceSerializer(serializers.Serializer):
    explained = serializers.FloatField()
    rest = serializers.FloatField()
    explained_freedom = serializers.IntegerField()
    rest_freedom = serializers.IntegerField()
    f = serializers.FloatField()
    p = serializers.FloatField()
    r_squared = serializers.FloatField()
    adjusted = serializers.FloatField()


class FitSerializer(serializers.Serializer):
    """diagnosis: null where the text is wrong or nothing could be fitted. search: models that were tried, in order.
    variance: of a regression, null for other methods."""

    periods = serializers.ListField(child=serializers.CharField())
    n_past = serializers.IntegerField()
    history = NullableFloats()
    fit = TrySerializer()
    diagnosis = DiagnosisSerializer(allow_null=True)
    search = SearchedSerializer(many=True)
    variance = VarianceSerializer(allow_null=True)


class AtOriginSerializer(serializers.Serializer):
    """model: null where it could not be fitted. change: from the origin before, in words; empty where there is none."""

    period = serializers.CharField()
    model = serializers.CharField(allow_null=True)
    change = serializers.CharField(allow_blank=True)


class TestedSerializer(serializers.Serializer):
    """origins: oldest first, then now."""

    method = serializers.CharField()
    problem = serializers.CharField(allow_blank=True)
    origins = AtOriginSerializer(many=True)
    measures = NullableFloatMap()


class EffectSerializer(serializers.Serializer):
    """change, low, high: units that the move adds to the mean demand, with its 95 % band. explained: percent."""

    name = serializers.CharField()
    driver = serializers.CharField()
    coefficient = CoefficientSerializer()
    move = serializers.CharField()
    change = serializers.FloatField()
    low = serializers.FloatField()
    high = serializers.FloatField()
    explained = serializers.FloatField(allow_null=True)
    x = NullableFloats()
    y = NullableFloats()
    line = NullableFloats()


class PlannedDriverSerializer(serializers.Serializer):
    name = serializers.CharField()
    ahead = NullableFloats(help_text="As planned, one value a lead.")


class PartSerializer(serializers.Serializer):
    name = serializers.CharField()
    values = NullableFloats()


class DriversSerializer(serializers.Serializer):
    """method: what was fitted, with its choices resolved; problem: why it could not be. parts: of the forecast, which
    they add up to."""

    method = serializers.CharField()
    asked = serializers.CharField()
    problem = serializers.CharField(allow_blank=True)
    periods = serializers.ListField(child=serializers.CharField())
    drivers = PlannedDriverSerializer(many=True)
    effects = EffectSerializer(many=True)
    parts = PartSerializer(many=True)
    forecast = NullableFloats()
    notes = serializers.ListField(child=serializers.CharField())
    has_drivers = serializers.BooleanField(help_text="Whether the method has any.")


class ForecastPartsSerializer(serializers.Serializer):
    """method: chosen for the node, with its choices resolved; empty, and no parts, where there is none. parts: of the
    published forecast, which they add up to."""

    method = serializers.CharField(allow_blank=True)
    periods = serializers.ListField(child=serializers.CharField())
    parts = PartSerializer(many=True)


class LookView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("d", OpenApiTypes.INT),
            OpenApiParameter("seasonal_d", OpenApiTypes.INT),
            OpenApiParameter("logs", OpenApiTypes.BOOL),
        ],
        responses=LookSerializer,
    )
    def get(self, request: Request, pk: int, node: str) -> Response:
        """A series before any method: differenced as asked, its correlation with its past, years, and parts."""
        place = place_at(pk, node)
        values, timeline = place.history([])
        ask = request.query_params
        found = look(
            values, timeline, whole_number("d", ask.get("d", "0"), 2),
            whole_number("seasonal_d", ask.get("seasonal_d", "0"), 1), ask.get("logs", "false") == "true",
        )  # fmt: skip
        years = found.years
        return Response(
            {
                "periods": timeline.labels,
                "history": numbers(values),
                "shown": numbers(found.shown),
                "acf": numbers(found.acf),
                "pacf": numbers(found.pacf),
                "noise": found.noise,
                "season_length": timeline.season_length,
                "years": None
                if years is None
                else {
                    "what": years.what,
                    "places": years.places,
                    "years": years.years,
                    "values": [numbers(row) for row in years.values],
                    "usual": numbers(years.usual),
                },
                "parts": _parts(found.parts),
                "advice": found.advice,
            }
        )


def _parts(parts: Parts) -> dict[str, Any]:
    return {
        "trend": numbers(parts.trend),
        "season": numbers(parts.season),
        "rest": numbers(parts.rest),
        "multiplied": parts.multiplied,
    }


class FitView(APIView):
    @extend_schema(parameters=[METHOD], responses=FitSerializer)
    def get(self, request: Request, pk: int, node: str) -> Response:
        """One method on one node: coefficients with their tests, roots, residuals, and a judgement in words."""
        place = place_at(pk, node)
        text = request.query_params.get("method", "")
        values, timeline = place.history([])
        profile = place.profile([text], timeline, place.leads)
        effects = place.pooled([text])
        one = tries.try_methods(
            values, timeline, [text], place.leads, profile, place.drivers_for([text]), effects,
            place.learned([text], timeline),
        )[0]  # fmt: skip
        fitted = one.fits is not None and bool(one.fits.defined[0])
        measures = tries.in_sample(values, [one], timeline.season_length)[0]
        floor = 0.0 if place.study.recipe.nonnegative else -np.inf
        variance = analysis_of_variance(values, one.fits) if one.fits is not None else None
        diagnosis: dict[str, Any] | None = None
        if fitted and one.fits is not None:
            diagnosis = _diagnosis(diagnose(values, one.fits, timeline.season_length, timeline.labels))
        return Response(
            {
                "periods": timeline.labels + timeline.after(place.leads).labels,
                "n_past": timeline.n_periods,
                "history": numbers(values),
                "fit": {**tries.describe(one, values, LEVELS, floor), "measures": measures},
                "diagnosis": diagnosis,
                "search": [asdict(model) for model in searched(one.fits, timeline.season_length)] if one.fits else [],
                "variance": asdict(variance) if variance else None,
            }
        )


def _diagnosis(found: Diagnosis) -> dict[str, Any]:
    return {
        "coefficients": [asdict(one) for one in found.coefficients],
        "estimated": found.estimated,
        "correlation": [numbers(row) for row in found.correlation],
        "roots": [
            {"of": name, "real": float(root.real), "imaginary": float(root.imag)}
            for name, own in (("phi", found.roots.phi), ("theta", found.roots.theta))
            for root in own
        ],
        "standardised": numbers(found.errors),
        "acf": numbers(found.acf),
        "pacf": numbers(found.pacf),
        "noise": found.noise,
        "box": numbers(found.box),
        "box_p": numbers(found.box_p),
        "expected": numbers(found.expected),
        "sorted_errors": numbers(found.sorted_errors),
        "judgement": found.judgement,
    }


class TestedView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("method", str, many=True, required=True)], responses=TestedSerializer(many=True)
    )
    def get(self, request: Request, pk: int, node: str) -> Response:
        """Methods from every origin of the study: errors over all leads, and the form each took then."""
        place = place_at(pk, node)
        texts = request.query_params.getlist("method")[:_MOST]
        values, timeline = place.history([])
        drivers = place.drivers_for(texts)
        forms: list[Form | None] = []
        problems: list[str] = []
        for text in texts:
            one = tries.usable(text, Batch(values[None, :], timeline, drivers), place.leads)
            forms.append(one if isinstance(one, Form) else None)
            problems.append("" if isinstance(one, Form) else one)
        seen_at = place.result.seen_at
        usable = [form for form in forms if form is not None]
        tested = iter(place.tested(usable) if usable else [])
        periods = [timeline.labels[n - 1] for n in seen_at] + [timeline.labels[-1]]
        answer: list[dict[str, Any]] = []
        for text, form, problem in zip(texts, forms, problems, strict=True):
            if form is None:
                answer.append({"method": text, "problem": problem, "origins": [], "measures": {}})
                continue
            found = next(tested)
            origins = [
                {"period": period, "model": str(own) if own else None, "change": change}
                for period, own, change in zip(periods, found.forms, found.changes, strict=True)
            ]
            answer.append({"method": text, "problem": "", "origins": origins, "measures": found.measures})
        return Response(answer)


def _with_parts(place: Place, text: str) -> tuple[tries.Try, Batch]:
    """A method on a node, and the batch with all that its parts are taken from."""
    values, timeline = place.history([])
    pooled = place.pooled([text])
    profile = place.profile([text], timeline, place.leads + seasons_beyond(timeline.season_length))
    own = None if profile is None else profile[None]
    learned = place.learned([text], timeline)
    batch = Batch(values[None, :], timeline, place.drivers(), pooled, learned, profiles=own)
    return tries.try_methods(values, timeline, [text], place.leads, profile, batch.drivers, pooled, learned)[0], batch


class ForecastPartsView(APIView):
    @extend_schema(responses=ForecastPartsSerializer)
    def get(self, request: Request, pk: int, node: str) -> Response:
        """The published forecast of a node taken apart: by the method chosen for it, and what other levels change."""
        place = place_at(pk, node)
        periods = place.study.load.timeline.after(place.leads).labels
        answer: dict[str, Any] = {"method": "", "periods": periods, "parts": []}
        if place.node.chosen < 0 or place.node.plan or place.result.methods[place.node.chosen] in NO_METHODS:
            return Response(answer)
        one, batch = _with_parts(place, place.result.methods[place.node.chosen])
        if one.fits is None or not one.fits.defined[0]:
            return Response(answer)
        answer["method"] = str(one.fits.form(0))
        parts = forecast_parts(one.fits.form(0), one.fits, batch)
        published = unpack(place.node.layers, -1, place.leads)[-1]
        left = published - np.sum([part.values for part in parts], axis=0)
        if np.abs(left).max() > 1e-9 * max(np.abs(published).max(), 1.0):
            parts.append(Part("reconciliation" + (" and rounding" if place.study.recipe.whole_units else ""), left))
        if adjustments.rows_of(place.study.portfolio).exists():
            changed = adjustments.adjusted(place.study).mean[place.node.position] - published
            if changed.any():
                parts.append(Part("adjustments", changed))
        answer["parts"] = [{"name": part.name, "values": numbers(part.values)} for part in parts]
        return Response(answer)


class DriversView(APIView):
    @extend_schema(parameters=[OpenApiParameter("method", str)], responses=DriversSerializer)
    def get(self, request: Request, pk: int, node: str) -> Response:
        """What drivers do to a node, by a method that has some; without one, by a regression on all of them."""
        place = place_at(pk, node)
        timeline = place.study.load.timeline
        known = place.drivers()
        ahead = {name: _ahead(row[0], timeline.n_periods, place.leads) for name, row in known.items()}
        asked = request.query_params.get("method", "") or self._usual(place, known)
        answer: dict[str, Any] = {
            "method": asked,
            "asked": asked,
            "problem": "",
            "periods": timeline.after(place.leads).labels,
            "drivers": [{"name": name, "ahead": numbers(row)} for name, row in ahead.items()],
            "effects": [],
            "parts": [],
            "forecast": [],
            "notes": [],
            "has_drivers": False,
        }
        if not asked:
            answer["problem"] = (
                "This history has no drivers that are known ahead. Bring in a file with price or promotion by period."
            )
            return Response(answer)
        one, batch = _with_parts(place, asked)
        fits: Fits | None = one.fits
        if fits is None or not fits.defined[0]:
            answer["problem"] = one.problem or "This method cannot be fitted to this series."
            return Response(answer)
        form = fits.form(0)
        answer["method"] = str(form)
        answer["has_drivers"] = bool(form.drivers or form.pooled)
        answer["notes"] = list(fits.notes.get(0, ()))
        answer["forecast"] = numbers(fits.forecast[0])
        answer["effects"] = [
            {
                "name": found.coefficient.name,
                "driver": found.driver,
                "coefficient": asdict(found.coefficient),
                "move": found.move,
                "change": found.change,
                "low": found.low,
                "high": found.high,
                "explained": found.explained,
                "x": numbers(found.x),
                "y": numbers(found.y),
                "line": numbers(found.line),
            }
            for found in effects(form, fits, batch)
        ]
        answer["parts"] = [
            {"name": part.name, "values": numbers(part.values)} for part in forecast_parts(form, fits, batch)
        ]
        return Response(answer)

    @staticmethod
    def _usual(place: Place, drivers: Any) -> str:
        """The node's own method where it has drivers; else one of the study that pools their effects, for a series, or
        one with all that are known ahead."""
        chosen = place.node.chosen
        own = form_of(place.result.methods[chosen]) if chosen >= 0 else None
        if own and (own.drivers or own.pooled):
            return str(own)
        at_series = place.node.position >= graph_of(place.study).n_aggregates
        shared = [text for text in place.result.methods if text not in NO_METHODS and parse(text).pooled]
        if shared and at_series:  # one series alone seldom knows what a promotion does
            return str(shared[0])
        timeline = place.study.load.timeline
        entries, _ = entries_of(drivers, timeline, place.study.recipe.plans, place.leads)
        usual = driven_methods(entries, timeline, False)
        return usual[0] if usual else ""


def _ahead(driver: Floats, n_past: int, leads: int) -> Floats:
    row = np.full(leads, np.nan)
    known = driver[n_past : n_past + leads]
    row[: len(known)] = known
    return row
