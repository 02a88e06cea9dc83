"""A sensible method for a series that is too short or too odd for the one asked for, and a note that says so."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.fits import Batch, Fits, Integers
from tansy.engine.methods.form import Form
from tansy.engine.methods.registry import fit
from tansy.engine.methods.simple import Simple


def fit_or_simpler(
    form: Form, batch: Batch, horizon: int, bands: str
) -> Iterator[tuple[Integers, Fits, NDArray[np.bool_]]]:
    """Yield (series, fits of those series, which of them are settled): first of `form`, then of ever simpler ones for
    what is left. Every series is settled once.

    The last one, the mean, needs one value; a series without any is settled undefined.
    """
    rows = np.arange(len(batch.values))
    reasons: dict[int, tuple[str, ...]] = {}
    ways = [form, *simpler(form)]
    for k, way in enumerate(ways):
        fits = fit(way, batch.rows(rows) if k else batch, horizon, bands=bands)
        settled = fits.defined | (k == len(ways) - 1)
        if k:
            notes = dict(fits.notes)
            for i in np.nonzero(fits.defined)[0].tolist():
                notes[i] = (*reasons[int(rows[i])], f"{way} instead of {form}", *notes.get(i, ()))
            fits = replace(fits, notes=notes)
        for i in np.nonzero(~settled)[0].tolist():
            reasons.setdefault(int(rows[i]), fits.notes.get(i, ()))
        yield rows, fits, settled
        rows = rows[~settled]
        if not len(rows):
            return


def simpler(form: Form) -> list[Form]:
    """What to fall back to, from near to far: what the form names, the last value, the mean."""
    return [*form.simpler(), Simple("naive"), Simple("mean")]
