"""From a method's text to its fits."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from tansy.engine.methods import arima, intermittent, regression, simple, smoothing, trends
from tansy.engine.methods.bends import find_bends
from tansy.engine.methods.distribution import Lifted, Normal, Transformed
from tansy.engine.methods.fits import Batch, Fits, Floats, Integers, all_positive, joined, note
from tansy.engine.methods.notation import BEST, CHOSEN_POWER, INTERMITTENT, Form
from tansy.engine.methods.pooled import Pooled, pooled_effects
from tansy.engine.methods.regressors import Regressors, pairs_of, regressors_of, regressors_of_drivers
from tansy.engine.methods.transforms import brought_back, mean_brought_back, steadying_powers, transformed

_FAMILIES = {
    **dict.fromkeys(("seasonal-naive", "naive", "mean", "drift", "moving-average"), simple.fit),
    **dict.fromkeys(INTERMITTENT, intermittent.fit),
    "trend": trends.fit,
    "theta": trends.fit_theta,
    "ets": smoothing.fit,
    "arima": arima.fit,
    "regression": regression.fit,
}


def fit(form: Form, batch: Batch, horizon: int, bands: str = "none") -> Fits:
    """Fit `form` to every series of `batch` and forecast `horizon` leads.

    bands: whether to find a distribution of the forecasts, see `fits.BANDS`.
    """
    if form.pooled:
        return _lifted(form, batch, horizon, bands)
    if form.transformed:
        return _on_scale(form, batch, horizon, bands)
    if form.harmonics == BEST and form.family != "ets":  # which chooses them with its own form
        return _with_pairs(form, batch, horizon, bands)
    if form.slope_changes:
        return _bent(form, batch, horizon, bands)
    return _FAMILIES[form.family](form, batch, horizon, bands)


def _on_scale(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """Fit to transformed values. Quantiles are brought back as they are, the mean with the spread around it, parameters
    taken as known: the forecast does not depend on which bands are asked for, and what a study publishes, which asks
    for none, is what the pages of a series show."""
    values, n = batch.values, len(batch.values)
    powers = np.full(n, 0.0 if form.power is None else form.power)
    if form.power == CHOSEN_POWER:
        powers = steadying_powers(values, max(batch.timeline.season_length, 4))
    possible = np.where(powers == 0.0, all_positive(values), ~(np.nan_to_num(values, nan=1.0) < 0.0).any(axis=1))
    usable = np.where(possible[:, None], values, math.nan)
    scaled = transformed(usable, powers[:, None])
    # sums of logarithms are products already: on that scale nothing multiplies
    narrowed = (*form.words, "no-multiplicative") if form.family == "ets" and not form.letters else form.words
    inner = replace(form, log=False, power=None, words=narrowed)
    plain = replace(batch, values=scaled, sources=None)
    found = fit(inner, plain, horizon, "known" if bands == "none" else bands)
    notes = dict(found.notes)
    for i in np.nonzero(~possible)[0].tolist():
        notes.pop(i, None)
    note(notes, ~possible & (powers == 0.0), "not fitted: logarithms need values above zero")
    note(notes, ~possible & (powers != 0.0), "not fitted: powers need values that are not below zero")
    spread = found.distribution
    assert isinstance(spread, Normal), "what is linear on a transformed scale has a normal distribution there"
    fitted = brought_back(scaled - found.residuals, powers[:, None])
    forms, form_of = _named(form, found.forms, found.form_of, powers)
    return replace(
        found,
        forecast=mean_brought_back(
            found.forecast, spread.each if spread.plain is None else spread.plain, powers[:, None]
        ),
        residuals=values - fitted,
        forms=forms,
        form_of=form_of,
        notes=notes,
        distribution=None if bands == "none" else Transformed(spread, powers),
    )


def _with_pairs(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """Pairs of harmonics by AICc, series by series. Where orders are searched, arima(1,d,1) stands for what will be
    found: the search follows with the pairs it chose."""
    beside = form
    if form.family == "arima" and form.orders is None:
        week = batch.timeline.frequency == "D" and "no-season" not in form.words
        beside = replace(
            form, orders=(1, int(form.given.get("d", 0)), 1), words=(), given={},
            seasonal=(1, 0, 1) if week else (0, 0, 0), period=batch.timeline.season_length if week else 0,
        )  # fmt: skip
    pairs = pairs_of(form, batch.timeline)
    tried = [replace(beside, harmonics=k) for k in pairs]
    criteria = np.stack([fit(one, batch, horizon).aicc for one in tried], axis=1)
    chosen = np.argmin(np.where(np.isfinite(criteria), criteria, np.inf), axis=1)
    parts = []
    for k in np.unique(chosen).tolist():
        rows = np.nonzero(chosen == k)[0]
        parts.append((rows, fit(replace(form, harmonics=pairs[k]), batch.rows(rows), horizon, bands)))
    found = joined(parts)
    notes = dict(found.notes)
    for i, k in enumerate(chosen.tolist()):
        if found.defined[i]:
            why = f"pairs of harmonics by AICc, {pairs[0]} to {pairs[-1]} tried: {pairs[k]}"
            notes[i] = (why, *notes.get(i, ()))
    return replace(found, notes=notes, tried=tuple(str(one) for one in tried), criteria=criteria)


def _bent(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """Fit to what is left when the bends of the trend are taken out, and put them back; bands hold bends to come."""
    n, length = batch.values.shape
    columns = regressors_of(form, batch.drivers, n, batch.timeline, horizon)
    known = batch.values if columns.unknown is None else np.where(columns.unknown, math.nan, batch.values)
    bends = find_bends(known, columns.x, horizon)
    straight = replace(batch, values=batch.values - bends.line[:, :length])
    found = _FAMILIES[form.family](form, straight, horizon, bands)
    notes = dict(found.notes)
    labels = batch.timeline.labels
    for i in np.nonzero((bends.changes != 0.0).any(axis=1) & found.defined)[0].tolist():
        said = [
            f"{labels[date]} by {change:+.3g}"
            for date, change in zip(bends.dates.tolist(), bends.changes[i].tolist(), strict=True)
            if change
        ]
        notes[i] = (*notes.get(i, ()), f"the slope changes after {', '.join(said)} a period")
    spread = found.distribution
    if spread is not None:
        assert isinstance(spread, Normal), "what is linear has a normal distribution"
        ahead = bends.line[:, length:]
        spread = replace(
            spread, mean=spread.mean + ahead, each=spread.each + bends.doubt,
            together=spread.together + bends.doubt_of_sum,
            plain=None if spread.plain is None else spread.plain + bends.doubt,
        )  # fmt: skip
    forecast = found.forecast + bends.line[:, length:]
    return replace(found, forecast=forecast, distribution=spread, notes=notes)


def _lifted(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """Fit to demand without what drivers multiplied it by, and multiply by what they will."""
    length = batch.values.shape[1]
    effects, columns = pooled_of(form, batch, horizon)
    lift = effects.lift(columns, length)
    plain, without = unlifted(form, batch, horizon)
    found = fit(plain, without, horizon, bands)
    fitted = (without.values - found.residuals) * lift[:, :length]
    forecast = found.forecast * lift[:, length:]
    notes = dict(found.notes)
    for i, missing in columns.missing.items():
        forecast[i] = math.nan
        notes[i] = (f"not fitted: {missing}",)
    names = tuple(f"pooled {name}" for name in effects.names)
    plain_errors = np.zeros(found.parameters.shape) if found.standard_errors is None else found.standard_errors
    return replace(
        found,
        forecast=forecast,
        residuals=batch.values - fitted,
        parameters=np.hstack([found.parameters, effects.effects]),
        parameter_names=(*found.parameter_names, *names),
        standard_errors=None if bands == "none" else np.hstack([plain_errors, effects.errors]),
        covariance=None,
        forms=tuple(replace(one, pooled=form.pooled) for one in found.forms),
        notes=notes,
        distribution=None
        if found.distribution is None
        else Lifted(found.distribution, lift[:, length:], found.forecast, *effects.doubt(columns, length, forecast)),
    )


def unlifted(form: Form, batch: Batch, horizon: int) -> tuple[Form, Batch]:
    """The form without pooled effects, and the batch with its demand freed of what they multiplied it by."""
    length = batch.values.shape[1]
    effects, columns = pooled_of(form, batch, horizon)
    known = batch.values if columns.unknown is None else np.where(columns.unknown, math.nan, batch.values)
    return replace(form, pooled=()), replace(batch, values=known / effects.lift(columns, length)[:, :length])


def pooled_of(form: Form, batch: Batch, horizon: int) -> tuple[Pooled, Regressors]:
    """Pooled effects of a batch, those it brings or those of itself as one group, and the columns they are of."""
    n = len(batch.values)
    effects = batch.pooled.get(form.pooled)
    if effects is None:
        one_group = (np.zeros(n, dtype=np.int64),)
        effects = pooled_effects(form.pooled, batch.values, batch.drivers, batch.timeline, one_group)
    return effects, regressors_of_drivers(form.pooled, batch.drivers, n, batch.timeline, horizon)


def _named(form: Form, inner: tuple[Form, ...], form_of: Integers, powers: Floats) -> tuple[tuple[Form, ...], Integers]:
    """The forms with the transform in them, and which one each series has."""
    if form.log:
        return tuple(replace(one, log=True) for one in inner), form_of
    pairs, which = np.unique(np.stack([form_of.astype(float), powers], axis=1), axis=0, return_inverse=True)
    named = tuple(replace(inner[int(j)], power=float(power)) for j, power in pairs)
    return named, which.ravel().astype(np.int64)
