"""Every period's arithmetic of a fit; see `sheet` for the notation."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.lens.workings.arima import beside_of, of_arima
from tansy.engine.lens.workings.lags import of_demands, of_lags
from tansy.engine.lens.workings.lines import of_regression, of_theta, of_trend
from tansy.engine.lens.workings.sheet import Workings, has_gaps
from tansy.engine.lens.workings.smoothing import lift_of, of_smoothing, outside_states
from tansy.engine.methods.arima import Arima
from tansy.engine.methods.fits import Fits
from tansy.engine.methods.form import Form
from tansy.engine.methods.intermittent import Intermittent
from tansy.engine.methods.regression import Regression
from tansy.engine.methods.smoothing import Smoothing
from tansy.engine.methods.trends import Theta, Trend
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class _Asked:
    values: Floats
    timeline: Timeline
    fits: Fits
    profile: Floats | None
    drivers: Mapping[str, Floats]

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


def workings(
    values: Floats, timeline: Timeline, fits: Fits, profile: Floats | None = None,
    drivers: Mapping[str, Floats] | None = None,
) -> Workings:  # fmt: skip
    """Workings of one series' fit (a batch of one). profile: [T or more], the season that its group shares. drivers:
    per name [1, T or more]."""
    asked = _Asked(values, timeline, fits, profile, drivers or {})
    form = asked.form
    of_family = _OF_FAMILY.get(type(form))
    plain = fits.defined[0] and not form.slope_changes and form.power is None
    found = of_family(asked) if of_family and plain else None
    return found or of_lags(values, timeline, fits)
