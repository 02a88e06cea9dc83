"""Looking at what would go out, and publishing it."""

from __future__ import annotations

import gzip
import hashlib
import io
from dataclasses import asdict, dataclass
from functools import lru_cache
from importlib.metadata import version
from typing import Any

import numpy as np
import polars as pl
from django.db import transaction
from django.db.models import Max
from numpy.typing import NDArray

from tansy.engine.study.checks import Check, check_forecast
from tansy.engine.study.export import SUM, csv_of, forecasts
from tansy.engine.study.forecast import Forecast
from tansy.engine.study.paths import write_paths
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.releases import webhooks
from tansy.server.releases.models import Preparation, Release, Withdrawal
from tansy.server.studies import adjustments
from tansy.server.studies.models import Node, Result, Study, node_at, unpack
from tansy.server.studies.services import prepared_of, together_of
from tansy.server.studies.store import results

Floats = NDArray[np.float64]


ROW_GROUP = 20_000  # rows: a page of a release is read from one or two groups


@dataclass(frozen=True)
class Draft:
    """What a release of a study would hold, and the checks of it. history: of the topmost node. adjustments: what
    planners changed, in their order. recipe_text: with it."""

    study: Study
    result: Result
    forecast: Forecast
    checks: list[Check]
    history: Floats
    adjustments: list[dict[str, Any]]
    recipe_text: str

    @property
    def holds(self) -> bool:
        return all(check.holds for check in self.checks)


def draft(study: Study) -> Draft:
    """Check the forecast of a study as it would go out, with what planners changed. Raises Conflict where the study has
    no result."""
    result = Result.objects.filter(study=study).defer("sheet", "accuracy", "evidence").first()
    if result is None:
        raise Conflict("This study has no result to publish yet.")
    found = adjustments.adjusted(study)
    laid = adjustments.laid_over(found)
    checks = [*check_forecast(found.forecast, study.recipe.nonnegative), _decided(found)]
    history = unpack(node_at(study.pk, "top").history)
    return Draft(study, result, found.forecast, checks, history, laid, adjustments.recipe_with(study, found))


def _decided(found: adjustments.Adjusted) -> Check:
    """Adjustments whose periods are past say nothing of this forecast; the others are laid, or somebody has to say what
    becomes of them."""
    waiting = sum(bool(one.problem) and one.node >= 0 and not one.past for one in found.outcomes.values())
    laid = sum(not one.problem for one in found.outcomes.values())
    return Check(
        "every adjustment decided", not waiting,
        f"{waiting} wait to be kept or withdrawn" if waiting else f"{laid} laid, each with its reason",
    )  # fmt: skip


def published_as(going_out: Draft) -> Release | None:
    """The release that holds just this, not counting those withdrawn; None where there is none."""
    ids = [one["id"] for one in going_out.adjustments]
    own = Release.objects.filter(study=going_out.study, withdrawal=None).defer("forecasts").order_by("-number")
    return next((one for one in own if [laid["id"] for laid in one.adjustments] == ids), None)


def prepared(going_out: Draft) -> Preparation | None:
    """Who holds just this to be ready; None where nobody does."""
    last = Preparation.objects.filter(study=going_out.study).select_related("made_by").order_by("-pk").first()
    ids = [one["id"] for one in going_out.adjustments]
    return last if last is not None and last.adjustments == ids else None


def prepare(study: Study, user: Any, note: str = "") -> Preparation:
    """Hold a study to be ready, so that somebody else may sign it. Raises Unusable where a check does not hold."""
    going_out = draft(study)
    _must_hold(going_out, "Not prepared")
    ids = [one["id"] for one in going_out.adjustments]
    return Preparation.objects.create(study=study, adjustments=ids, note=note, made_by=user)


def _must_hold(going_out: Draft, refused: str) -> None:
    broken = next((check for check in going_out.checks if not check.holds), None)
    if broken is not None:
        raise Unusable(f"{refused}: the check {broken.name!r} does not hold ({broken.found}).")


