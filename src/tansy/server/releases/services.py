"""Looking at what would go out, and publishing it."""

from __future__ import annotations

import hashlib
import io
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
import polars as pl
from django.db import transaction
from django.db.models import Max

from tansy.engine.structure.grouping import group
from tansy.engine.study.checks import Check, check_forecast
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.releases.models import Release
from tansy.server.studies.models import Node, Result, Study, unpack


@dataclass(frozen=True)
class Draft:
    """What a release of a study would hold. total: mean and bands of the topmost node."""

    study: Study
    result: Result
    checks: list[Check]
    periods: list[str]
    n_series: int
    n_nodes: int
    top: Node

    @property
    def holds(self) -> bool:
        return all(check.holds for check in self.checks)


def draft(study: Study) -> Draft:
    """Check the stored forecast of a study, as it would go out. Raises Conflict where the study has no result."""
    result = Result.objects.filter(study=study).first()
    if result is None:
        raise Conflict("This study has no result to publish yet.")
    recipe = study.recipe
    structure = group(study.load.panel(), recipe.structure)
    rows = list(Node.objects.filter(study=study).order_by("position").values_list("forecast", "quantiles"))
    n_quantiles = len(result.probabilities)
    forecast = unpack(b"".join(mean for mean, _ in rows), len(rows), result.leads)
    quantiles = unpack(b"".join(q for _, q in rows), len(rows), n_quantiles, result.leads)
    return Draft(
        study=study,
        result=result,
        checks=check_forecast(structure, forecast, quantiles, recipe.nonnegative),
        periods=study.load.timeline.after(result.leads).labels,
        n_series=structure.n_series,
        n_nodes=structure.n_nodes,
        top=Node.objects.get(study=study, position=0),
    )


def publish(study: Study, user: Any, note: str = "") -> Release:
    """Publish a study as the next release of its portfolio. Raises Unusable where a check does not hold, and Conflict
    where this study is published already."""
    going_out = draft(study)
    broken = next((check for check in going_out.checks if not check.holds), None)
    if broken is not None:
        raise Unusable(f"Not published: the check {broken.name!r} does not hold ({broken.found}).")
    packed = bytes(going_out.result.forecasts)
    with transaction.atomic():
        if Release.objects.filter(study=study).exists():
            raise Conflict(f"This study is published already, as {Release.objects.get(study=study)}.")
        last = Release.objects.filter(portfolio=study.portfolio).aggregate(Max("number"))["number__max"] or 0
        return Release.objects.create(
            portfolio=study.portfolio,
            study=study,
            number=last + 1,
            published_by=user,
            note=note,
            origin=study.load.timeline.labels[-1],
            first=going_out.periods[0],
            last=going_out.periods[-1],
            n_series=going_out.n_series,
            n_nodes=going_out.n_nodes,
            checks=[asdict(check) for check in going_out.checks],
            total=unpack(going_out.top.forecast).tolist(),
            forecasts=packed,
            sha256=hashlib.sha256(packed).hexdigest(),
        )


def table(release: Release) -> pl.DataFrame:
    return pl.read_parquet(io.BytesIO(bytes(release.forecasts)))


def as_csv(release: Release) -> bytes:
    buffer = io.BytesIO()
    table(release).write_csv(buffer)
    return buffer.getvalue()


def rows(release: Release, filters: dict[str, str], start: int, limit: int) -> tuple[int, list[dict[str, Any]]]:
    """Rows of a release whose columns equal the filters: how many there are, and those from `start` on.

    Raises Unusable for a filter on a column that is not there.
    """
    found = table(release)
    for column, wanted in filters.items():
        if column not in found.columns:
            raise Unusable(f"The release has no column {column!r}; it has {', '.join(found.columns)}.")
        found = found.filter(pl.col(column).cast(pl.String) == wanted)
    return found.height, found.slice(start, limit).to_dicts()


def total_of(node: Node, result: Result) -> dict[str, Any]:
    """The topmost node's mean and bands, widest first."""
    quantiles = unpack(node.quantiles, len(result.probabilities), result.leads)
    return {
        "history": [None if np.isnan(v) else v for v in unpack(node.history).tolist()],
        "mean": unpack(node.forecast).tolist(),
        "bands": [
            {"level": level, "low": quantiles[b].tolist(), "high": quantiles[-1 - b].tolist()}
            for b, level in enumerate(result.band_levels)
        ],
    }
