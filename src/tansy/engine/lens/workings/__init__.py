"""Every period's arithmetic of a fit; see `sheet` for the notation."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from tansy.engine.lens.workings.arima import beside_of, of_arima
from tansy.engine.lens.workings.lags import INTERMITTENT, of_demands, of_lags
from tansy.engine.lens.workings.lines import of_regression, of_theta, of_trend
from tansy.engine.lens.workings.sheet import Workings, has_gaps
from tansy.engine.lens.workings.smoothing import lift_of, of_smoothing, outside_states
from tansy.engine.methods.fits import Fits
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


def workings(
    values: Floats, timeline: Timeline, fits: Fits, profile: Floats | None = None,
    drivers: Mapping[str, Floats] | None = None,
) -> Workings:  # fmt: skip
    """Workings of one series' fit (a batch of one). profile: [T or more], the season that its group shares. drivers:
    per name [1, T or more]."""
    form = fits.form(0)
    if form.slope_changes or form.power is not None or not fits.defined[0]:
        return of_lags(values, timeline, fits)
    if form.family == "regression" and not form.log:
        return of_regression(values, timeline, fits, drivers or {})
    lift = lift_of(timeline, fits, drivers or {}) if form.pooled else None
    if form.family == "arima" and form.orders and not has_gaps(values):
        beside = (
            beside_of(timeline, fits, drivers or {}) if form.harmonics or form.drivers or form.level_shifts else None
        )
        if beside is None or not np.isnan(beside).any():
            return of_arima(values, timeline, fits, beside, lift)
    if form.family == "ets":
        return of_smoothing(values, timeline, fits, outside_states(timeline, fits, profile), lift)
    if form.family == "trend" and not (form.words or form.log):
        return of_trend(values, timeline, fits)
    if form.family == "theta" and not form.log and fits.defined[0]:
        return of_theta(values, timeline, fits)
    if form.family in INTERMITTENT and not form.log and (values > 0.0).any():
        return of_demands(values, timeline, fits)
    return of_lags(values, timeline, fits)
