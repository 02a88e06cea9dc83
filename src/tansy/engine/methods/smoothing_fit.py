"""Exponential smoothing: all 18 forms, the choice among them, parsimonious seasons, and constants given or tuned.

`smoothing_search.py` fits one form, `smoothing_choice.py` chooses among several. Whatever was estimated or given is
then run through one plain recursion (`kernels/smoothing_apply.py`), which is what fitted values, likelihood and
forecasts come from, and `smoothing_bands.py` says how they are distributed.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from tansy.engine.errors import NotationError
from tansy.engine.kernels import smoothing_apply
from tansy.engine.methods.fits import Batch, Fits, Floats, Integers, all_positive, note, too_few
from tansy.engine.methods.form import Form
from tansy.engine.methods.regressors import pairs_of
from tansy.engine.methods.shared_season import season_profiles
from tansy.engine.methods.smoothing_bands import Run, Shifted, with_distribution
from tansy.engine.methods.smoothing_choice import choose
from tansy.engine.methods.smoothing_search import (
    SEASON_CODE,
    WEIGHTS,
    Found,
    Task,
    given_states,
    is_seasonal,
    mean_of,
    n_outside,
    search,
)
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

RESTRICTIONS = ("no-trend", "damped-trend", "no-multiplicative")
"""What leaves some forms out of ets(best)."""


def fit(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """Fit a form, or the best of several, to every series of a batch.

    bands: see `fits.BANDS`.
    A series is fitted when it has two values more than the form has parameters, and a whole season more where it has
    one. Raises NotationError where the form cannot be had on this timeline.
    """
    m = batch.timeline.season_length
    candidates = _candidates(form, batch)
    most_pairs = max(one.harmonics for one in candidates)
    notes: dict[int, tuple[str, ...]] = {}
    values, x = np.ascontiguousarray(batch.values), _harmonics(batch, most_pairs, horizon)
    if form.shared_season:
        profiles = batch.profiles
        if profiles is None:
            profiles = season_profiles(batch.own_sources, batch.timeline, horizon)
        x = np.ascontiguousarray(profiles[:, : values.shape[1] + horizon, None] - 1.0)
    which = batch.groups if form.shared_season else np.zeros(len(values), np.int64)
    task = Task(values, x, which, m, round(PERIODS_PER_YEAR[batch.timeline.frequency]), horizon)
    started, fixed_states = given_states(form, task, notes)
    found: list[Found] = []
    for one in candidates:
        found.append(search(one, started, fixed_states, found, thorough=len(candidates) == 1, notes=notes))
    if not form.letters and any(one.letters and "M" in one.letters for one in candidates):
        note(notes, ~all_positive(values), "multiplicative forms were not tried: they need values above zero")
    found, chosen, criteria = choose(found, started, fixed_states)
    return _finish(form, batch, task, started, found, chosen, criteria, bands, notes)


def _candidates(form: Form, batch: Batch) -> list[Form]:
    """Forms to try, additive ones first: the others start from their fits."""
    m, daily = batch.timeline.season_length, batch.timeline.frequency == "D"
    outside = bool(form.harmonics) or form.shared_season
    if form.letters:
        if form.letters[2] != "N" and m == 1:
            raise NotationError(f"{form}: a season of one period has no states; use ets(A,{form.letters[1]},N).")
        if outside and form.letters[2] != "N" and not daily:
            raise NotationError(f"{form}: the season is there twice; use ets(A,{form.letters[1]},N).")
        letters = [form.letters]
    else:
        trends = (
            ["N"] if "no-trend" in form.words else ["N", "Ad"] if "damped-trend" in form.words else ["N", "A", "Ad"]
        )
        seasons = ["N"] + (["A"] if m > 1 and (not outside or daily) else [])
        letters = [("A", t, s) for s in seasons for t in trends]
        if not outside and "no-multiplicative" not in form.words:
            letters += [("M", t, s) for s in (*seasons, *(["M"] if m > 1 else [])) for t in trends]
    pairs = pairs_of(form, batch.timeline)
    words = tuple(word for word in form.words if word not in RESTRICTIONS)
    return [replace(form, letters=one, harmonics=k, words=words) for k in pairs for one in letters]


def _harmonics(batch: Batch, pairs: int, horizon: int) -> Floats:
    """[1, T + H, columns], in the order of `_beside`."""
    names = batch.timeline.harmonic_names(pairs)
    order = [names.index(name) for name in _beside(pairs, batch.timeline)]
    return np.ascontiguousarray(batch.timeline.harmonics(pairs, horizon)[None, :, order])


def _beside(pairs: int, timeline: Timeline) -> list[str]:
    """Names of harmonics, each sine beside its cosine, so that fewer pairs are the first columns."""
    return sorted(timeline.harmonic_names(pairs), key=lambda name: (int(name[3:]), name[:3] == "cos"))


def _finish(
    form: Form, batch: Batch, task: Task, started: Task, found: list[Found], chosen: Integers, criteria: Floats,
    bands: str, notes: dict[int, tuple[str, ...]],
) -> Fits:  # fmt: skip
    """Run what was found through the recursion and put it all together."""
    n, length = task.values.shape
    m, horizon, columns = task.m, task.horizon, task.x.shape[2]
    each = np.arange(n)
    widest = m if any(is_seasonal(one.form) for one in found) else 0

    def picked(name: str, width: int) -> Floats:
        padded = np.full((len(found), n, width), math.nan)
        for j, one in enumerate(found):
            own = getattr(one, name)
            padded[j, :, : own.shape[1]] = own
        return np.ascontiguousarray(padded[chosen, each])

    weights, states = picked("weights", 4), picked("states", 2 + widest)
    coefficients = picked("coefficients", columns)
    letters = [one.form.letters for one in found]
    relative = np.array([one is not None and one[0] == "M" for one in letters])[chosen]
    season = np.array([SEASON_CODE[one[2]] for one in letters if one])[chosen]
    residuals, last = np.empty((n, length)), np.empty((n, 2 + widest))
    forecast, each_variance, total_variance = (np.empty((n, horizon)) for _ in range(3))
    statistics = np.empty((n, 4))
    smoothing_apply.apply_batch(
        started.values, task.x, task.which, relative, season, widest, weights, states, np.nan_to_num(coefficients),
        residuals, last, forecast, each_variance, total_variance, statistics,
    )  # fmt: skip
    loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
    undefined = np.isnan(forecast[:, 0])
    for i in np.nonzero(undefined)[0].tolist():
        if not any(text.startswith("not fitted") for text in notes.get(i, ())):
            notes[i] = (*notes.get(i, ()), *too_few(task.values[i]))
    most_pairs = max(one.form.harmonics for one in found)
    outside = ["shared-season"] if form.shared_season else _beside(most_pairs, batch.timeline)
    of_form = [n_outside(one.form, task) for one in found]
    names, parameters = _parameters(outside, of_form, letters, chosen, weights, states, coefficients, widest)
    parameters[undefined] = math.nan
    exact = ~undefined & (sum_squares == 0.0)
    note(notes, exact, "the method repeats this series without any error; the bands have no width")
    fits = Fits(
        forecast, residuals, parameters, names, loglik, sigma2, n_used, sum_squares,
        np.array([one.k for one in found], dtype=float)[chosen],
        tuple(one.form for one in found), chosen, notes=notes,
        tried=tuple(str(one.form) for one in found) if len(found) > 1 else (),
        criteria=criteria if len(found) > 1 else None,
    )  # fmt: skip
    if bands != "none":
        run = Run(batch, task, started, weights, states, coefficients, last, relative, season, residuals, widest)
        fits = with_distribution(form, fits, found, run, each_variance, total_variance, bands)
    if "add-bias" in form.words:
        bias = mean_of(residuals)
        fits = replace(fits, forecast=fits.forecast + bias[:, None])
        if fits.distribution is not None:
            fits = replace(fits, distribution=Shifted(fits.distribution, bias))
    return fits


def _parameters(
    outside: list[str], of_form: list[int], letters: list[tuple[str, str, str] | None], chosen: Integers,
    weights: Floats, states: Floats, coefficients: Floats, m: int,
) -> tuple[tuple[str, ...], Floats]:  # fmt: skip
    """Names over all candidates, and values [n, P], NaN where the chosen form has none of the name.

    outside: names beside the states, of which each candidate has the first so many, `of_form`.
    """
    names = [*WEIGHTS, "level", "trend", *(f"season{j}" for j in range(1, m + 1)), *outside]
    values = np.hstack([weights, states, coefficients[:, : len(outside)]])
    has = np.zeros((len(letters), len(names)), dtype=bool)
    for j, one in enumerate(letters):
        assert one is not None
        trend, seasonal = one[1] != "N", one[2] != "N"
        has[j] = [
            True,
            trend,
            seasonal,
            one[1] == "Ad",
            True,
            trend,
            *[seasonal] * m,
            *(i < of_form[j] for i in range(len(outside))),
        ]
    values[~has[chosen]] = math.nan
    any_has = has.any(axis=0)
    return tuple(np.array(names)[any_has].tolist()), np.ascontiguousarray(values[:, any_has])
