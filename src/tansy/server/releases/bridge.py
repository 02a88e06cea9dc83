"""What moved the forecast from a release to what would go out."""

from __future__ import annotations

import io
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.engine.study import bridge as engine
from tansy.engine.study.compare import percent
from tansy.engine.study.forecast import ADJUSTMENTS
from tansy.server.api.errors import Unusable
from tansy.server.releases.models import Release
from tansy.server.releases.services import FORECAST, named_as_now
from tansy.server.studies import adjustments
from tansy.server.studies.models import Node, Result, Study, node_at, unpack
from tansy.server.studies.services import prepared_of

Floats = NDArray[np.float64]

_MOST_LISTED = 20


@dataclass(frozen=True)
class _Span:
    """Periods that both sides forecast, by their numbers [first, last], and the history that both know, likewise."""

    first: int
    last: int
    past_first: int
    past_last: int


def _span(before: Study, after: Study) -> _Span:
    one, other = before.load.timeline, after.load.timeline
    if one.frequency != other.frequency:
        raise Unusable("These forecasts are of other periods: nothing can be compared.")
    ends = [study.load.timeline.last + Result.objects.only("leads").get(study=study).leads for study in (before, after)]
    found = _Span(max(one.last, other.last) + 1, min(ends), max(one.first, other.first), min(one.last, other.last))
    if found.last < found.first:
        raise Unusable("These forecasts have no period in common.")
    return found


def _side(study: Study, forecast: Floats, span: _Span) -> engine.Side:
    """forecast: [series, H], of all leads of the study."""
    result = Result.objects.only("leads", "methods", "layers").get(study=study)
    prepared, timeline, h = prepared_of(study), study.load.timeline, result.leads
    columns = ("key", "base", "layers", "chosen", "history")
    nodes = Node.objects.filter(study=study, position__gte=prepared.graph.n_aggregates).order_by("position")
    rows = list(nodes.values_list(*columns))

    def joined(column: int, *shape: int) -> Floats:
        return unpack(b"".join(bytes(row[column]) for row in rows), len(rows), *shape)

    layers = joined(2, len(result.layers), h)
    below = [k for k, name in enumerate(result.layers) if name != ADJUSTMENTS]
    base = joined(1, h)
    leads = slice(span.first - timeline.last - 1, span.last - timeline.last)
    past = slice(span.past_first - timeline.first, span.past_last - timeline.first + 1)
    at = slice(span.first - timeline.first, span.last - timeline.first + 1)
    panel = prepared.planned.panel
    drivers = {name: _padded(values, at) for name, values in panel.drivers.items() if name != "stock"}
    return engine.Side(
        [row[0] for row in rows],
        base[:, leads],
        (layers[:, below[-1]] if below else base)[:, leads],
        forecast[:, leads],
        [result.methods[row[3]] if row[3] >= 0 else "" for row in rows],
        joined(4, timeline.n_periods)[:, past],
        drivers,
    )


def _padded(values: Floats, at: slice) -> Floats:
    found = np.full((len(values), at.stop - at.start), np.nan)
    known = values[:, at]
    found[:, : known.shape[1]] = known
    return found


def _of_release(release: Release) -> Floats:
    rows = named_as_now(pl.scan_parquet(io.BytesIO(release.content()))).select(FORECAST).collect()
    first = release.n_nodes - release.n_series
    return np.asarray(rows[FORECAST].to_numpy().reshape(release.n_nodes, -1)[first:])


@lru_cache(maxsize=4)
def _bridged(release: int, study: int, standing: tuple[int, ...]) -> tuple[engine.Bridge, _Span]:
    """Results, releases and adjustments are never changed, so that their numbers say all."""
    before = Release.objects.select_related("study__load").get(pk=release)
    after = Study.objects.select_related("load", "portfolio").get(pk=study)
    span = _span(before.study, after)
    now = adjustments.adjusted(after)
    own = now.mean[now.statistical.graph.n_aggregates :]
    found = engine.bridge(_side(before.study, _of_release(before), span), _side(after, own, span))
    return found, span


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _bridged.cache_clear()


def report(release: Release, study: Study, ref: str) -> dict[str, Any]:
    """The change of a node from a release to what would go out of a study, told apart: each part with the series that
    it moves most, and the series that move most of all, with what moves them."""
    standing = tuple(adjustments.rows_of(study.portfolio).values_list("pk", flat=True))
    found, span = _bridged(release.pk, study.pk, standing)
    graph = prepared_of(study).graph
    node = node_at(study.pk, ref).position
    inside = np.zeros(len(found.ids), dtype=bool)
    inside[graph.below(np.array([node])).series] = True
    inside[graph.n_series :] = node == 0  # what is gone has no place in the graph of now but the total
    names = [graph.name(graph.n_aggregates + i) for i in range(graph.n_series)]
    gone = found.ids[graph.n_series :]
    called = dict(Node.objects.filter(study=release.study, key__in=gone).values_list("key", "name"))
    names += [called[key] for key in gone]
    refs = [*graph.refs[graph.n_aggregates :], *[None] * (len(found.ids) - graph.n_series)]

    def told(i: int, change: float) -> dict[str, Any]:
        return {
            "node": refs[i], "name": names[i], "before": float(found.before[i]), "after": float(found.after[i]),
            "change": change, "because": found.because(i),
        }  # fmt: skip

    ahead = study.load.timeline.after(span.last - study.load.timeline.last).labels
    first = span.first - study.load.timeline.last - 1
    before, after = float(found.before[inside].sum()), float(found.after[inside].sum())
    return {
        "release": release.number,
        "first": ahead[first],
        "last": ahead[-1],
        "before": before,
        "after": after,
        "change": after - before,
        "percent": percent(before, after),
        "parts": [
            {
                "name": part.name,
                "change": part.change,
                "n_series": part.n_series,
                "series": [told(i, float(found.changes[k, i])) for i in part.largest.tolist()],
            }
            for k, part in enumerate(found.parts(inside, _MOST_LISTED))
        ],
        "movers": [
            told(i, float(found.after[i] - found.before[i])) for i in found.movers(inside, _MOST_LISTED).tolist()
        ],
    }
