"""Drivers that plans bring or change."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import PlanError, StructureError
from tansy.engine.panel import Panel, is_switch
from tansy.engine.plans.calendars import holidays_in
from tansy.engine.plans.kinds import DriverPlan, Event, Holidays, Plan, period_number
from tansy.engine.timeline import MOST_PERIODS, label

Floats = NDArray[np.float64]


def names_of_calendar(plans: Iterable[Plan]) -> list[str]:
    """Drivers that plans bring for all series."""
    return list(dict.fromkeys(plan.name for plan in plans if isinstance(plan, Event | Holidays)))


def with_calendar(panel: Panel, plans: tuple[Plan, ...], leads: int = 0) -> Panel:
    """The panel with each planned event as a driver that is 1 in its periods, and each calendar of public holidays as
    one of how many fall in a period; for all series, and known for `leads` periods ahead at least. Read only.

    Raises PlanError where a period is none, or there is another driver of a calendar's name.
    """
    events = {plan.name: _periods(plan, panel) for plan in plans if isinstance(plan, Event)}
    calendars = [plan for plan in plans if isinstance(plan, Holidays)]
    if not events and not calendars:
        return panel
    timeline = panel.timeline
    first, length = timeline.first, timeline.n_periods + max(panel.n_ahead, leads if calendars else 0)
    length = max(length, *(max(found) - first + 1 for found in events.values()), 0)
    drivers = _longer(panel.drivers, length)
    for name, found in events.items():
        row = np.zeros(length)
        row[[n - first for n in found if 0 <= n - first < length]] = 1.0
        drivers[name] = np.broadcast_to(row, (panel.n_series, length))
    for plan in calendars:
        if plan.name in drivers:
            said = f"There is a driver {plan.name!r} already; name the calendar of {plan.of} otherwise."
            raise PlanError("name", said)
        row = holidays_in(plan.of, timeline.frequency, first, length)
        drivers[plan.name] = np.broadcast_to(row, (panel.n_series, length))
    return replace(panel, drivers=drivers)


def _periods(event: Event, panel: Panel) -> list[int]:
    """Numbers of the periods of an event."""
    timeline = panel.timeline
    found = [period_number("periods", text, timeline.frequency) for text in event.periods]
    last, written = max(zip(found, event.periods, strict=True))
    if last - timeline.first >= MOST_PERIODS:
        raise PlanError("periods", f"{event.name} is in {written}; look for a mistyped year.")
    return found


def with_driver_plans(panel: Panel, plans: tuple[Plan, ...], leads: int = 0) -> Panel:
    """The panel with its drivers as they are planned after the end of history, one plan after the other.

    Of the series that a plan names, the driver is known for `leads` periods: where nothing else says so a switch is
    off, and a size stays as it was last. Others stay as they are. Raises PlanError where a plan names a driver or
    series that is not there, or changes a driver that is not known.
    """
    timeline = panel.timeline
    n = timeline.n_periods
    wanted = [plan for plan in plans if isinstance(plan, DriverPlan)]
    ends = {id(plan): period_number("last", plan.last, timeline.frequency) - timeline.first + 1 for plan in wanted}
    wanted = [plan for plan in wanted if ends[id(plan)] > n]  # of others, what came is in the history
    if not wanted:
        return panel
    for plan in wanted:
        if plan.name not in panel.drivers or plan.name == "stock":
            known = ", ".join(name for name in panel.drivers if name != "stock") or "none"
            raise PlanError("name", f"There is no driver {plan.name!r}; the history has {known}.")
        if ends[id(plan)] > n + MOST_PERIODS:
            raise PlanError("last", f"{plan.last} is too far ahead; look for a mistyped year.")
    length = max(n + max(panel.n_ahead, leads), *(ends[id(plan)] for plan in wanted))
    drivers = _longer(panel.drivers, length)
    drivers |= {name: drivers[name].copy() for name in {plan.name for plan in wanted}}
    for plan in wanted:
        first = period_number("first", plan.first, timeline.frequency) - timeline.first if plan.first else n
        start, end = max(n, first), ends[id(plan)]
        try:
            rows = np.nonzero(panel.where(plan.where))[0]
        except StructureError as error:
            raise PlanError("where", str(error)) from None
        if not len(rows):
            which = " and ".join(f"{name} {value}" for name, value in plan.where.items())
            raise PlanError("where", f"There is no series of {which}.")
        own = _carried_on(drivers[plan.name][rows], n, is_switch(panel.drivers[plan.name]))
        own[:, start:end] = _changed(own[:, start:end], plan, panel, start)
        drivers[plan.name][rows] = own
    return replace(panel, drivers=drivers)


def _changed(values: Floats, plan: DriverPlan, panel: Panel, start: int) -> Floats:
    if plan.change == "set":
        return np.full_like(values, plan.amount)
    unknown = np.argwhere(np.isnan(values))
    if len(unknown):
        period = label(panel.timeline.first + start + int(unknown[0, 1]), panel.timeline.frequency)
        raise PlanError("change", f"{plan.name} is not known for {period} everywhere; set it first.")
    return values + plan.amount if plan.change == "add" else values * (1.0 + plan.amount / 100.0)


def _carried_on(driver: Floats, n_past: int, switch: bool) -> Floats:
    """A copy that is known ahead wherever it was known last; of a switch everywhere."""
    driver = driver.copy()
    if switch:
        driver[:, n_past:] = np.nan_to_num(driver[:, n_past:])
        return driver
    seen = ~np.isnan(driver)
    last = np.maximum.accumulate(np.where(seen, np.arange(driver.shape[1]), -1), axis=1)
    carried = np.take_along_axis(driver, np.maximum(last, 0), axis=1)
    ahead = slice(n_past, None)
    driver[:, ahead] = np.where(seen[:, ahead] | (last[:, ahead] < 0), driver[:, ahead], carried[:, ahead])
    return driver


def _longer(drivers: dict[str, Floats], length: int) -> dict[str, Floats]:
    """With what is not known at the end."""
    return {
        name: one
        if one.shape[1] >= length
        else np.pad(one, ((0, 0), (0, length - one.shape[1])), constant_values=np.nan)
        for name, one in drivers.items()
    }
