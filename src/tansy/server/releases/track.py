"""Releases held against the actuals that have come since."""

from __future__ import annotations

import io
from dataclasses import asdict, dataclass
from functools import lru_cache
from typing import Any

import numpy as np
import polars as pl
from django.db.models import QuerySet
from django.http import Http404
from numpy.typing import NDArray

from tansy.engine.errors import PlanError
from tansy.engine.panel import Panel
from tansy.engine.plans.planned import with_plans
from tansy.engine.study import track as engine
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.report import kinds_of
from tansy.server.portfolios import corrections as ledger
from tansy.server.portfolios.models import Load, Portfolio
from tansy.server.portfolios.panels import panel_of
from tansy.server.releases import words
from tansy.server.releases.models import Release
from tansy.server.releases.services import FORECAST, named_as_now, node_rows
from tansy.server.studies.answers import bands_of, rounded_list
from tansy.server.studies.models import Node, Study, node_at, unpack
from tansy.server.studies.services import prepared_of

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_MOST_LISTED = 50
MOST_BESIDE = 6
"""Releases that are shown side by side, the newest."""


@dataclass(frozen=True, eq=False)
class Tracked:
    """A release, and what has come of it: came [nodes, H]. kinds: the series of each kind of demand, as the Backtest of
    its study has them."""

    release: Release
    released: engine.Released
    came: Floats
    kinds: dict[str, Integers]


def tracked(release: Release) -> Tracked:
    """Against the newest history of the portfolio as received, without stock-outs and closures."""
    load = release.portfolio.load
    return _tracked(release.pk, load.pk, tuple(sorted(ledger.holding_ids(load))))


@lru_cache(maxsize=4)
def _tracked(pk: int, load: int, corrections: tuple[int, ...]) -> Tracked:
    """Releases, loads and corrections are never changed, so that their numbers say all."""
    release = Release.objects.select_related("study__load", "study__portfolio").get(pk=pk)
    prepared = prepared_of(release.study)
    rows = named_as_now(pl.scan_parquet(io.BytesIO(release.content()))).collect()
    n, horizon = release.n_nodes, len(release.total)

    def column(name: str) -> Floats:
        return rows[name].to_numpy().reshape(n, horizon)

    names = [name for name in rows.columns if name.startswith("q0.")]
    graph, timeline = prepared.graph, release.study.load.timeline
    then = prepared.planned.panel
    released = engine.Released(
        graph, timeline.last + 1, column(FORECAST), column("statistical"),
        engine.naive(graph, then.values, timeline.season_length, horizon),
        np.stack([column(name) for name in names], axis=1),
    )  # fmt: skip
    newest = Load.objects.get(pk=load)
    judged = ledger.standing(newest).judged(panel_of(newest)) if corrections else panel_of(newest)
    now = _with_its_plans(judged, prepared)
    came = engine.actuals(graph, then, now, released.first, horizon)
    kind_names, of_kind = kinds_of(prepared.known().kinds, graph)
    kinds = {name: np.nonzero(which)[0] for name, which in zip(kind_names, of_kind, strict=True)}
    return Tracked(release, released, came, kinds)


def _with_its_plans(panel: Panel, prepared: Prepared) -> Panel:
    """The newest history under the codes that the release knew; as it is where its plans fit it no more."""
    try:
        return with_plans(panel, prepared.recipe.plans).panel
    except PlanError:
        return panel


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _tracked.cache_clear()


def report(found: Tracked) -> dict[str, Any]:
    """What the Track page shows of a release."""
    release, released, graph = found.release, found.released, found.released.graph
    sums = engine.sums(released, found.came)
    of_kinds = engine.sums(released, found.came, list(found.kinds.values()))
    periods = release.study.load.timeline.after(len(release.total)).labels
    came = np.nonzero(sums.count.sum(axis=0) > 0.0)[0]
    bands = _bands(_lower(release))
    helps = [_help(one, graph.position, found.came) for one in release.adjustments]
    page: dict[str, Any] = {
        "release": release.number,
        "id": release.pk,
        "origin": release.origin,
        "periods": periods,
        "n_came": len(came),
        "levels": [
            {"name": level.name, "n_nodes": level.n_nodes, **_measures(sums, k, slice(None), bands)}
            for k, level in enumerate(graph.levels)
        ],
        "kinds": [
            {"name": kind, "n_nodes": len(nodes), **_measures(of_kinds, k, slice(None), bands)}
            for k, (kind, nodes) in enumerate(found.kinds.items())
        ],
        "leads": [
            {"period": periods[h], **_measures(sums, -1, slice(h, h + 1), bands), **_total(found, h)}
            for h in came.tolist()
        ],
        "adjustments": [
            {**{name: one[name] for name in ("name", "words", "reason", "made_by")}, **_helped(help)}
            for one, help in _most_telling(release.adjustments, helps)
        ],
        "n_adjustments": len(release.adjustments),
        "by_reason": _grouped(release.adjustments, helps, "reason"),
        "by_planner": _grouped(release.adjustments, helps, "made_by"),
        "left": [
            {
                "node": graph.refs[one.node], "name": graph.name(one.node), "actual": one.actual,
                "forecast": one.forecast, "error": one.error, "outside": one.outside, "of": one.of,
                "tracking": round(one.tracking, 2),
            }
            for one in engine.left_their_bands(released, found.came)
        ],
        "n_series": graph.n_series,
    }  # fmt: skip
    return {**page, "sentence": words.sentence(page)}


