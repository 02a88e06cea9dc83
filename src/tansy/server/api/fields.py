"""Fields of what is sent to the API, checked where it comes in."""

from __future__ import annotations

import re
from typing import Any

from django.db.models import QuerySet
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter
from rest_framework import serializers
from rest_framework.request import Request

from tansy.engine.reading.numbers import MOST


class NumberField(serializers.FloatField):
    """A number that a file could hold too; the text "nan" and an infinity are none."""

    def to_internal_value(self, data: Any) -> float:
        value: float = super().to_internal_value(data)
        if not abs(value) <= MOST:
            raise serializers.ValidationError(f"A number is needed, of at most {MOST:g} in size.")
        return value


def whole_number(name: str, text: str, most: int) -> int:
    """The parameter `name` of an address. Raises a ValidationError at it where it is none from 0 to `most`."""
    if not re.fullmatch("[0-9]{1,12}", text) or int(text) > most:
        raise serializers.ValidationError({name: f"A whole number up to {most:,}, not {text!r}."})
    return int(text)


MOST_ID = 10**12 - 1
"""What an id in an address may be: twelve digits, as `whole_number` reads them."""
PAGE = 100
BEFORE = OpenApiParameter("before", OpenApiTypes.INT, description="An id: what is older than it.")


def page_of(request: Request, rows: QuerySet[Any], size: int = PAGE) -> QuerySet[Any]:
    """The newest of some rows, or of those before the id that the address gives: a page that is full has more after
    it. Raises a ValidationError where the id is no number."""
    before = request.query_params.get("before", "")
    if before:
        rows = rows.filter(pk__lt=whole_number("before", before, MOST_ID))
    return rows.order_by("-pk")[:size]


MOST_IDS = 200_000
"""In one request: the database takes no more than 250,000 values at once."""


class IdsField(serializers.ListField):
    """Numbers of rows or places, in the range that the database counts in."""

    child = serializers.IntegerField(min_value=0, max_value=2**63 - 1)

    def __init__(self, **more: Any) -> None:
        super().__init__(max_length=MOST_IDS, **more)