def publish(study: Study, user: Any, note: str = "") -> Release:
    """Publish a study as the next release of its portfolio. Raises Unusable where a check does not hold, or where the
    portfolio asks for two people and this is the same one, and Conflict where just this is published already."""
    going_out = draft(study)
    _must_hold(going_out, "Not published")
    preparation = prepared(going_out)
    if study.portfolio.two_signatures:
        if preparation is None:
            raise Unusable("Not published: in this portfolio one person prepares a release and another one signs it.")
        if preparation.made_by_id == user.pk:
            raise Unusable("Not published: you have prepared this yourself; another person signs it.")
    forecast, graph = going_out.forecast, going_out.forecast.graph
    periods = forecast.timeline.labels
    buffer = io.BytesIO()
    forecasts(forecast).write_parquet(buffer, row_group_size=ROW_GROUP)
    packed = buffer.getvalue()
    with transaction.atomic():
        before = published_as(going_out)
        if before is not None:
            raise Conflict(f"This study is published already, as {before}.")
        last = Release.objects.filter(portfolio=study.portfolio).aggregate(Max("number"))["number__max"] or 0
        release = Release.objects.create(
            portfolio=study.portfolio,
            study=study,
            number=last + 1,
            published_by=user,
            prepared_by=preparation.made_by if preparation else None,
            note=note or (preparation.note if preparation else ""),
            origin=study.load.timeline.labels[-1],
            first=periods[0],
            last=periods[-1],
            n_series=graph.n_series,
            n_nodes=graph.n_nodes,
            checks=[asdict(check) for check in going_out.checks],
            recipe_text=going_out.recipe_text,
            adjustments=going_out.adjustments,
            engine=version("tansy-bench"),
            total=forecast.mean[0].tolist(),
            forecasts=packed,
            sha256=hashlib.sha256(packed).hexdigest(),
        )
        webhooks.announce(release, webhooks.PUBLISHED)
        return release


def withdraw(release: Release, user: Any, reason: str) -> Withdrawal:
    """Say that a release is not to be used. Raises Unusable without a reason, Conflict where it was said before."""
    if not reason.strip():
        raise Unusable("Say why, so that those who use it know what to do.")
    with transaction.atomic():
        if Withdrawal.objects.filter(release=release).exists():
            raise Conflict(f"{release} is withdrawn already.")
        withdrawal = Withdrawal.objects.create(release=release, made_by=user, reason=reason.strip())
        webhooks.announce(release, webhooks.WITHDRAWN)
        return withdrawal


def as_csv(release: Release, level: str = "") -> bytes:
    """All rows of a release, or those of a level. Raises Unusable where it has none of that name."""
    return csv_of(_of_level(release, level))


def as_csv_packed(release: Release, level: str = "") -> bytes:
    """The same by gzip. A release does not change, so the last ones asked for are kept; what it was made of is compared
    with its sum even so."""
    release.content()
    return _csv_packed(release.sha256, level)


@lru_cache(maxsize=6)
def _csv_packed(sha256: str, level: str) -> bytes:
    release = Release.objects.filter(sha256=sha256).first()
    assert release is not None  # who asks has just read it
    return gzip.compress(as_csv(release, level), 1, mtime=0)


def as_parquet(release: Release, level: str = "") -> bytes:
    """The file as it was published, or the rows of a level."""
    if not level:
        return release.content()
    buffer = io.BytesIO()
    _of_level(release, level).write_parquet(buffer)
    return buffer.getvalue()


def as_paths(release: Release, n: int, level: str = "") -> bytes:
    """Coherent sample paths of a release as Parquet, of the series or of a level; the same whenever they are asked for.

    Raises PathsError where they cannot be had.
    """
    study = release.study
    prepared, periods = prepared_of(study), study.load.timeline.after(len(release.total))
    rows = named_as_now(pl.scan_parquet(io.BytesIO(release.content()))).collect()
    names = sorted((name for name in rows.columns if name.startswith("q0.")), key=lambda name: float(name[1:]))
    shape = (prepared.graph.n_nodes, len(release.total))
    mean = rows[FORECAST].to_numpy().reshape(shape)
    forecast = Forecast(
        prepared.graph, periods, mean, (), np.zeros(shape[0], dtype=np.int64),
        np.array([float(name[1:]) for name in names]),
        np.stack([rows[name].to_numpy().reshape(shape) for name in names], axis=1),
        together_of(Result.objects.only("together", "leads").get(study=study), prepared.graph),
    )  # fmt: skip
    buffer = io.BytesIO()
    write_paths(forecast, prepared.known(keep=results()), n, buffer, level)
    return buffer.getvalue()


