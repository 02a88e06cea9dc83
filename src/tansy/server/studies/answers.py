"""Numbers, bands and parameters as the API gives them."""

from __future__ import annotations

from typing import Any

import numpy as np
from rest_framework import serializers

from tansy.engine.methods.form import Form


class NullableFloats(serializers.ListField):
    child = serializers.FloatField(allow_null=True)


class BandSerializer(serializers.Serializer):
    level = serializers.FloatField()
    low = NullableFloats()
    high = NullableFloats()


class ParameterSerializer(serializers.Serializer):
    name = serializers.CharField()
    value = serializers.FloatField()


def rounded_list(values: np.ndarray) -> list[float | None]:
    """Four decimals are more than a screen shows; releases and downloads keep them all."""
    return [None if not np.isfinite(v) else round(v, 4) + 0.0 for v in values.tolist()]


def bands_of(quantiles: np.ndarray, levels: list[float]) -> list[dict[str, Any]]:
    """Widest first, as `levels` are."""
    return [
        {"level": level, "low": rounded_list(quantiles[b]), "high": rounded_list(quantiles[-1 - b])}
        for b, level in enumerate(levels)
    ]


def parts_of(form: Form | None) -> list[str]:
    """Methods of a blend; none of anything else."""
    return [str(leaf) for leaf in form.leaves] if form and form.leaves != (form,) else []
