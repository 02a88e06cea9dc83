"""Suspicious values, what a person decides about them, and the ledger of corrections."""

from __future__ import annotations

import io
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import polars as pl
from django.db import IntegrityError, transaction
from django.utils import timezone

from tansy.engine.cleaning.corrections import UNKNOWN_BECAUSE, Corrections
from tansy.engine.cleaning.rules import RULES, Rules
from tansy.engine.cleaning.suspicious import Suspicions, find_suspicious
from tansy.engine.plans.drivers import with_calendar
from tansy.engine.timeline import label
from tansy.server.api.errors import Conflict, Unusable
from tansy.server.portfolios.models import Correction, Dismissal, Load, Portfolio, Search
from tansy.server.portfolios.panels import keys_of, panel_of
from tansy.server.portfolios.plans import plans_of

_BATCH = 500

REPLACEMENTS = ("expected", "median", "interpolated", "unknown", "value")


def search(load: Load, rules: Rules, user: Any) -> Search:
    """Apply the rules to a load and keep what they find."""
    panel = with_calendar(panel_of(load), plans_of(load.portfolio))
    found = find_suspicious(panel, rules, load.levels)
    table = pl.DataFrame({field.name: getattr(found, field.name) for field in fields(found)})
    buffer = io.BytesIO()
    table.write_parquet(buffer)
    return Search.objects.create(
        load=load, rules=rules.to_mapping(), made_by=user, n_found=len(found), found=buffer.getvalue()
    )


def rules_in_use(portfolio: Portfolio) -> Rules | None:
    """The rules of the newest search, None where nothing was looked for yet."""
    kept = Search.objects.filter(load__portfolio=portfolio).order_by("-id").first()
    return Rules.from_mapping(kept.rules) if kept else None


def suspicions(kept: Search) -> Suspicions:
    table = pl.read_parquet(io.BytesIO(kept.found))
    return Suspicions(**{field.name: table[field.name].to_numpy() for field in fields(Suspicions)})


def states(kept: Search, found: Suspicions, keys: list[str]) -> list[str]:
    """ "open", "accepted" or "dismissed" for every suspicion."""
    portfolio, first = kept.load.portfolio, kept.load.first_period
    standing = {(row.key, row.period) for row, _, _ in _holding(kept.load)}
    dismissed = set(Dismissal.objects.filter(portfolio=portfolio).values_list("key", "period", "rule"))
    result = []
    for i, start, rule in zip(found.series.tolist(), found.start.tolist(), found.rule.tolist(), strict=True):
        at = (keys[i], first + start)
        result.append("accepted" if at in standing else "dismissed" if (*at, RULES[rule]) in dismissed else "open")
    return result


@dataclass(frozen=True)
class Choice:
    """What to do with some suspicions of a search. replace: one of REPLACEMENTS; value: given by hand."""

    positions: list[int]
    replace: str
    value: float | None
    reason: str


def accept(kept: Search, choice: Choice, user: Any) -> int:
    """Correct the chosen values: all of them or none. Returns how many values were changed.

    Raises Unusable where a choice makes no sense, Conflict where a value has been corrected already.
    """
    found = suspicions(kept)
    positions = np.array(choice.positions, dtype=np.int64)
    if not len(positions) or positions.min() < 0 or positions.max() >= len(found):
        raise Unusable("Choose values from this list.")
    if choice.replace == "value" and choice.value is None:
        raise Unusable("Give the value that should stand there.")
    load = kept.load
    panel_keys = keys_of(load)
    values = panel_of(load).values
    rows: list[Correction] = []
    chosen = found.where(positions)
    if not chosen.is_change().all():
        raise Unusable("A shift of level is nothing to correct; dismiss it, or tell a method of it.")
    proposed = chosen.proposal("expected" if choice.replace == "value" else choice.replace)
    for k in range(len(chosen)):
        i, rule = int(chosen.series[k]), RULES[int(chosen.rule[k])]
        value = choice.value if choice.replace == "value" else float(proposed[k])
        first = int(chosen.start[k])
        rows += [
            Correction(
                portfolio=load.portfolio,
                key=panel_keys[i],
                period=load.first_period + t,
                received=_number(values[i, t]),
                value=_number(value),
                unjudged=rule in ("zero-run", "out-of-stock"),
                rule=rule,
                score=float(chosen.score[k]),
                reason=choice.reason or rule,
                made_by=user,
            )
            for t in range(first, first + int(chosen.length[k]))
        ]
    return _create(load, rows, user)


def _create(load: Load, rows: list[Correction], user: Any) -> int:
    """Write corrections, all or none; returns how many. Of two for the same value, as where a wild value lies in a run,
    the first stands. A correction that does not hold any more gives way."""
    new: dict[tuple[str, int], Correction] = {}
    for row in rows:
        new.setdefault((row.key, row.period), row)
    holding = holding_ids(load)
    stale = [
        row.pk
        for row in Correction.objects.filter(portfolio=load.portfolio, reverted_at=None)
        if row.pk not in holding and (row.key, row.period) in new
    ]
    try:
        with transaction.atomic():
            revert(load.portfolio, stale, user)
            Correction.objects.bulk_create(new.values(), batch_size=_BATCH)
    except IntegrityError:
        raise Conflict("One of these values is corrected already; revert that correction first.") from None
    return len(new)


