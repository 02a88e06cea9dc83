"""A sensible method for a series that is too short or too odd for the one asked for, and a note that says so."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from tansy.engine.methods.fits import Batch, Fits, Integers
from tansy.engine.methods.notation import Form, parse
from tansy.engine.methods.registry import fit


def fit_or_simpler(form: Form, batch: Batch, horizon: int, bands: str) -> Iterator[tuple[Integers, Fits]]:
    """Yield (series, fits of those series): first of `form`, then of ever simpler ones for what is left.

    The last one, the mean, needs one value; a series without any stays undefined.
    """
    rows = np.arange(len(batch.values))
    reasons: dict[int, tuple[str, ...]] = {}
    ways = [form, *simpler(form)]
    for k, way in enumerate(ways):
        fits = fit(way, batch.rows(rows) if k else batch, horizon, bands=bands)
        done = fits.defined | (k == len(ways) - 1)
        if k:
            notes = dict(fits.notes)
            for i in np.nonzero(done)[0].tolist():
                why = reasons.get(int(rows[i]), ())
                if fits.defined[i]:
                    notes[i] = (*why, f"{way} instead of {form}", *notes.get(i, ()))
            fits = replace(fits, notes=notes)
        for i in np.nonzero(~done)[0].tolist():
            reasons.setdefault(int(rows[i]), fits.notes.get(i, ()))
        if done.all():
            yield rows, fits
            return
        if done.any():
            # the parts that are done, by fitting them again on their own: the same numbers, in a batch without the rest
            yield (
                rows[done],
                replace(fit(way, batch.rows(rows[done]), horizon, bands=bands), notes=_moved(fits.notes, done)),
            )
        rows = rows[~done]


def simpler(form: Form) -> list[Form]:
    """What to fall back to, from near to far: without the season, without the trend, the mean."""
    ways: list[Form] = []
    if form.family == "ets" and form.letters:
        error, trend, season = form.letters
        if season != "N" or form.harmonics or form.shared_season:
            ways.append(Form("ets", letters=("A", trend, "N"), log=form.log))
        if trend != "N":
            ways.append(Form("ets", letters=("A", "N", "N"), log=form.log))
        if error == "M" or form.log:
            ways.append(parse("ets(A,N,N)"))
    if form.family == "arima":
        ways.append(parse("ets(A,N,N)"))
    return [*ways, parse("naive"), parse("mean")]


def _moved(notes: dict[int, tuple[str, ...]], kept: np.ndarray) -> dict[int, tuple[str, ...]]:
    position = np.cumsum(kept) - 1
    return {int(position[i]): text for i, text in notes.items() if kept[i]}
