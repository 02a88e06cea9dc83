"""From a method's text to its fits."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tansy.engine.methods import arima, intermittent, simple, smoothing, trends
from tansy.engine.methods.distribution import Logarithmic, Normal
from tansy.engine.methods.fits import Batch, Fits, Floats, all_positive, note
from tansy.engine.methods.notation import INTERMITTENT, Form

_FAMILIES = {
    **dict.fromkeys(("seasonal-naive", "naive", "mean", "drift", "moving-average"), simple.fit),
    **dict.fromkeys(INTERMITTENT, intermittent.fit),
    "trend": trends.fit,
    "theta": trends.fit_theta,
    "ets": smoothing.fit,
    "arima": arima.fit,
}


def fit(form: Form, batch: Batch, horizon: int, warm: Floats | None = None, bands: str = "none") -> Fits:
    """Fit `form` to every series of `batch` and forecast `horizon` leads.

    warm: [series, free parameters], start values from an earlier origin, NaN where there are none. bands: whether to
    find a distribution of the forecasts, see `fits.BANDS`.
    """
    if form.log:
        return _on_logs(form, batch, horizon, warm, bands)
    return _FAMILIES[form.family](form, batch, horizon, warm, bands)


def _on_logs(form: Form, batch: Batch, horizon: int, warm: Floats | None, bands: str) -> Fits:
    """Fit to the logarithms. Quantiles are the exponentials of the quantiles; the mean of a log-normal is
    exp(mu + v/2). A study asks for no distribution; the variance is found all the same, because the mean needs it."""
    positive = all_positive(batch.values)
    logs = np.log(np.where(positive[:, None], batch.values, np.nan))
    # sums of logarithms are products already: on that scale nothing multiplies
    narrowed = (*form.words, "no-multiplicative") if form.family == "ets" and not form.letters else form.words
    inner = replace(form, log=False, words=narrowed)
    found = fit(inner, replace(batch, values=logs, sources=None), horizon, warm, "known" if bands == "none" else bands)
    notes = dict(found.notes)
    for i in np.nonzero(~positive)[0].tolist():
        notes.pop(i, None)
    note(notes, ~positive, "not fitted: logarithms need values above zero")
    spread = found.distribution
    assert isinstance(spread, Normal), "what is linear on the logarithmic scale has a normal distribution there"
    fitted = np.exp(logs - found.residuals)
    return replace(
        found,
        forecast=np.exp(found.forecast + 0.5 * spread.each),
        residuals=batch.values - fitted,
        forms=tuple(replace(one, log=True) for one in found.forms),
        notes=notes,
        distribution=None if bands == "none" else Logarithmic(spread),
    )