def _number(value: float | None) -> float | None:
    return None if value is None or np.isnan(value) else float(value)


def dismiss(kept: Search, positions: list[int], user: Any) -> int:
    found = suspicions(kept)
    keys, first = keys_of(kept.load), kept.load.first_period
    rows = [
        Dismissal(
            portfolio=kept.load.portfolio,
            key=keys[int(found.series[k])],
            period=first + int(found.start[k]),
            rule=RULES[int(found.rule[k])],
            made_by=user,
        )
        for k in positions
        if 0 <= k < len(found)
    ]
    Dismissal.objects.bulk_create(rows, batch_size=_BATCH, ignore_conflicts=True)
    return len(rows)


def reopen(kept: Search, positions: list[int]) -> int:
    """Take dismissals back."""
    found = suspicions(kept)
    keys, first = keys_of(kept.load), kept.load.first_period
    n = 0
    with transaction.atomic():
        for k in positions:
            if 0 <= k < len(found):
                n += Dismissal.objects.filter(
                    portfolio=kept.load.portfolio,
                    key=keys[int(found.series[k])],
                    period=first + int(found.start[k]),
                    rule=RULES[int(found.rule[k])],
                ).delete()[0]
    return n


def mark(load: Load, where: dict[str, str], first: int, last: int, because: str, reason: str, user: Any) -> int:
    """Mark a stock-out or closure of all series with these key or attribute values over some periods: they become
    unknown. Values that are corrected already stay as they are. first, last: numbers of periods."""
    if because not in UNKNOWN_BECAUSE:
        raise Unusable(f"Mark a {' or a '.join(UNKNOWN_BECAUSE)}, not {because!r}.")
    panel = panel_of(load)
    timeline = panel.timeline
    if not timeline.first <= first <= last <= timeline.last:
        raise Unusable(
            f"History runs from {timeline.labels[0]} to {timeline.labels[-1]}; "
            f"{label(first, timeline.frequency)} to {label(last, timeline.frequency)} is not in it."
        )
    chosen = panel.where(where)
    if not where or not chosen.any():
        raise Unusable("No series matches; choose a store, a product, or a group of them.")
    keys = keys_of(load)
    standing = {(row.key, row.period) for row, _, _ in _holding(load)}
    rows = [
        Correction(
            portfolio=load.portfolio,
            key=keys[i],
            period=period,
            received=_number(panel.values[i, period - timeline.first]),
            value=None,
            unjudged=True,
            rule=because,
            reason=reason or because,
            made_by=user,
        )
        for i in np.nonzero(chosen)[0].tolist()
        for period in range(first, last + 1)
        if not np.isnan(panel.values[i, period - timeline.first]) and (keys[i], period) not in standing
    ]
    return _create(load, rows, user)


def revert(portfolio: Portfolio, ids: list[int], user: Any) -> int:
    """Take corrections back; they stay in the ledger as reverted."""
    standing = Correction.objects.filter(portfolio=portfolio, pk__in=ids, reverted_at=None)
    return standing.update(reverted_by=user, reverted_at=timezone.now())


def _holding(load: Load) -> list[tuple[Correction, int, int]]:
    """The corrections that hold for this load, with the positions of their series and period. One whose value was
    revised since it was made does not: it was made of another number."""
    position = {key: i for i, key in enumerate(keys_of(load))}
    values = panel_of(load).values
    found = []
    for row in Correction.objects.filter(portfolio=load.portfolio, reverted_at=None).order_by("id"):
        i, t = position.get(row.key), row.period - load.first_period
        if i is None or not 0 <= t < load.n_periods:
            continue
        if row.unjudged or _number(values[i, t]) == row.received:
            found.append((row, i, t))
    return found


def holding_ids(load: Load) -> set[int]:
    return {row.pk for row, _, _ in _holding(load)}


def standing(load: Load) -> Corrections:
    """The corrections that hold for this load, as the engine takes them."""
    held = _holding(load)
    return unpack([[i, t, row.value, row.unjudged, row.reason, row.score] for row, i, t in held])


def pack(corrections: Corrections) -> list[list[Any]]:
    """As JSON, for a study that keeps what held when it was made."""
    return [
        [int(i), int(t), _number(v), bool(u), r, _number(s)]
        for i, t, v, u, r, s in zip(
            corrections.series, corrections.period, corrections.value, corrections.unjudged, corrections.reason,
            corrections.score, strict=True,
        )
    ]  # fmt: skip


def unpack(rows: list[list[Any]]) -> Corrections:
    if not rows:
        return Corrections.none()
    series, period, value, unjudged, reason, score = zip(*rows, strict=True)
    return Corrections(
        np.array(series, dtype=np.int64),
        np.array(period, dtype=np.int64),
        np.array([np.nan if v is None else v for v in value], dtype=np.float64),
        np.array(unjudged, dtype=bool),
        tuple(reason),
        np.array([np.nan if s is None else s for s in score], dtype=np.float64),
    )
