"""Methods that hold a method: effects that a group shares, a transform, pairs of harmonics by AICc, a bent trend.

Each takes something away from what it is given, has the method within it fitted to what is left, and puts it back into
forecasts, errors and bands. They hold one another in the order of `HOLDERS`, the outermost first.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Protocol

import numpy as np

from tansy.engine.methods.bends import find_bends
from tansy.engine.methods.distribution import Lifted, Normal, Transformed
from tansy.engine.methods.fits import Batch, Fits, Floats, Integers, all_positive, joined, note
from tansy.engine.methods.form import BEST, CHOSEN_POWER, Form
from tansy.engine.methods.pooled import Pooled, pooled_effects
from tansy.engine.methods.regressors import Regressors, pairs_of, regressors_of, regressors_of_drivers
from tansy.engine.methods.transforms import brought_back, mean_brought_back, steadying_powers, transformed

Within = Callable[[Form, Batch, int, str], Fits]
"""Fits the method within: (form, batch, horizon, bands)."""


class Holder(Protocol):
    def holds(self, form: Form) -> bool:
        """Whether it is part of what the form says."""

    def fit(self, form: Form, batch: Batch, horizon: int, bands: str, within: Within) -> Fits: ...

    def in_words(self, form: Form) -> str:
        """A sentence on it."""


class SharedEffects:
    """Demand without what drivers multiplied it by, and multiplied by what they will."""

    def holds(self, form: Form) -> bool:
        return bool(form.pooled)

    def in_words(self, form: Form) -> str:
        return f"Effects of {', '.join(form.pooled)}, as the series of its group share them."

    def fit(self, form: Form, batch: Batch, horizon: int, bands: str, within: Within) -> Fits:
        length = batch.values.shape[1]
        effects, columns = pooled_of(form, batch, horizon)
        lift = effects.lift(columns, length)
        plain, without = unlifted(form, batch, horizon)
        found = within(plain, without, horizon, bands)
        fitted = (without.values - found.residuals) * lift[:, :length]
        forecast = found.forecast * lift[:, length:]
        notes = dict(found.notes)
        for i, missing in columns.missing.items():
            forecast[i] = math.nan
            notes[i] = (f"not fitted: {missing}",)
        names = tuple(f"pooled {name}" for name in effects.names)
        plain_errors = np.zeros(found.parameters.shape) if found.standard_errors is None else found.standard_errors
        lifted = None
        if found.distribution is not None:
            doubt = effects.doubt(columns, length, forecast)
            lifted = Lifted(found.distribution, lift[:, length:], found.forecast, *doubt)
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
            distribution=lifted,
        )


class Scale:
    """Logarithms, or another power of Box and Cox. Quantiles are brought back as they are, the mean with the spread
    around it, parameters taken as known: the forecast does not depend on which bands are asked for, and what a study
    publishes, which asks for none, is what the pages of a series show."""

    def holds(self, form: Form) -> bool:
        return form.transformed

    def in_words(self, form: Form) -> str:
        if form.power is None:
            return "All of it on the logarithmic scale."
        power = "a power chosen from the data" if form.power == CHOSEN_POWER else f"power {form.power:g}"
        return f"All of it on the scale of {power}."

    def fit(self, form: Form, batch: Batch, horizon: int, bands: str, within: Within) -> Fits:
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
        found = within(inner, plain, horizon, "known" if bands == "none" else bands)
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


class Pairs:
    """Pairs of harmonics by AICc, series by series, for families that do not choose them with their own form."""

    def holds(self, form: Form) -> bool:
        return form.harmonics == BEST and not form.chooses_pairs

    def in_words(self, form: Form) -> str:
        return ""

    def fit(self, form: Form, batch: Batch, horizon: int, bands: str, within: Within) -> Fits:
        beside = form.while_pairs_are_chosen(batch)
        pairs = pairs_of(form, batch.timeline)
        tried = [replace(beside, harmonics=k) for k in pairs]
        criteria = np.stack([within(one, batch, horizon, "none").aicc for one in tried], axis=1)
        chosen = np.argmin(np.where(np.isfinite(criteria), criteria, np.inf), axis=1)
        parts = []
        for k in np.unique(chosen).tolist():
            rows = np.nonzero(chosen == k)[0]
            parts.append((rows, within(replace(form, harmonics=pairs[k]), batch.rows(rows), horizon, bands)))
        found = joined(parts)
        notes = dict(found.notes)
        for i, k in enumerate(chosen.tolist()):
            if found.defined[i]:
                why = f"pairs of harmonics by AICc, {pairs[0]} to {pairs[-1]} tried: {pairs[k]}"
                notes[i] = (why, *notes.get(i, ()))
        return replace(found, notes=notes, tried=tuple(str(one) for one in tried), criteria=criteria)


class Bends:
    """A trend whose slope changes: fitted to what is left without it; bands hold bends to come."""

    def holds(self, form: Form) -> bool:
        return form.slope_changes

    def in_words(self, form: Form) -> str:
        return "A trend whose slope changes where the data say so."

    def fit(self, form: Form, batch: Batch, horizon: int, bands: str, within: Within) -> Fits:
        n, length = batch.values.shape
        columns = regressors_of(form, batch.drivers, n, batch.timeline, horizon)
        known = batch.values if columns.unknown is None else np.where(columns.unknown, math.nan, batch.values)
        bends = find_bends(known, columns.x, horizon)
        straight = replace(batch, values=batch.values - bends.line[:, :length])
        found = form.fit(straight, horizon, bands)
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


HOLDERS: tuple[Holder, ...] = (SharedEffects(), Scale(), Pairs(), Bends())


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
