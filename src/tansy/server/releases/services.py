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
from numpy.typing import NDArray

from tansy.engine.study.checks import Check, check_forecast
from tansy.engine.study.export import csv_of, forecasts
from tansy.engine.study.forecast import Forecast
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.releases.models import Release
from tansy.server.studies.models import Node, Result, Study, node_at, unpack
from tansy.server.studies.services import forecast_of

Floats = NDArray[np.float64]


_ROW_GROUP = 20_000  # rows: a page of a release is read from one or two groups


@dataclass(frozen=True)
class Draft:
    """What a release of a study would hold, and the checks of it. history: of the topmost node."""

    study: Study
    result: Result
    forecast: Forecast
    checks: list[Check]
    history: Floats

    @property
    def holds(self) -> bool:
        return all(check.holds for check in self.checks)


def draft(study: Study) -> Draft:
    """Check the forecast of a study as it would go out. Raises Conflict where the study has no result."""
    result = Result.objects.filter(study=study).defer("sheet", "accuracy", "evidence").first()
    forecast = forecast_of(study)
    if result is None or forecast is None:
        raise Conflict("This study has no result to publish yet.")
    checks = check_forecast(forecast, study.recipe.nonnegative)
    return Draft(study, result, forecast, checks, unpack(node_at(study.pk, "top").history))


def publish(study: Study, user: Any, note: str = "") -> Release:
    """Publish a study as the next release of its portfolio. Raises Unusable where a check does not hold, and Conflict
    where this study is published already."""
    going_out = draft(study)
    broken = next((check for check in going_out.checks if not check.holds), None)
    if broken is not None:
        raise Unusable(f"Not published: the check {broken.name!r} does not hold ({broken.found}).")
    forecast, graph = going_out.forecast, going_out.forecast.graph
    periods = forecast.timeline.labels
    buffer = io.BytesIO()
    forecasts(forecast).write_parquet(buffer, row_group_size=_ROW_GROUP)
    packed = buffer.getvalue()
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
            first=periods[0],
            last=periods[-1],
            n_series=graph.n_series,
            n_nodes=graph.n_nodes,
            checks=[asdict(check) for check in going_out.checks],
            total=forecast.mean[0].tolist(),
            forecasts=packed,
            sha256=hashlib.sha256(packed).hexdigest(),
        )


def as_csv(release: Release) -> bytes:
    return csv_of(pl.read_parquet(io.BytesIO(release.forecasts)))


def rows(release: Release, filters: dict[str, str], start: int, limit: int) -> tuple[int, list[dict[str, Any]]]:
    """Rows of a release whose columns equal the filters: how many there are, and those from `start` on. Only columns
    that are filtered by, and the rows of the page, are read.

    Raises Unusable for a filter on a column that is not there.
    """
    found = pl.scan_parquet(io.BytesIO(release.forecasts))
    columns = found.collect_schema().names()
    for column, wanted in filters.items():
        if column not in columns:
            raise Unusable(f"The release has no column {column!r}; it has {', '.join(columns)}.")
        found = found.filter(pl.col(column).cast(pl.String) == wanted)
    count = found.select(pl.len()).collect().item()
    return count, found.slice(start, limit).collect().to_dicts()


def released_before(study: Study, ref: str) -> tuple[Release, dict[str, float]] | None:
    """The newest release that is not of this study, and what it says of a node by period; None where it says nothing.

    Raises Http404 where the study has no such node.
    """
    node = node_at(study.pk, ref)
    others = Release.objects.filter(portfolio_id=study.portfolio_id).exclude(study=study)
    release = others.defer("forecasts").select_related("study__load", "study__result").order_by("-number").first()
    if release is None:
        return None
    then = Node.objects.filter(study=release.study, ref=node.ref).only("layers").first()
    if then is None:
        return None
    leads = release.study.result.leads
    periods = release.study.load.timeline.after(leads).labels
    return release, dict(zip(periods, unpack(then.layers, -1, leads)[-1].tolist(), strict=True))


def total_of(going_out: Draft) -> dict[str, Any]:
    """The topmost node's mean and bands, widest first."""
    quantiles = going_out.forecast.quantiles[0]
    return {
        "history": [None if np.isnan(v) else v for v in going_out.history.tolist()],
        "mean": going_out.forecast.mean[0].tolist(),
        "bands": [
            {"level": level, "low": quantiles[b].tolist(), "high": quantiles[-1 - b].tolist()}
            for b, level in enumerate(going_out.result.band_levels)
        ],
    }
