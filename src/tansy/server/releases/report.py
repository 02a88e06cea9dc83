"""The monthly report: one or two pages for people who never open Tansy, as HTML that stands by itself."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import Any

import numpy as np
from django.template import Context, Engine
from numpy.typing import NDArray

from tansy.engine.study.compare import percent
from tansy.engine.timeline import NOUN
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.portfolios.models import Portfolio
from tansy.server.releases import bridge, track
from tansy.server.releases.models import Release
from tansy.server.releases.words import number, shared, signed
from tansy.server.studies import adjustments
from tansy.server.studies.models import Node, Result, Study, unpack

Floats = NDArray[np.float64]

_HERE = Path(__file__).parent
_ENGINE = Engine(
    loaders=[
        (
            "django.template.loaders.locmem.Loader",
            {name: (_HERE / f"{name}.html").read_text(encoding="utf-8") for name in ("report", "picture")},
        )
    ]
)
_MOST_GROUPS = 6
_MOST_NODES = 40  # of a level that is told group by group
_LISTED = 10
_BAND = 80.0


def as_html(portfolio: Portfolio) -> str:
    """Of the newest release, against the one before it, and of the newest release of which something has come.

    Raises Conflict where nothing has been published yet.
    """
    standing = Release.objects.filter(portfolio=portfolio, withdrawal=None).defer("forecasts")
    releases = list(standing.select_related("study__load", "study__portfolio").order_by("-number"))
    if not releases:
        raise Conflict("Nothing has been published from this portfolio yet; there is nothing to report.")
    newest = releases[0]
    last = portfolio.load.timeline.last
    judged = next((one for one in releases if one.study.load.timeline.last < last), None)
    page: dict[str, Any] = {
        "portfolio": portfolio.name,
        "date": date.today().isoformat(),
        "heading": f"R{newest.number} from {newest.origin}, {newest.first} to {newest.last}",
        "sentence": f"R{newest.number} is the newest release; nothing of an earlier one has come yet.",
    }
    if judged is not None:
        page |= _of_track(track.report(track.tracked(judged)))
    page |= _moved(newest, releases[1:])
    page |= _pictures(newest, judged)
    return _ENGINE.get_template("report").render(Context(page))


def _of_track(found: dict[str, Any]) -> dict[str, Any]:
    return {
        "release": found["release"],
        "sentence": found["sentence"],
        "bands": [f"{one['level']:g}" for one in found["levels"][0]["held"]],
        "levels": [
            {
                "name": one["name"],
                "n_nodes": f"{one['n_nodes']:,}",
                "wape": number(one["wape"], 1),
                "bias": signed(one["bias"], 1),
                "gain": signed(one["gain"], 1),
                "held": [shared(held["share"]) for held in one["held"]],
            }
            for one in found["levels"]
        ],
        "adjustments": sorted(found["adjustments"], key=lambda one: -abs(one["gained"]))[:_LISTED],
        "more_adjustments": max(found["n_adjustments"] - _LISTED, 0),
        "misses": [
            {**one, **{name: number(one[name]) for name in ("actual", "forecast", "error")}}
            for one in found["left"][:_LISTED]
        ],
    }


def _moved(newest: Release, before: list[Release]) -> dict[str, Any]:
    if not before:
        return {}
    try:
        found = bridge.report(before[0], newest.study, "top")
    except Unusable:  # no period in common
        return {}
    share = "" if found["percent"] is None else f" ({signed(found['percent'], 1)} %)"
    return {
        "moved_release": found["release"],
        "moved_first": found["first"],
        "moved_last": found["last"],
        "moved_before": number(found["before"]),
        "moved_after": number(found["after"]),
        "moved_change": f"{signed(found['change'])}{share}",
        "parts": [
            {"name": one["name"], "change": signed(one["change"]), "n_series": f"{one['n_series']:,}"}
            for one in found["parts"]
            if one["n_series"]
        ],
        "movers": [
            {"name": one["name"], "change": signed(one["change"]), "because": one["because"]}
            for one in found["movers"][:_LISTED]
        ],
    }


def _pictures(newest: Release, judged: Release | None) -> dict[str, Any]:
    """Of the total, and of the groups with most volume: of the first level with several nodes, but not many, that tells
    products apart before places."""
    study = newest.study
    found = adjustments.adjusted(study)
    graph = found.statistical.graph
    some = [k for k, one in enumerate(graph.levels) if 1 < one.n_nodes <= _MOST_NODES]
    of_first_key = [k for k in some if graph.levels[k].labels[0] != graph.levels[0].labels[0]]
    level = next(iter((*of_first_key, *some)), None)
    nodes: list[int] = []
    if level is not None:
        own = np.arange(graph.levels[level].first, graph.levels[level].first + graph.levels[level].n_nodes)
        nodes = own[np.argsort(-found.mean[own].sum(axis=1), kind="stable")][:_MOST_GROUPS].tolist()
    noun = NOUN[study.load.frequency]
    before = judged if judged is not None and judged.pk != newest.pk else None

    def one(node: int, width: int, height: int) -> dict[str, Any]:
        drawn = _drawn(study, found, node, before, width, height)
        ahead, ago = found.mean[node].sum(), _year_ago(study, node, found.mean.shape[1])
        share = percent(ago, float(ahead))
        change = "" if share is None else f", {signed(share)} % on a year ago"
        said = f"{number(float(ahead))} in {found.mean.shape[1]} {noun}s{change}"
        return {"name": graph.name(node), "said": said, **drawn}

    return {
        "total": one(0, 900, 190),
        "groups": [one(node, 300, 96) for node in nodes],
        "has_before": before is not None,
        "release": before.number if before else newest.number,
    }


def _history(study: Study, node: int) -> Floats:
    return unpack(Node.objects.only("history").get(study=study, position=node).history)


def _year_ago(study: Study, node: int, horizon: int) -> float:
    """Sum of the same periods of the season before, 0 where that is not known."""
    m = study.load.season_length
    past = _history(study, node)
    if not 1 < m <= len(past):
        return 0.0
    return float(np.nan_to_num(past[len(past) - m : len(past) - m + horizon]).sum())


def _drawn(
    study: Study, found: adjustments.Adjusted, node: int, before: Release | None, width: int, height: int
) -> dict[str, Any]:
    """Points of the lines of a picture, in a box of `width` by `height`."""
    history, ahead = _history(study, node), found.mean[node]
    levels = Result.objects.only("band_levels").get(study=study).band_levels
    b = int(np.argmin(np.abs(np.array(levels) - _BAND)))
    quantiles = found.bands(node)
    low, high = quantiles[b], quantiles[-1 - b]
    h = len(ahead)
    shown = min(len(history), max(study.load.season_length, 2 * h))
    past = history[len(history) - shown :]
    old, at = np.empty(0), 0
    if before is not None:
        rows = track.beside_node(before, found.statistical.graph.ids[node])
        start = before.study.load.timeline.last - study.load.timeline.last + shown
        if rows is not None and start >= 0:
            old, at = rows, start
    top = max(float(np.nanmax(np.concatenate([past, high, ahead, old, [1e-9]]))), 1e-9)
    font = 11 if width > 500 else 10
    floor = height - font - 6

    def points(values: Floats, start: int) -> str:
        known = [(start + i, v) for i, v in enumerate(values.tolist()) if not np.isnan(v)]
        return " ".join(f"{_x(i):.1f},{_y(v):.1f}" for i, v in known)

    def _x(i: int) -> float:
        return 4 + (width - 8) * i / max(1, shown + h - 1)

    def _y(v: float) -> float:
        return floor - (floor - font - 4) * max(v, 0.0) / top

    labels = study.load.timeline.labels[-shown:] + study.load.timeline.after(h).labels
    return {
        "width": width,
        "height": height,
        "floor": floor,
        "font": font,
        "sold": points(past, 0),
        "ahead": points(ahead, shown),
        "before": points(old, at) if len(old) else "",
        "band": f"{points(high, shown)} {' '.join(reversed(points(low, shown).split()))}",
        "labels": [
            {"x": 4, "y": height - 3, "anchor": "start", "text": labels[0]},
            {"x": round(_x(shown), 1), "y": height - 3, "anchor": "middle", "text": labels[shown]},
            {"x": 4, "y": font, "anchor": "start", "text": number(top)},
        ],
    }
