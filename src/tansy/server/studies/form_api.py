"""What a planner may change about a method, as data: screens show fields and never read a method's text."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.engine.errors import NotationError
from tansy.engine.methods.form import Field, Form, Surroundings
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import changed, method_field
from tansy.engine.timeline import NOUN
from tansy.server.accounts.acts import LOOK
from tansy.server.api.fields import NumberField
from tansy.server.studies.place import Place, place_at


class ChangeSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=40)
    value = serializers.JSONField(allow_null=True, help_text="A text, a number, a yes or no, or null.")


class AskFormSerializer(serializers.Serializer):
    """change: one field to be set, "method" among them; estimates: what was found of the method, by its parameters."""

    method = serializers.CharField(max_length=300, allow_blank=True)
    change = ChangeSerializer(required=False, allow_null=True)
    estimates = serializers.DictField(child=NumberField(), required=False)


class ChoiceSerializer(serializers.Serializer):
    value = serializers.CharField(allow_blank=True)
    label = serializers.CharField()  # type: ignore[assignment]  # a field of that name hides DRF's attribute


class FieldSerializer(serializers.Serializer):
    """kind: "choice" of options; "count", a whole number, or "number", from least to most, null where it is left to the
    data; "share", the same, null where it is estimated; "flag"; "names", some of the options, joined by commas. group:
    what stands above it, where it begins something."""

    name = serializers.CharField()
    label = serializers.CharField()  # type: ignore[assignment]
    kind = serializers.CharField()
    value = serializers.JSONField(allow_null=True)
    options = ChoiceSerializer(many=True)
    least = serializers.FloatField()
    most = serializers.FloatField()
    group = serializers.CharField(allow_blank=True)


class FormSerializer(serializers.Serializer):
    """method: the text, in its one spelling. problem: what is wrong with it or with the change, else empty. family: the
    name before its parenthesis. menu: the choice of another method."""

    method = serializers.CharField(allow_blank=True)
    problem = serializers.CharField(allow_blank=True)
    family = serializers.CharField(allow_blank=True)
    menu = FieldSerializer()
    fields = FieldSerializer(many=True)  # type: ignore[assignment]


def _around(place: Place, estimates: dict[str, float]) -> Surroundings:
    timeline = place.study.load.timeline
    return Surroundings(timeline.season_length, NOUN[timeline.frequency], tuple(place.driver_names()), estimates)


def _field_json(field: Field) -> dict[str, Any]:
    return {**asdict(field), "options": [{"value": value, "label": label} for value, label in field.options]}


def form_json(form: Form | None, text: str, problem: str, around: Surroundings) -> dict[str, Any]:
    """A form as screens take it; of a text that is none, the menu alone."""
    if form is None:
        menu = method_field(parse("mean"), around)
        return {
            "method": text, "problem": problem, "family": "", "fields": [],
            "menu": {**_field_json(menu), "value": ""},
        }  # fmt: skip
    return {
        "method": str(form),
        "problem": problem,
        "family": form.family,
        "menu": _field_json(method_field(form, around)),
        "fields": [_field_json(field) for field in form.fields(around)],
    }


class FormView(APIView):
    acts = {"POST": LOOK}

    @extend_schema(request=AskFormSerializer, responses=FormSerializer)
    def post(self, request: Request, pk: int, node: str) -> Response:
        """What may be changed about a method on this node, after one change where one is asked for. Nothing is kept."""
        asked = AskFormSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        given = asked.validated_data
        around = _around(place_at(pk, node), given.get("estimates", {}))
        text, change = given["method"], given.get("change")
        try:
            if change and change["name"] == "method":
                form = parse(str(change["value"]))
            else:
                form = parse(text)
        except NotationError as error:
            return Response(form_json(None, text, str(error), around))
        problem = ""
        if change and change["name"] != "method":
            try:
                form = parse(str(changed(form, change["name"], change["value"], around)))
            except NotationError as error:
                problem = str(error)
        return Response(form_json(form, text, problem, around))
