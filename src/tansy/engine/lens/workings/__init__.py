"""Every period's arithmetic of a fit; see `sheet` for the notation."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.lens.workings.arima import beside_of, of_arima
from tansy.engine.lens.workings.blend import of_blend
from tansy.engine.lens.workings.lags import of_demands, of_lags
from tansy.engine.lens.workings.lines import of_regression, of_theta, of_trend
from tansy.engine.lens.workings.sheet import Workings, has_gaps
from tansy.engine.lens.workings.smoothing import lift_of, of_smoothing, outside_states
from tansy.engine.methods.arima import Arima
from tansy.engine.methods.blend import Blend
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.form import Form
from tansy.engine.methods.intermittent import Intermittent
from tansy.engine.methods.regression import Regression
from tansy.engine.methods.smoothing import Smoothing
from tansy.engine.methods.trends import Theta, Trend
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class _Asked:
    batch: Batch
    fits: Fits

    @property
    def values(self) -> Floats:
        return self.batch.values[0]

    @property
    def timeline(self) -> Timeline:
        return self.batch.timeline

    @property
    def profile(self) -> Floats | None:
        return None if self.batch.profiles is None else self.batch.profiles[0]

    @property
    def drivers(self) -> Mapping[str, Floats]:
        return self.batch.drivers

    @property
    def form(self) -> Form:
        return self.fits.form(0)

    @property
    def lift(self) -> Floats | None:
        return lift_of(self.timeline, self.fits, self.drivers) if self.form.pooled else None


def _regression(one: _Asked) -> Workings | None:
    return None if one.form.log else of_regression(one.values, one.timeline, one.fits, one.drivers)


def _arima(one: _Asked) -> Workings | None:
    form = one.form
    if not form.orders or has_gaps(one.values):
        return None
    outside = form.harmonics or form.drivers or form.level_shifts
    beside = beside_of(one.timeline, one.fits, one.drivers) if outside else None
    if beside is not None and np.isnan(beside).any():
        return None
    return of_arima(one.values, one.timeline, one.fits, beside, one.lift)


def _smoothing(one: _Asked) -> Workings | None:
    outside = outside_states(one.timeline, one.fits, one.profile)
    return of_smoothing(one.values, one.timeline, one.fits, outside, one.lift)


def _trend(one: _Asked) -> Workings | None:
    return None if one.form.words else of_trend(one.values, one.timeline, one.fits)


def _theta(one: _Asked) -> Workings | None:
    return None if one.form.log else of_theta(one.values, one.timeline, one.fits)


def _demands(one: _Asked) -> Workings | None:
    return of_demands(one.values, one.timeline, one.fits) if (one.values > 0.0).any() else None


_OF_FAMILY: dict[type[Form], Callable[[_Asked], Workings | None]] = {
    Regression: _regression, Arima: _arima, Smoothing: _smoothing, Trend: _trend, Theta: _theta, Intermittent: _demands,
}  # fmt: skip
"""The arithmetic of a family, None where it cannot be shown; then, and of families not here, what looks back."""


def workings(batch: Batch, fits: Fits) -> Workings:
    """Workings of the fit of a batch of one series, with all that the method was given there."""
    asked = _Asked(batch, fits)
    form = asked.form
    if isinstance(form, Blend):
        return of_blend(batch, form, fits)
    of_family = _OF_FAMILY.get(type(form))
    plain = fits.defined[0] and not form.slope_changes and form.power is None
    found = of_family(asked) if of_family and plain else None
    return found or of_lags(asked.values, asked.timeline, fits)
