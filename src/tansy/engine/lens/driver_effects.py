"""What drivers do to one series: effects with their bands, what each explains, and the points behind them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.special import fdtrc

from tansy.engine.methods import registry
from tansy.engine.methods.fits import Batch, Fits, Floats
from tansy.engine.methods.form import Form
from tansy.engine.methods.holders import pooled_of
from tansy.engine.methods.inference import Coefficient, coefficients, errors_on_scale
from tansy.engine.methods.method_text import driver_of
from tansy.engine.methods.regressors import columns_of, regressors_of, regressors_of_drivers
from tansy.engine.methods.transforms import brought_back, transformed
from tansy.engine.panel import is_switch
from tansy.engine.profile.correlation import NOISE_95

_STEP = 0.1  # a share, as that of the volume on promotion, is moved by a tenth; a size, as a price, by one of itself


@dataclass(frozen=True)
class Effect:
    """One column of x(...). driver: its name. move: what is done to the driver, in words; change, low, high: what that
    does to the mean demand, in units, with its 95 % band. explained: percent by which the squared one-step errors are
    smaller for this driver, None where the form without it cannot be fitted. x, y: [n], the driver against demand with
    everything else at its usual value; line: the effect at each of these."""

    driver: str
    coefficient: Coefficient
    move: str
    change: float
    low: float
    high: float
    explained: float | None
    x: Floats
    y: Floats
    line: Floats


def effects(form: Form, fits: Fits, batch: Batch) -> list[Effect]:
    """Effects of the drivers in `form`, which has its choices resolved, as fitted to one series."""
    timeline, length = batch.timeline, batch.timeline.n_periods
    power = 0.0 if form.log else form.power
    y = batch.values[0]
    columns = regressors_of(form, batch.drivers, 1, timeline, fits.forecast.shape[1])
    usual = float(np.nanmean(y))
    powers = np.array(1.0 if power is None else power)

    def units(shift: float) -> float:
        if power is None:
            return shift
        at = transformed(np.array(usual), powers) if usual > 0.0 or power > 0.0 else np.array(0.0)
        return float(brought_back(at + shift, powers)) - usual

    fitted = y - fits.residuals[0]
    errors = errors_on_scale(y, fits)
    ratios = np.log(np.maximum(y, 0.5) / np.maximum(fitted, 0.5))
    by_name = {one.name: one for one in coefficients(fits, 0)}
    found = []
    for entry in form.drivers:
        explained = _explained(form, entry, batch, fits)
        for column in columns_of(entry):
            if column in by_name:
                x = columns.x[0, :length, columns.names.index(column)]
                found.append(_effect(entry, column, by_name[column], x, batch, errors, units, explained))
    if form.pooled:
        own = regressors_of_drivers(form.pooled, batch.drivers, 1, timeline, fits.forecast.shape[1])
        for entry in form.pooled:
            explained = _explained_pooled(form, entry, batch, fits)
            for column in columns_of(entry):
                x = own.x[0, :length, own.names.index(column)]
                one = by_name[f"pooled {column}"]
                found.append(
                    _effect(entry, column, one, x, batch, ratios, lambda shift: usual * math.expm1(shift), explained)
                )
    return found


def _effect(
    entry: str, column: str, one: Coefficient, x: Floats, batch: Batch, errors: Floats, units: Callable[[float], float],
    explained: float | None,
) -> Effect:  # fmt: skip
    """units: what a shift on the scale of the coefficient is in units, at the mean demand. x, errors: [T], the column
    and the one-step errors on that scale."""
    y, length = batch.values[0], batch.timeline.n_periods
    driver, log, around = driver_of(entry)
    raw = batch.drivers[driver][0, :length]
    seen = ~np.isnan(errors) & ~np.isnan(raw)
    within = raw[seen]
    switch = is_switch(within)
    part = bool(len(within)) and within.min() >= 0.0 and within.max() <= 1.0
    size = 1.0 if switch else _STEP if part else np.log1p(_STEP) if log else _STEP * float(np.abs(within).mean())
    spread = NOISE_95 * (one.error or 0.0)
    usual_x = float(x[seen].mean())
    usual = float(np.nanmean(y))
    shifts = one.value * (x[seen] - usual_x)
    line = np.array([units(float(shift)) for shift in shifts]) + usual
    points = np.array([units(float(shift)) for shift in shifts + errors[seen]]) + usual
    offset = around[columns_of(entry).index(column)]
    return Effect(
        driver, one, _move(driver, offset, switch, part), units(size * one.value), units(size * (one.value - spread)),
        units(size * (one.value + spread)), explained, np.exp(x[seen]) if log else x[seen],
        points, line,
    )  # fmt: skip


def _move(driver: str, offset: int, switch: bool, part: bool) -> str:
    when = f", {abs(offset)} {'before' if offset < 0 else 'after'}" if offset else ""
    if switch:
        return f"{driver} on{when}"
    return f"{driver} for a tenth more of the volume{when}" if part else f"{driver} 10 % higher{when}"


def _explained(form: Form, entry: str, batch: Batch, fits: Fits) -> float | None:
    """The same form without one entry, fitted anew and judged in the same periods."""
    rest = tuple(one for one in form.drivers if one != entry)
    horizon = fits.forecast.shape[1]
    columns = regressors_of(form, batch.drivers, 1, batch.timeline, horizon)
    same = batch if columns.unknown is None else replace(batch, values=np.where(columns.unknown, np.nan, batch.values))
    return _smaller_errors(fits, registry.fit(replace(form, drivers=rest), same, horizon))


def _explained_pooled(form: Form, entry: str, batch: Batch, fits: Fits) -> float | None:
    """The same with the effects of the other entries as they were found beside this one."""
    horizon = fits.forecast.shape[1]
    effects, columns = pooled_of(form, batch, horizon)
    rest = tuple(one for one in form.pooled if one != entry)
    if columns.unknown is not None:
        batch = replace(batch, values=np.where(columns.unknown, np.nan, batch.values))
    names = tuple(column for one in rest for column in columns_of(one))
    batch = replace(batch, pooled={**batch.pooled, rest: effects.only(names)})
    return _smaller_errors(fits, registry.fit(replace(form, pooled=rest), batch, horizon))


def _smaller_errors(fits: Fits, found: Fits) -> float | None:
    """By how many percent the squared errors of `fits` are below those of `found`, in the periods of `fits`."""
    if not found.defined[0]:
        return None
    kept = ~np.isnan(fits.residuals[0])
    without = float(np.nansum(found.residuals[0][kept] ** 2))
    squares = float(np.nansum(fits.residuals[0] ** 2))
    return max(0.0, 100.0 * (1.0 - squares / without)) if without > 0.0 else None


@dataclass(frozen=True)
class Variance:
    """Analysis of variance of a regression: sums of squares and degrees of freedom of what it explains and of the rest,
    F with its p-value, R squared and that corrected for degrees of freedom."""

    explained: float
    rest: float
    explained_freedom: int
    rest_freedom: int
    f: float
    p: float
    r_squared: float
    adjusted: float


def analysis_of_variance(y: Floats, fits: Fits) -> Variance | None:
    """Of a regression fitted to one series [T]; None for other methods and where nothing is left to judge by."""
    if fits.form(0).family != "regression" or fits.form(0).transformed or fits.freedom is None or not fits.defined[0]:
        return None
    residuals = fits.residuals[0]
    known = y[~np.isnan(residuals)]
    rest = float(np.nansum(residuals**2))
    total = float(((known - known.mean()) ** 2).sum())
    k, freedom = round(float(fits.n_parameters[0])) - 2, round(float(fits.freedom[0]))
    if k < 1 or not rest > 0.0 or not total > 0.0:
        return None
    f = (total - rest) / k / (rest / freedom)
    return Variance(
        total - rest, rest, k, freedom, f, float(fdtrc(k, freedom, f)), 1.0 - rest / total,
        1.0 - (rest / freedom) / (total / (len(known) - 1)),
    )  # fmt: skip
