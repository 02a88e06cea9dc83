"""Methods on one series from every origin of a backtest: how far off they were, and which form they took each time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tansy.engine.backtest.known import Keep
from tansy.engine.backtest.measures import mean_absolute_season_step, mean_square_step, nan_mean, wape
from tansy.engine.methods import registry
from tansy.engine.methods.fits import Floats
from tansy.engine.methods.form import Form
from tansy.engine.study.prepared import Prepared

MEASURES = ("ME", "MAE", "RMSE", "WAPE", "MASE", "RMSSE")


@dataclass(frozen=True)
class Tested:
    """One method. forms: at each origin, oldest first, then now; None where it could not be fitted. changes: in words,
    per origin and now, "" where the form is that of the origin before. measures: over all origins and leads, None where
    undefined."""

    forms: list[Form | None]
    changes: list[str]
    measures: dict[str, float | None]


def from_origins(prepared: Prepared, node: int, forms: Sequence[Form], keep: Keep | None = None) -> list[Tested]:
    """Methods on one node from every origin of a study. Measures are taken over the origins that all the methods could
    forecast, so that they can be compared. keep: see `Known`."""
    seen_at, horizon = prepared.seen_at, prepared.recipe.leads
    only, first = np.array([node]), np.zeros(1, dtype=np.int64)
    states = [prepared.known(n, keep, only) for n in (*seen_at, prepared.timeline.n_periods)]
    resolved: list[list[Form | None]] = [[] for _ in forms]
    forecasts = np.empty((len(forms), len(seen_at), horizon))
    for o, known in enumerate(states):
        for j, form in enumerate(forms):
            fits = registry.fit(form, known.batch(form, first), horizon)
            resolved[j].append(fits.form(0) if fits.defined[0] else None)
            if o < len(seen_at):
                forecasts[j, o] = fits.forecast[0]
    came = np.full((len(seen_at), horizon), np.nan)
    for o, n in enumerate(seen_at):
        own = states[-1].judged[0, n : n + horizon]
        came[o, : len(own)] = own
    errors = came[None] - forecasts
    common = ~np.isnan(forecasts[:, :, 0]).any(axis=0)
    m = prepared.timeline.season_length
    steps = np.array([float(mean_square_step(known.judged)[0]) for known in states[:-1]])
    season_steps = np.array([float(mean_absolute_season_step(known.judged, m)[0]) for known in states[:-1]])
    found = []
    for j, own_forms in enumerate(resolved):
        e = errors[j][common]
        actual = np.where(np.isnan(e), np.nan, came[common])
        figures: list[Floats | float] = [
            nan_mean(e), nan_mean(np.abs(e)), np.sqrt(nan_mean(e * e)), wape(e, actual),
            nan_mean(_scaled(np.abs(e), season_steps[common])), np.sqrt(nan_mean(_scaled(e * e, steps[common]))),
        ]  # fmt: skip
        measures = {
            name: float(v) if common.any() and np.isfinite(v) else None
            for name, v in zip(MEASURES, figures, strict=True)
        }
        found.append(Tested(own_forms, _changes(own_forms), measures))
    return found


def _scaled(values: Floats, scale: Floats) -> Floats:
    """values [origins, H] over the scale of each origin, NaN where it has none."""
    usable = np.nan_to_num(scale) > 0.0
    return np.where(usable[:, None], values / np.where(usable, scale, 1.0)[:, None], np.nan)


def _changes(forms: Sequence[Form | None]) -> list[str]:
    says = []
    before: Form | None = None
    for form in forms:
        says.append(what_changed(before, form) if before and form else "")
        before = form or before
    return says


def what_changed(before: Form, after: Form) -> str:
    """In words, "" where nothing did."""
    if str(before) == str(after):
        return ""
    compared: list[tuple[str, object, object]] = []
    if before.orders and after.orders:
        compared += zip(("AR terms", "differences", "MA terms"), before.orders, after.orders, strict=True)
        names = ("seasonal AR terms", "seasonal differences", "seasonal MA terms")
        compared += zip(names, before.seasonal, after.seasonal, strict=True)
    elif before.letters and after.letters:
        compared += zip(("errors", "trend", "season"), before.letters, after.letters, strict=True)
    compared += [("harmonics", before.harmonics, after.harmonics), ("power", before.power, after.power)]
    says = [f"{name} {was} to {now}" for name, was, now in compared if was != now]
    said: list[tuple[str, bool, bool]] = [
        (word, word in before.words, word in after.words) for word in ("drift", "constant")
    ]
    if before.orders and after.orders and before.orders[1] == after.orders[1]:
        said.append(("a mean", "mean" not in before.given, "mean" not in after.given))
    says += [f"{'with' if now else 'without'} {word}" for word, was, now in said if was != now]
    return ", ".join(says) or f"{before} to {after}"
