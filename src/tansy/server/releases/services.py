"""Looking at what would go out, and publishing it."""

from __future__ import annotations

import hashlib
import io
from dataclasses import asdict, dataclass
from functools import lru_cache
from typing import Any

import numpy as np
import polars as pl
import polars.selectors as cs
from django.db import transaction
from django.db.models import Max
from django.shortcuts import get_object_or_404
from numpy.typing import NDArray

from tansy.engine.study.checks import Check, check_forecast
from tansy.engine.study.export import csv_of, key_column, probability_name
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.releases.models import Release
from tansy.server.studies.models import Node, Result, Study, unpack
from tansy.server.studies.services import structure_of

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Draft:
    """What a release of a study would hold, read from the very rows that would go out. total: mean [H] and quantiles
    [Q, H] of the topmost node, and its history."""

    study: Study
    result: Result
    checks: list[Check]
    periods: list[str]
    n_series: int
    n_nodes: int
    total: Floats
    total_quantiles: Floats
    history: Floats

    @property
    def holds(self) -> bool:
        return all(check.holds for check in self.checks)


def draft(study: Study) -> Draft:
    """Check the forecast of a study as it would go out. Raises Conflict where the study has no result."""
    result = Result.objects.filter(study=study).defer("sheet", "accuracy").first()
    if result is None:
        raise Conflict("This study has no result to publish yet.")
    structure = structure_of(study)
    names = [probability_name(p) for p in result.probabilities]
    rows = pl.read_parquet(io.BytesIO(result.forecasts), columns=["mean", *names])
    n_nodes = rows.height // result.leads
    forecast = rows["mean"].to_numpy().reshape(n_nodes, result.leads)
    quantiles = np.stack([rows[name].to_numpy().reshape(n_nodes, result.leads) for name in names], axis=1)
    chosen = np.array(Node.objects.filter(study=study).order_by("position").values_list("chosen", flat=True))
    top = Node.objects.only("history").get(study=study, position=0)
    return Draft(
        study=study,
        result=result,
        checks=check_forecast(structure, forecast, quantiles, study.recipe.nonnegative, chosen),
        periods=study.load.timeline.after(result.leads).labels,
        n_series=structure.n_series,
        n_nodes=n_nodes,
        total=forecast[0],
        total_quantiles=quantiles[0],
        history=unpack(top.history),
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
            total=going_out.total.tolist(),
            forecasts=packed,
            sha256=hashlib.sha256(packed).hexdigest(),
        )


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _means.cache_clear()


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


def released_before(study: Study, position: int) -> tuple[Release, dict[str, float]] | None:
    """The newest release that is not of this study, and what it says of a node by period; None where it says nothing.

    Raises Http404 where the study has no such node.
    """
    node = get_object_or_404(Node.objects.only("level", "trail"), study=study, position=position)
    others = Release.objects.filter(portfolio_id=study.portfolio_id).exclude(study=study)
    release = others.defer("forecasts").order_by("-number").first()
    if release is None:
        return None
    said = _means(release.pk)
    codes = [way[-1].get("code") or way[-1]["name"] for way in node.trail]
    wanted = dict(zip(map(key_column, study.load.key_names), codes, strict=True))
    wanted["level"] = Result.objects.only("levels").get(study=study).levels[node.level]["name"]
    if not wanted.keys() <= set(said.columns):
        return None
    found = said.filter(*(pl.col(name) == value for name, value in wanted.items()))
    return (release, dict(found.select("period", "mean").iter_rows())) if found.height else None


@lru_cache(maxsize=2)
def _means(release: int) -> pl.DataFrame:
    """Keys, level, period and mean of all rows of a release, which never change; kept, since one node after the other
    is looked at."""
    packed = io.BytesIO(Release.objects.values_list("forecasts", flat=True).get(pk=release))
    return pl.read_parquet(packed).select(cs.exclude("node", "lead") - (cs.float() - cs.by_name("mean")))


def total_of(going_out: Draft) -> dict[str, Any]:
    """The topmost node's mean and bands, widest first."""
    quantiles = going_out.total_quantiles
    return {
        "history": [None if np.isnan(v) else v for v in going_out.history.tolist()],
        "mean": going_out.total.tolist(),
        "bands": [
            {"level": level, "low": quantiles[b].tolist(), "high": quantiles[-1 - b].tolist()}
            for b, level in enumerate(going_out.result.band_levels)
        ],
    }
