"""Drivers that are taken unasked, and the methods that are tried with them."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.method_text import driver_of
from tansy.engine.panel import is_switch
from tansy.engine.plans.kinds import Holidays, Plan
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

_PAIRS = {"Y": 0, "N": 0, "Q": 1}
_DAYS_OF_TWO_YEARS = 730
_MOST = 6  # drivers that are taken unasked


def default_drivers(drivers: Mapping[str, Floats], n_past: int, leads: int) -> tuple[str, ...]:
    """Entries of x(...) for the drivers that are known for all leads in most series and vary: sizes first, then
    switches, the most used ones first, at most `_MOST` in all. The logarithm where a driver is a size above zero; of a
    calendar of events only those that came twice.

    drivers: per name [series, periods and those ahead]; n_past: periods of the history.
    """
    length = n_past + leads
    found: list[tuple[bool, float, str]] = []
    for name, values in drivers.items():
        seen = values[:, :length]
        known = ~np.isnan(seen)
        if name == "stock" or values.shape[1] < length or known[:, n_past:].all(axis=1).mean() < 0.5:
            continue
        if any(c in name for c in ",;=+()") or not known.any():
            continue
        some = seen[known]
        past = np.nan_to_num(seen[:, :n_past])
        if some.min() == some.max() or (past.max(axis=0) > 0.0).sum() < 2:
            continue
        switch = is_switch(seen)
        entry = name if switch or some.min() <= 0.0 else f"log {name}"
        found.append((switch, -float(past.mean()) if switch else 0.0, entry))
    return tuple(entry for _, _, entry in sorted(found, key=lambda one: one[:2])[:_MOST])


def entries_of(
    drivers: Mapping[str, Floats], timeline: Timeline, plans: Iterable[Plan], leads: int
) -> tuple[tuple[str, ...], bool]:
    """Entries of x(...) that are taken unasked of drivers [series, periods and those ahead], plans among them, and
    whether they are public holidays alone."""
    holidays = {plan.name for plan in plans if isinstance(plan, Holidays)}
    found = default_drivers(drivers, timeline.n_periods, leads)
    entries = _with_holidays(found, holidays, timeline.frequency)
    return entries, all(driver_of(entry)[0] in holidays for entry in entries)


def _with_holidays(entries: tuple[str, ...], holidays: Collection[str], frequency: str) -> tuple[str, ...]:
    """Entries of which some count public holidays. Where periods are days, these reach the day before and the day
    after: people stock up, and shops are closed or crowded between. Quarters and years have as many every time, but for
    chance."""
    around = " -1..1" if frequency == "D" else ""
    found = []
    for entry in entries:
        name = entry.removeprefix("log ")
        if name not in holidays:
            found.append(entry)
        elif frequency not in ("Q", "Y"):
            found.append(f"{name}{around}")
    return tuple(found)


def driven_methods(entries: tuple[str, ...], timeline: Timeline, shared: bool) -> tuple[str, ...]:
    """What drivers are tried with unasked: a regression with ARIMA errors, and smoothing with pooled effects; none
    without drivers.

    The regression is on the scale of square roots, where a promotion that multiplies demand and one that adds to it are
    nearly as near, and zeros have a place. Days have a week besides, and a year where two are seen of it. shared:
    whether there are series to share a season with.
    """
    if not entries:
        return ()
    days = timeline.frequency == "D"
    pairs = 0 if days and timeline.n_periods < _DAYS_OF_TWO_YEARS else _PAIRS.get(timeline.frequency, 3)
    season = f" + harmonics({pairs})" if pairs else ""
    listed = ", ".join(entries)
    with_group = " + shared-season" if pairs and shared else ""
    arima = f"arima(1,0,1)(0,1,1){timeline.season_length}" if days else "arima(1,0,1)"
    smoothing = "ets(A,N,A)" if days else "ets(A,N,N)"
    return f"boxcox(0.5) {arima}{season} + x({listed})", f"{smoothing}{with_group} + pooled({listed})"
