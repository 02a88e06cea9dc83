"""What enters a method linearly: harmonics, drivers, level shifts."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import DriverError, NotationError
from tansy.engine.methods.form import BEST, Form
from tansy.engine.methods.method_text import driver_of
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline, form_of, label, ordinal, read_date

Floats = NDArray[np.float64]

HARMONIC = ("sin", "cos")
SLOPE = "slope"
MOST_PAIRS_TRIED = 6


@dataclass(frozen=True)
class Regressors:
    """x: [groups, T + H, k], finite. which: [series], the group of each. names: [k].

    unknown: [series, T], periods in which a driver is not known, which are left out. missing: series -> what is not
    known ahead, so that it cannot be forecast.
    """

    x: Floats
    which: NDArray[np.int64]
    names: tuple[str, ...]
    unknown: NDArray[np.bool_] | None
    missing: dict[int, str]


def pairs_of(form: Form, timeline: Timeline) -> range:
    """Numbers of pairs of harmonics that a form stands for: its own, or those that `best` chooses from. Raises
    NotationError where a year has fewer."""
    most = int(PERIODS_PER_YEAR[timeline.frequency]) // 2
    if form.harmonics > most:
        raise NotationError(f"{form}: a year of these periods has at most {most} pairs of harmonics.")
    if form.harmonics == BEST:
        return range(min(MOST_PAIRS_TRIED, most) + 1)
    return range(form.harmonics, form.harmonics + 1)


def names_of(form: Form, timeline: Timeline) -> tuple[str, ...]:
    """Names of the columns, harmonics first."""
    found = timeline.harmonic_names(form.harmonics)
    for entry in form.drivers:
        found += columns_of(entry)
    return (*found, *(f"shift {period}" for period in form.level_shifts), *([SLOPE] if form.slope_changes else []))


def columns_of(entry: str) -> list[str]:
    """Names of the columns of one entry of x(...): "holiday -1" for the period before, and so on."""
    name, log, around = driver_of(entry)
    return [f"{'log ' if log else ''}{name}" + (f" {offset:+d}" if offset else "") for offset in around]


def regressors_of(form: Form, drivers: Mapping[str, Floats], n: int, timeline: Timeline, horizon: int) -> Regressors:
    """Regressors of `n` series over their T periods and `horizon` leads.

    drivers: per name [n, T + H or more], NaN unknown. Raises NotationError where the form names a driver that is not
    there, a period that is none of this timeline, or more harmonics than it has.
    """
    length = timeline.n_periods
    (pairs,) = pairs_of(form, timeline)
    common = [timeline.harmonics(pairs, horizon)]
    shifts = [_shift(form, text, timeline, horizon) for text in form.level_shifts]
    if form.slope_changes:  # counted from the end, so that the constant is the level there
        shifts.append(np.arange(1.0 - length, horizon + 1.0)[:, None])
    if not form.drivers:
        x = np.concatenate([*common, *shifts], axis=1)[None]
        return Regressors(np.ascontiguousarray(x), np.zeros(n, np.int64), names_of(form, timeline), None, {})
    columns: list[Floats] = []
    own: list[tuple[str, int]] = []
    for entry in form.drivers:
        name, log, around = driver_of(entry)
        if name not in drivers:
            known = ", ".join(sorted(set(drivers) - {"stock"})) or "none in this history"
            raise NotationError(f"There is no driver {name!r}; drivers are {known}.")
        values = np.full((n, length + horizon), np.nan)
        given = drivers[name][:, : length + horizon]
        values[:, : given.shape[1]] = given
        if log:
            values = np.log(np.where(values > 0.0, values, np.nan))
        for j in around:
            columns.append(_moved(values, j))
            own.append((name, j))
    x = np.stack(columns, axis=2)
    gone = np.isnan(x)
    x[gone] = 0.0
    missing: dict[int, str] = {}
    for i in np.nonzero(gone[:, length:].any(axis=(1, 2)))[0].tolist():
        lead, column = (int(k[0]) for k in np.nonzero(gone[i, length:]))
        period = label(timeline.last + 1 + lead - own[column][1], timeline.frequency)
        missing[i] = f"{own[column][0]} is not known for {period}"
    shared = np.concatenate([*common, *shifts], axis=1)
    first = common[0].shape[1]
    everything = np.empty((n, length + horizon, first + len(columns) + len(shifts)))
    everything[:, :, :first] = shared[:, :first]
    everything[:, :, first : first + len(columns)] = x
    everything[:, :, first + len(columns) :] = shared[:, first:]
    return Regressors(everything, np.arange(n), names_of(form, timeline), gone[:, :length].any(axis=2), missing)


def regressors_of_drivers(
    entries: tuple[str, ...], drivers: Mapping[str, Floats], n: int, timeline: Timeline, horizon: int
) -> Regressors:
    """Those of the drivers in `entries` alone, as pooled(...) has them."""
    return regressors_of(Form("regression", drivers=entries), drivers, n, timeline, horizon)


def no_effect(names: list[str]) -> str:
    """Note for regressors without a coefficient."""
    return f"{', '.join(names)} did not vary apart from the rest: no effect estimated"


def check_known_ahead(form: Form, drivers: Mapping[str, Floats], n: int, timeline: Timeline, horizon: int) -> None:
    """Raise DriverError where no series at all can be forecast, because a driver is not known for its leads."""
    entries = tuple(dict.fromkeys(entry for leaf in form.leaves for entry in leaf.drivers + leaf.pooled))
    if not entries:
        return
    found = regressors_of_drivers(entries, drivers, n, timeline, horizon)
    if len(found.missing) == n:
        raise DriverError(
            f"{form}: {found.missing[0]}, which the forecast of {horizon} leads needs. Add it to the file of drivers, "
            "forecast fewer leads, or leave the driver out."
        )


def _moved(values: Floats, offset: int) -> Floats:
    """values [n, T] at the period `offset` before; at the ends, where there is none, the nearest."""
    at = np.clip(np.arange(values.shape[1]) - offset, 0, values.shape[1] - 1)
    return values[:, at]


def _shift(form: Form, text: str, timeline: Timeline, horizon: int) -> Floats:
    """[T + H, 1]: 0 before the period, 1 from it on."""
    written = form_of(text)
    day = read_date(text, written) if written else None
    if day is None:
        raise NotationError(f"{form}: {text!r} is no period such as {timeline.labels[-1]}.")
    first = ordinal(day, timeline.frequency) - timeline.first
    if first <= 0:
        raise NotationError(f"{form}: {text} does not lie after the first period, {timeline.labels[0]}.")
    return (np.arange(timeline.n_periods + horizon) >= first).astype(np.float64)[:, None]