def _lower(release: Release) -> list[float]:
    columns = pl.scan_parquet(io.BytesIO(release.content())).collect_schema().names()
    p = sorted(float(name[1:]) for name in columns if name.startswith("q0."))
    return p[: len(p) // 2]


def _bands(lower: list[float]) -> list[float]:
    return [round(100.0 * (1.0 - 2.0 * p), 6) for p in lower]


def _measures(sums: engine.Sums, level: int, leads: slice, bands: list[float]) -> dict[str, Any]:
    found = asdict(engine.measures(sums, level, leads))
    held = [{"level": band, "share": share} for band, share in zip(bands, found.pop("held"), strict=True)]
    return {**found, "held": held}


def _total(found: Tracked, h: int) -> dict[str, float | None]:
    actual = float(found.came[0, h])
    return {
        "actual": None if np.isnan(actual) else actual,
        "forecast": float(found.released.forecast[0, h]),
        "naive": None if np.isnan(found.released.naive[0, h]) else float(found.released.naive[0, h]),
    }


def _help(laid: dict[str, Any], position: dict[str, int], came: Floats) -> engine.Help:
    node = position.get(laid["node"])
    if node is None or "leads" not in laid:
        return engine.Help(0, 0.0, 0.0)
    return engine.helped(laid["before_by_lead"], laid["after_by_lead"], laid["leads"], came[node])


def _most_telling(laid: list[dict[str, Any]], helps: list[engine.Help]) -> list[tuple[dict[str, Any], engine.Help]]:
    """Adjustments with what they brought, in their order; of very many those that brought or cost most."""
    pairs = list(zip(laid, helps, strict=True))
    most = sorted(range(len(pairs)), key=lambda i: -abs(helps[i].gained))[:_MOST_LISTED]
    return [pairs[i] for i in sorted(most)]


def _helped(one: engine.Help) -> dict[str, Any]:
    return {
        "periods": one.periods, "gained": one.gained, "percent": one.percent, "tracking": one.tracking,
        "brought": words.brought(one),
    }  # fmt: skip


def _grouped(laid: list[dict[str, Any]], helps: list[engine.Help], by: str) -> list[dict[str, Any]]:
    parts: dict[str, list[engine.Help]] = {}
    for one, help in zip(laid, helps, strict=True):
        parts.setdefault(one[by], []).append(help)
    return [{"name": name, **_helped(one)} for name, one in engine.together(parts).items()]


def _last(portfolio: Portfolio) -> QuerySet[Release]:
    """The newest releases that are not withdrawn, the newest first."""
    standing = Release.objects.filter(portfolio=portfolio, withdrawal=None).defer("forecasts")
    return standing.select_related("study__load").order_by("-number")[:MOST_BESIDE]


def beside(portfolio: Portfolio, ref: str) -> list[dict[str, Any]]:
    """What the last releases say of a node, by period, the oldest first."""
    found = []
    for release in _last(portfolio):
        try:
            node = node_at(release.study_id, ref, Node.objects.only("position"))
        except Http404:
            continue
        rows = node_rows(release, node.position)
        found.append(
            {
                "release": release.number,
                "origin": release.origin,
                "periods": rows["period"].to_list(),
                "forecast": rows[FORECAST].to_list(),
            }
        )
    return found[::-1]


def beside_node(release: Release, key: str) -> Floats | None:
    """What a release says of the node with this id, [H]; None where it has none."""
    node = Node.objects.filter(study=release.study, key=key).only("position").first()
    return None if node is None else node_rows(release, node.position)[FORECAST].to_numpy()


def of_node(study: Study, ref: str) -> list[dict[str, Any]]:
    """What releases said of a node of a study, of which something has come in its history, the oldest first; in the
    shape of the study's own origins."""
    node = node_at(study.pk, ref)
    timeline = study.load.timeline
    actual = unpack(node.received or node.history)
    found = []
    for release in _last(study.portfolio):
        at = release.study.load.timeline.last - timeline.first
        then = Node.objects.filter(study=release.study, ref=node.ref).only("position").first()
        if then is None or not 0 <= at < timeline.n_periods - 1:
            continue
        rows = node_rows(release, then.position)
        forecast, lower = rows[FORECAST].to_numpy(), _lower(release)
        quantiles = np.stack([rows[name].to_numpy() for name in rows.columns if name.startswith("q0.")])
        came = np.full(len(forecast), np.nan)
        some = actual[at + 1 : at + 1 + len(forecast)]
        came[: len(some)] = some
        seen = engine.seen(forecast, quantiles, came)
        found.append(
            {
                "release": release.number,
                "period": release.origin,
                "at": at,
                "forecast": rounded_list(forecast),
                "missed": rounded_list(seen.missed),
                "held": rounded_list(seen.held),
                "bands": bands_of(quantiles, _bands(lower)),
                "wape": seen.wape,
            }
        )
    return found[::-1]
