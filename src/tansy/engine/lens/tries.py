"""Methods tried on one series, side by side: what a planner sees while turning a constant."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.intervals import probabilities
from tansy.engine.backtest.measures import mean_absolute_season_step, nan_mean, wape
from tansy.engine.errors import DriverError, NotationError
from tansy.engine.methods.as_json import numbers, tried
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.form import Form
from tansy.engine.methods.learned import Learned
from tansy.engine.methods.notation import parse
from tansy.engine.methods.pooled import Pooled
from tansy.engine.methods.registry import fit, in_words
from tansy.engine.methods.regressors import check_known_ahead
from tansy.engine.methods.simpler import fit_or_simpler
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

MOST_TRIES = 4
MEASURES = ("ME", "MAE", "MSE", "RMSE", "MAPE", "WAPE", "MASE")


@dataclass(frozen=True)
class Try:
    """One method on one series. text: as asked for. fits: of this series alone; None where the text is wrong, and then
    problem says what is."""

    text: str
    fits: Fits | None
    problem: str = ""


def try_methods(
    values: Floats, timeline: Timeline, texts: list[str], horizon: int, profile: Floats | None = None,
    drivers: Mapping[str, Floats] | None = None, pooled: Mapping[tuple[str, ...], Pooled] | None = None,
    learned: Learned | None = None,
) -> list[Try]:  # fmt: skip
    """Fit each text to one series [T]; a wrong text spoils only its own try.

    profile: [T + H], the season of the group, for forms that share it. drivers: per name [1, T + H or more].
    pooled: effects of its group, for forms that pool them. learned: what the learner of its study found.
    """
    own = None if profile is None else profile[None, :]
    batch = Batch(values[None, :], timeline, drivers or {}, pooled or {}, learned, profiles=own)
    found = []
    for text in texts[:MOST_TRIES]:
        form = understood(text, batch, horizon)
        try:
            parts = list(fit_or_simpler(form, batch, horizon, "estimated")) if isinstance(form, Form) else []
        except NotationError as error:
            form = str(error)
        if not isinstance(form, Form):
            found.append(Try(text, None, form))
            continue
        found.append(Try(text, parts[-1][1]))
    return found


def form_or_none(text: str) -> Form | None:
    """The form, None where the text is wrong."""
    try:
        return parse(text)
    except NotationError:
        return None


def understood(text: str, batch: Batch, horizon: int) -> Form | str:
    """The form, or what is wrong with the text or lacking for it."""
    try:
        form = parse(text)
        check_known_ahead(form, batch.drivers, len(batch.values), batch.timeline, horizon)
    except (NotationError, DriverError) as error:
        return str(error)
    return form


def usable(text: str, batch: Batch, horizon: int) -> Form | str:
    """The same after a fit, which finds what only the data can show to be wrong."""
    form = understood(text, batch, horizon)
    if isinstance(form, Form):
        try:
            fit(form, batch, horizon)
        except NotationError as error:
            return str(error)
    return form


def in_sample(values: Floats, tries: list[Try], season_length: int) -> list[dict[str, float | None]]:
    """Measures of one-step errors, over the periods that all tries have a forecast for; see `methods.md`."""
    errors = [one.fits.residuals[0] for one in tries if one.fits is not None]
    common = np.all([np.isfinite(e) for e in errors], axis=0) if errors else np.zeros(len(values), dtype=bool)
    actual = np.where(common, values, np.nan)
    scale = float(mean_absolute_season_step(values[None, :], season_length)[0])
    found: list[dict[str, float | None]] = []
    for one in tries:
        if one.fits is None or not common.any():
            found.append(dict.fromkeys(MEASURES))
            continue
        e = np.where(common, one.fits.residuals[0], np.nan)
        share = np.divide(e, actual, out=np.full_like(e, np.nan), where=np.nan_to_num(actual) != 0.0)
        mae, mse = float(nan_mean(np.abs(e))), float(nan_mean(e * e))
        figures = (
            float(nan_mean(e)), mae, mse, mse**0.5, 100.0 * float(nan_mean(np.abs(share))), float(wape(e, actual)),
            mae / scale if scale > 0 else np.nan,
        )  # fmt: skip
        found.append({name: v if np.isfinite(v) else None for name, v in zip(MEASURES, figures, strict=True)})
    return found


def best_of(measures: list[dict[str, float | None]]) -> dict[str, int | None]:
    """Which try has the least of each measure (of ME the nearest to zero); none where fewer than two have one."""
    best: dict[str, int | None] = {}
    for name in MEASURES:
        known = [(abs(value), i) for i, one in enumerate(measures) if (value := one[name]) is not None]
        best[name] = min(known)[1] if len(known) > 1 else None
    return best


def describe(one: Try, values: Floats, levels: tuple[float, ...], floor: float = -np.inf) -> dict[str, Any]:
    """A try as plain data: parameters, criteria, fitted values, forecast and bands, widest first; the forecast and the
    bands (`totals`) of the sum of leads 1..h too.

    floor: demand that cannot be negative has no forecast and no band below zero.
    """
    if one.fits is None:
        return {"text": one.text, "problem": one.problem}
    fits = one.fits
    forecast = np.maximum(fits.forecast[0], floor)
    p = probabilities(list(levels))
    bands: list[dict[str, Any]] = []
    totals: list[dict[str, Any]] = []
    if fits.distribution is not None and fits.defined[0]:
        each, together = fits.distribution.quantiles(p)[0], fits.distribution.quantiles(p, together=True)[0]
        each, together = np.maximum(each, floor), np.maximum(together, floor)
        for k, level in enumerate(sorted(levels, reverse=True)):
            bands.append({"level": level, "low": numbers(each[k]), "high": numbers(each[-1 - k])})
            totals.append({"level": level, "low": numbers(together[k]), "high": numbers(together[-1 - k])})
    errors = fits.named_errors(0)
    figures = {"loglik": fits.loglik, "aic": fits.aic, "aicc": fits.aicc, "bic": fits.bic, "sigma2": fits.sigma2}
    return {
        "text": one.text,
        "problem": "",
        "model": str(fits.form(0)),
        "basis": fits.form(0).basis,
        "words": in_words(fits.form(0)),
        "notes": list(fits.notes.get(0, ())),
        "parameters": [
            {"name": name, "value": value, "error": errors.get(name)}
            for name, value in fits.named_parameters(0).items()
        ],
        "criteria": {name: float(v[0]) if np.isfinite(v[0]) else None for name, v in figures.items()},
        "tried": tried(fits.tried, fits.criteria[0]) if fits.criteria is not None else [],
        "fitted": numbers(values - fits.residuals[0]),
        "residuals": numbers(fits.residuals[0]),
        "forecast": numbers(forecast),
        "bands": bands,
        "total_forecast": numbers(np.cumsum(forecast)),
        "totals": totals,
    }
