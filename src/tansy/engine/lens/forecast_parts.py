"""A forecast taken apart: level and trend, season, each driver and the rest, adding up to the forecast."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from tansy.engine.methods import registry
from tansy.engine.methods.fits import Batch, Fits, Floats
from tansy.engine.methods.form import Form
from tansy.engine.methods.holders import pooled_of, unlifted
from tansy.engine.methods.regressors import HARMONIC, SLOPE, Regressors, regressors_of
from tansy.engine.methods.transforms import brought_back, transformed
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

LEVEL, SEASON, YEAR, REST = "level and trend", "season", "season of the year", "rest"


@dataclass(frozen=True)
class Part:
    """values: [H], in units; all parts of a forecast add up to it."""

    name: str
    values: Floats


def forecast_parts(form: Form, fits: Fits, batch: Batch) -> list[Part]:
    """Parts of the forecast of one series.

    form: the method with its choices resolved. A driver's part is its coefficient times the driver, less the same at
    the driver's usual value, its mean over the history, which belongs to the level; harmonics are the season, and a
    part of their own where the season of the data is shorter than their year. Where the method has a season of its own,
    the level is the mean forecast over the season that follows, less half a season of its slope, and the season is what
    is left. On a transformed scale the parts are found there, and what lies between the level and the forecast is
    shared out in proportion to them; for logarithms this is the logarithmic mean weight (Ang 2005). The rest is what
    the mean of the transformed differs by. Pooled effects are factors: what they add to the forecast without them is
    shared out to the drivers in proportion to the logarithms of their factors, by the same weight.
    """
    if form.pooled:
        plain, without = unlifted(form, batch, fits.forecast.shape[1])
        inner = registry.fit(plain, without, fits.forecast.shape[1])
        parts = forecast_parts(plain, inner, without)
        return [*parts, *_pooled_parts(form, batch, inner.forecast[0], fits.forecast[0])]
    horizon = fits.forecast.shape[1]
    m = batch.timeline.season_length
    plain = replace(form, log=False, power=None)
    power = 0.0 if form.log else form.power
    longer = horizon + seasons_beyond(m)
    drivers = {name: _longer(one, batch.timeline.n_periods + longer) for name, one in batch.drivers.items()}
    scale = batch.values if power is None else transformed(batch.values, np.array([power]))
    found = registry.fit(plain, replace(batch, values=scale, drivers=drivers), longer)
    ahead = found.forecast[0]
    columns = regressors_of(form, drivers, 1, batch.timeline, longer)
    by_name = _linear(found, columns, batch.timeline)
    season = by_name.pop(SEASON, np.zeros(longer))
    own = ahead - season - sum(by_name.values(), np.zeros(longer))
    level = _level(own, m, horizon) if plain.has_season and m > 1 else own[:horizon]
    season = season[:horizon] + own[:horizon] - level
    swings = {SEASON: season, **{name: part[:horizon] for name, part in by_name.items()}}
    forecast = fits.forecast[0]
    if power is not None:
        base = brought_back(level, np.array(power))
        total = brought_back(ahead[:horizon], np.array(power))
        summed = sum(swings.values(), np.zeros(horizon))
        share = np.divide(total - base, summed, out=np.zeros(horizon), where=np.abs(summed) > 1e-12)
        swings = {name: share * part for name, part in swings.items()}
        level = base
    parts = [Part(LEVEL, level), *(Part(name, part) for name, part in swings.items() if np.abs(part).max() > 0.0)]
    rest = forecast - sum((part.values for part in parts), np.zeros(horizon))
    if np.abs(rest).max() > 1e-9 * np.abs(forecast).max():
        parts.append(Part(REST, rest))
    return parts


def _pooled_parts(form: Form, batch: Batch, before: Floats, after: Floats) -> list[Part]:
    """What each driver with a pooled effect adds, from a forecast [H] without them to the one with them."""
    horizon, n_past = len(after), batch.timeline.n_periods
    effects, columns = pooled_of(form, batch, horizon)
    logs = effects.logs(columns, n_past)[0, n_past:]
    total = logs.sum(axis=1)
    weight = np.divide(after - before, total, out=before.copy(), where=np.abs(total) > 1e-9)
    by_driver: dict[str, Floats] = {}
    for j, name in enumerate(columns.names):
        driver = _driver_in(name)
        by_driver[driver] = by_driver.get(driver, np.zeros(horizon)) + weight * logs[:, j]
    return [Part(driver, values) for driver, values in by_driver.items()]


def _driver_in(column: str) -> str:
    """The driver that a column such as "holiday -1" or "log price" belongs to."""
    return column.removeprefix("log ").split(" +")[0].split(" -")[0]


def _longer(driver: Floats, length: int) -> Floats:
    """Up to `length` periods of one series [1, ...]; after the last value that is known that one stands in, and is
    taken out again with its part."""
    found = np.full((1, length), np.nan)
    found[:, : driver.shape[1]] = driver[:, :length]
    known = np.nonzero(~np.isnan(found[0]))[0]
    if len(known):
        found[0, known[-1] + 1 :] = found[0, known[-1]]
    return found


def _linear(found: Fits, columns: Regressors, timeline: Timeline) -> dict[str, Floats]:
    """What each driver adds in the leads, about its mean over the past; harmonics under the name of their season."""
    parameters = found.named_parameters(0)
    n_past = timeline.n_periods
    of_harmonics = YEAR if 1 < timeline.season_length < int(PERIODS_PER_YEAR[timeline.frequency]) else SEASON
    parts: dict[str, Floats] = {}
    x = columns.x[0]
    known = np.ones(n_past, dtype=bool) if columns.unknown is None else ~columns.unknown[0]
    for j, name in enumerate(columns.names):
        if name not in parameters or name == SLOPE:
            continue
        harmonic = name.rstrip("0123456789") in HARMONIC
        usual = 0.0 if harmonic else float(x[:n_past, j][known].mean())
        part = parameters[name] * (x[n_past:, j] - usual)
        key = of_harmonics if harmonic else _driver_in(name)
        parts[key] = parts.get(key, np.zeros(len(part))) + part
    return parts


def seasons_beyond(m: int) -> int:
    """Periods beyond the forecast that its parts look at, so that a group's season has to be known for them."""
    return 2 * m


def _level(path: Floats, m: int, horizon: int) -> Floats:
    """Mean over the m periods from each lead on, less half a season of the slope from season to season."""
    sums = np.concatenate([[0.0], np.cumsum(path)])
    mean = (sums[m:] - sums[:-m]) / m
    slope = (mean[m : m + horizon] - mean[:horizon]) / m
    level: Floats = mean[:horizon] - slope * (m - 1) / 2.0
    return level


def with_plan(drivers: Mapping[str, Floats], n_past: int, plan: Mapping[str, Floats]) -> dict[str, Floats]:
    """Drivers of one series [1, ...] with other values in the leads: per name [H], NaN where it stays as it was."""
    changed = dict(drivers)
    for name, wanted in plan.items():
        if name not in changed:
            continue
        end = n_past + len(wanted)
        driver = np.full((1, max(end, changed[name].shape[1])), np.nan)
        driver[:, : changed[name].shape[1]] = changed[name]
        driver[0, n_past:end] = np.where(np.isnan(wanted), driver[0, n_past:end], wanted)
        changed[name] = driver
    return changed
