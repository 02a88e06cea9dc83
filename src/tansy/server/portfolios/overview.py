"""The series of a load as the screens of Intake show them. All figures come from the engine."""

from __future__ import annotations

import base64
from dataclasses import asdict, dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np
from django.db import transaction
from numpy.typing import NDArray

from tansy.engine.cleaning.corrections import Corrections
from tansy.engine.profile.kinds import MOVABLE, Kinds, find_kinds
from tansy.engine.profile.overview import SHARES, coverage, group_moves, spread
from tansy.engine.profile.strengths import Strengths, strengths
from tansy.engine.study.defaults import season_and_a_bit
from tansy.server.api.errors import Unusable
from tansy.server.portfolios.corrections import standing
from tansy.server.portfolios.models import Load, MovedSeries
from tansy.server.portfolios.panels import keys_of, labels_of, names_of, panel_of, refs_of, series_at, shown

Floats = NDArray[np.float64]

_MOST_GROUPS = 300
_N_LAST = 4
_EXAMPLES = 3
_MOST_LISTED = 500


def numbers(values: Floats, digits: int = 4) -> list[Any]:
    """For JSON: rounded, None where not a number."""
    rounded = (np.round(np.asarray(values, dtype=np.float64), digits) + 0.0).astype(object)
    rounded[~np.isfinite(np.asarray(values, dtype=np.float64))] = None
    return rounded.tolist()


def coverage_of(load: Load) -> dict[str, Any]:
    panel = panel_of(load)
    found = coverage(panel.values)
    return {
        "periods": panel.timeline.labels,
        "series": names_of(load),
        "refs": refs_of(load),
        "orders": {name: order.tolist() for name, order in found.orders.items()},
        "volume": numbers(found.volume, 2),
        "empty": numbers(found.empty),
        "cells": base64.b64encode(found.cells.tobytes()).decode(),
    }


def dimensions(load: Load) -> list[str]:
    """Names by which series can be grouped, from coarse to fine per key."""
    return [name for key in load.key_names for name in (*load.levels.get(key, []), key)]


def overview_of(load: Load, by: str, within: dict[str, str], n_last: int | None) -> dict[str, Any]:
    """Spread over time of the series within a choice, and its groups with what has moved. n_last: the last four, or
    all that there are, where it is None."""
    panel = panel_of(load)
    n_last = min(_N_LAST, panel.timeline.n_periods) if n_last is None else n_last
    chosen = panel.where(within)
    if not chosen.any():
        raise Unusable("No series is left with this choice.")
    values = panel.values[chosen]
    column = panel.column(by)
    if column is None:
        raise Unusable(f"There is no key or attribute {by!r}.")
    if not 1 <= n_last <= panel.timeline.n_periods:
        raise Unusable(f"Choose from 1 to {panel.timeline.n_periods} periods.")
    at = np.nonzero(chosen)[0]
    groups = group_moves(values, [column[i] for i in at.tolist()], n_last, panel.timeline.season_length)
    found = spread(values)
    labels = labels_of(load, by)
    return {
        "periods": panel.timeline.labels,
        "last": n_last,
        "n_series": int(chosen.sum()),
        "shares": list(SHARES),
        "units": [numbers(row) for row in found.units],
        "scaled": [numbers(row) for row in found.scaled],
        "total": numbers(found.total, 2),
        "count": found.count.tolist(),
        "n_groups": len(groups),
        "groups": [
            {
                "name": group.name,
                "label": labels.get(group.name) or group.name,
                "n_series": group.n_series,
                "now": group.now,
                "before": group.before,
                "year_before": group.year_before,
                "series": refs_of(load)[int(at[group.first])] if group.n_series == 1 else None,
            }
            for group in groups[:_MOST_GROUPS]
        ],
        "dimensions": dimensions(load),
    }


def series_view(load: Load, ref: str) -> dict[str, Any]:
    """One series: as received, as corrected, and its drivers. Raises Http404 where there is none."""
    panel, refs = panel_of(load), refs_of(load)
    position = series_at(load, ref)
    changes = standing(load)
    corrected = panel.values[position].copy()
    mine = changes.series == position
    corrected[changes.period[mine]] = changes.value[mine]
    return {
        "series": refs[position],
        "previous": refs[position - 1] if position else None,
        "next": refs[position + 1] if position + 1 < panel.n_series else None,
        "place": position + 1,
        "n_series": panel.n_series,
        "name": shown([panel.keys[key][position] for key in panel.key_names]),
        "labels": [
            labels_of(load, key).get(panel.keys[key][position]) or panel.keys[key][position] for key in panel.key_names
        ],
        "periods": panel.timeline.labels,
        "season_length": panel.timeline.season_length,
        "frequency": panel.timeline.frequency,
        "received": numbers(panel.values[position]),
        "corrected": numbers(corrected),
        "reasons": {
            str(int(t)): changes.reason[k] for k, t in zip(np.nonzero(mine)[0], changes.period[mine], strict=True)
        },
        "switches": {name: np.nonzero(panel.past_driver(name)[position] > 0)[0].tolist() for name in panel.switches()},
    }


