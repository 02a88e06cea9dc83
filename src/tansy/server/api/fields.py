"""Fields of what is sent to the API, checked where it comes in."""

from __future__ import annotations

import re
from typing import Any

from rest_framework import serializers

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


MOST_IDS = 200_000
"""In one request: the database takes no more than 250,000 values at once."""


class IdsField(serializers.ListField):
    """Numbers of rows or places, in the range that the database counts in."""

    child = serializers.IntegerField(min_value=0, max_value=2**63 - 1)

    def __init__(self, **more: Any) -> None:
        super().__init__(max_length=MOST_IDS, **more)