def _of_level(release: Release, level: str) -> pl.DataFrame:
    table = pl.read_parquet(io.BytesIO(release.content()))
    if not level:
        return table
    found = table.filter(pl.col("level") == level)
    if not found.height:
        levels = ", ".join(map(repr, table["level"].unique(maintain_order=True).to_list()))
        raise Unusable(f"The release has no level {level!r}; it has {levels}.")
    return found


def rows(
    release: Release, filters: dict[str, str], start: int, limit: int, since: Release | None = None
) -> tuple[int, list[dict[str, Any]]]:
    """Rows of a release whose columns equal the filters: how many there are, and those from `start` on. Only columns
    that are filtered by, and the rows of the page, are read. since: only what is not as it was in that release.

    Raises Unusable for a filter on a column that is not there.
    """
    found = pl.scan_parquet(io.BytesIO(release.content()))
    columns = found.collect_schema().names()
    for column, wanted in filters.items():
        if column not in columns:
            raise Unusable(f"The release has no column {column!r}; it has {', '.join(columns)}.")
        found = found.filter(pl.col(column).cast(pl.String) == wanted)
    if since is not None:
        found = _not_as_in(found, since)
    count = found.select(pl.len()).collect().item()
    return count, found.slice(start, limit).collect().to_dicts()


_NAMES = ("node", "lead")
"""Columns that say nothing of which node and period a row is: names change, and leads move on; so do sums."""


def _not_as_in(found: pl.LazyFrame, since: Release) -> pl.LazyFrame:
    """Rows that a release does not have with the same numbers."""
    before = named_as_now(pl.scan_parquet(io.BytesIO(since.content())))
    schema, other = found.collect_schema(), before.collect_schema()
    place = [name for name, dtype in schema.items() if dtype == pl.String and name in other and name not in _NAMES]
    numbers = [name for name, dtype in schema.items() if dtype.is_float() and other.get(name) == dtype]
    numbers = [name for name in numbers if name != SUM and not name.startswith(f"{SUM}_")]
    return found.join(
        before.select(*place, *numbers), on=[*place, *numbers], how="anti", nulls_equal=True, maintain_order="left"
    )


def released_before(study: Study, ref: str) -> tuple[Release, dict[str, float]] | None:
    """The newest release that is not of this study and not withdrawn, and what it says of a node by period; None where
    it says nothing.

    Raises Http404 where the study has no such node.
    """
    node = node_at(study.pk, ref)
    others = Release.objects.filter(portfolio_id=study.portfolio_id, withdrawal=None).exclude(study=study)
    release = others.defer("forecasts").select_related("study__load", "study__result").order_by("-number").first()
    if release is None:
        return None
    then = Node.objects.filter(study=release.study, ref=node.ref).only("position").first()
    if then is None:
        return None
    own = node_rows(release, then.position)
    return release, dict(zip(own["period"].to_list(), own[FORECAST].to_list(), strict=True))


FORECAST = "forecast"


def node_rows(release: Release, position: int) -> pl.DataFrame:
    """The rows of one node of a release; nodes stand in their order, as many rows each as there are leads."""
    leads = len(release.total)
    table = pl.scan_parquet(io.BytesIO(release.content()))
    return named_as_now(table).slice(position * leads, leads).collect()


def named_as_now(table: pl.LazyFrame) -> pl.LazyFrame:
    """Releases of earlier versions call the forecast `mean`; it had no adjustments."""
    if FORECAST in table.collect_schema().names():
        return table
    return table.rename({"mean": FORECAST}).with_columns(pl.col(FORECAST).alias("statistical"))


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