def moved_by_hand(load: Load) -> dict[int, str]:
    position = {key: i for i, key in enumerate(keys_of(load))}
    rows = MovedSeries.objects.filter(portfolio=load.portfolio).values_list("key", "kind")
    return {position[key]: kind for key, kind in rows if key in position}


@dataclass(frozen=True)
class _Seen:
    """A history as it is corrected now: a load is frozen, and corrections are told apart by their content."""

    load: Load
    content: bytes
    changes: Corrections = field(compare=False)


@dataclass(frozen=True, eq=False)
class _Profile:
    kinds: Kinds
    strengths: Strengths
    volume: Floats


@lru_cache(maxsize=2)
def _profile(seen: _Seen) -> _Profile:
    values, timeline = seen.changes.corrected(panel_of(seen.load)).values, seen.load.timeline
    return _Profile(
        find_kinds(values, timeline, season_and_a_bit(timeline)),
        strengths(values, timeline),
        np.nansum(values[:, -timeline.season_length :], axis=1),
    )


def forget() -> None:
    """For tests, which roll back and use the same ids again."""
    _profile.cache_clear()


def kinds_of(load: Load, only: str | None) -> dict[str, Any]:
    """How many series are of each kind and what they sell, and the series of one of them with their figures."""
    changes, timeline = standing(load), load.timeline
    by_hand = moved_by_hand(load)
    content = b"".join(part.tobytes() for part in (changes.series, changes.period, changes.value))
    found = _profile(_Seen(load, content, changes))
    kinds, strong, volume = found.kinds.moved(by_hand), found.strengths, found.volume
    members = kinds.groups()
    names, refs = names_of(load), refs_of(load)

    def entry(i: int) -> dict[str, Any]:
        figures = {
            "interval": kinds.interval[i],
            "variation": kinds.variation[i],
            "empty": kinds.empty[i],
            "trend": strong.trend[i],
            "season": strong.season[i],
            "entropy": strong.entropy[i],
            "volume": volume[i],
        }
        sold = not np.isnan(kinds.first_sale[i])
        return {
            "series": refs[i],
            "name": names[i],
            "kind": kinds.words(i),
            "by_hand": i in by_hand,
            "first_sale": timeline.labels[int(kinds.first_sale[i])] if sold else None,
            "last_sale": timeline.labels[int(kinds.last_sale[i])] if sold else None,
            **{name: None if np.isnan(value) else round(float(value), 4) + 0.0 for name, value in figures.items()},
        }

    summary = []
    for name, flags in members.items():
        at = np.nonzero(flags)[0]
        largest = at[np.argsort(-volume[at], kind="stable")]
        summary.append(
            {
                "kind": name,
                "count": len(at),
                "volume": float(volume[at].sum()),
                "examples": [entry(int(i)) for i in largest[:_EXAMPLES]],
            }
        )
    listed: list[dict[str, Any]] = []
    if only is not None:
        if only not in members:
            raise Unusable(f"There is no kind {only!r}.")
        at = np.nonzero(members[only])[0]
        listed = [entry(int(i)) for i in at[np.argsort(-volume[at], kind="stable")][:_MOST_LISTED]]
    # where each series lies in the picture of the four kinds
    cloud = np.nonzero(~np.isnan(kinds.interval))[0]
    return {
        "n_series": len(volume),
        "volume": float(volume.sum()),
        "kinds": summary,
        "series": listed,
        "movable": list(MOVABLE),
        "cloud": {
            "interval": numbers(kinds.interval[cloud], 3),
            "variation": numbers(kinds.variation[cloud], 3),
        },
    }


def move(load: Load, series: list[str], kind: str | None, user: Any) -> int:
    """Give a kind to series by hand, or take it back with None."""
    if kind is not None and kind not in MOVABLE:
        raise Unusable(f"There is no kind {kind!r}; choose {', '.join(MOVABLE)}.")
    keys = dict(zip(refs_of(load), keys_of(load), strict=True))
    if not series or not all(ref in keys for ref in series):
        raise Unusable("Choose series of this portfolio.")
    chosen = [keys[ref] for ref in series]
    with transaction.atomic():
        MovedSeries.objects.filter(portfolio=load.portfolio, key__in=chosen).delete()
        if kind is not None:
            MovedSeries.objects.bulk_create(
                MovedSeries(portfolio=load.portfolio, key=key, kind=kind, made_by=user) for key in chosen
            )
    return len(chosen)


def volume_moved(load: Load, level: str) -> list[dict[str, Any]]:
    """What the standing corrections added, removed and made unknown, by group of a level."""
    panel = panel_of(load)
    column = panel.column(level)
    if column is None:
        raise Unusable(f"There is no key or attribute {level!r}.")
    labels = labels_of(load, level)
    return [{**asdict(one), "name": labels.get(one.name) or one.name} for one in standing(load).moved(panel, column)]
