"""From a method's text to its fits."""

from __future__ import annotations

from tansy.engine.methods import likelihood, simple
from tansy.engine.methods.fits import Batch, Fits, Floats
from tansy.engine.methods.notation import SIMPLE, Form


def fit(form: Form, batch: Batch, horizon: int, warm: Floats | None = None, uncertainty: bool = False) -> Fits:
    """Fit `form` to every series of `batch` and forecast `horizon` leads.

    warm: [series, free parameters], start values from an earlier origin, NaN where there are none.
    uncertainty: also find what not knowing the parameters adds to the variances.
    """
    family = simple if form.family in SIMPLE else likelihood
    return family.fit(form, batch, horizon, warm, uncertainty)
