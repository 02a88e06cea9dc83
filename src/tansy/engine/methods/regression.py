"""Least squares on drivers, harmonics and level shifts (Draper, Smith 1998, chapters 5 and 6)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from tansy.engine.methods import fields
from tansy.engine.methods.distribution import Normal
from tansy.engine.methods.fits import Batch, Fits, Floats, too_few
from tansy.engine.methods.form import RICHEST, Field, Form, Surroundings
from tansy.engine.methods.method_text import Written, read_drivers
from tansy.engine.methods.regressors import no_effect, regressors_of

_FLAT = 1e-10  # what the columns before leave of one that did not vary on its own, as a share of its sum of squares


@dataclass(frozen=True)
class Regression(Form):
    family: str = "regression"

    names = ("regression",)
    examples = ("regression(price, promotion)",)
    terms = ("harmonics", "level-shift", "slope-changes")

    @classmethod
    def read(cls, written: Written) -> Regression:
        written.options.take_words(())
        written.options.take_numbers(())
        entries = read_drivers(written.text, written.inner, "regression(price, promotion)")
        return cls(**{**written.around, "drivers": entries})

    def main(self) -> str:
        return ", ".join(self.drivers)

    def after(self) -> list[str]:
        return [term for term in super().after() if not term.startswith("x(")]

    def richness(self) -> tuple[int, int]:
        return RICHEST, 0

    def in_words(self) -> str:
        return "Regression: a constant and an effect of each driver by least squares."

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        return _fit(self, batch, horizon, bands)

    def fields(self, around: Surroundings) -> list[Field]:
        return [
            fields.drivers(self, around),
            *([fields.harmonics(self)] if around.season_length > 1 else []),
            fields.scale(self),
        ]

    def changed(self, name: str, value: Any, around: Surroundings) -> Regression:
        change = {"drivers": fields.with_drivers, "harmonics": fields.with_harmonics, "scale": fields.with_scale}[name]
        found: Regression = change(self, value)
        return found


def _fit(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """y = constant + sum of coefficient x regressor, for every series of a batch.

    Standard errors and the prediction variance use SSE / (n - k), quantiles are Student's with n - k degrees, k
    counting the coefficients. A regressor that does not vary on its own has no effect and a note. A series is fitted
    when it has two values more than coefficients.
    """
    n, length = batch.values.shape
    columns = regressors_of(form, batch.drivers, n, batch.timeline, horizon)
    names = ("constant", *columns.names)
    y = batch.values if columns.unknown is None else np.where(columns.unknown, math.nan, batch.values)
    seen = ~np.isnan(y)
    x = np.concatenate([np.ones((len(columns.x), length + horizon, 1)), columns.x], axis=2)
    x = np.broadcast_to(x, (n, *x.shape[1:])) if len(x) == 1 else x
    past = x[:, :length] * seen[:, :, None]
    inverse, alone = _inverse(np.einsum("nti,ntj->nij", past, past))
    b = np.einsum("nij,nj->ni", inverse, np.einsum("nti,nt->ni", past, np.where(seen, y, 0.0)))
    used, k = seen.sum(axis=1).astype(float), alone.sum(axis=1).astype(float)
    enough = used >= k + 2
    mean = np.einsum("nti,ni->nt", x, b)
    residuals = np.where(enough[:, None], y - mean[:, :length], math.nan)
    squares = np.where(seen, residuals**2, 0.0).sum(axis=1)
    freedom = np.maximum(used - k, 1.0)
    variance = squares / freedom
    forecast = np.where(enough[:, None], mean[:, length:], math.nan)
    notes: dict[int, tuple[str, ...]] = {}
    for i in np.nonzero(~enough)[0].tolist():
        notes[i] = too_few(y[i])
    for i, missing in columns.missing.items():
        forecast[i] = math.nan
        notes[i] = (f"not fitted: {missing}",)
    for i in np.nonzero(~alone.all(axis=1) & enough)[0].tolist():
        out = [name for name, own in zip(names, alone[i].tolist(), strict=True) if not own]
        notes[i] = (*notes.get(i, ()), no_effect(out))
    ahead = x[:, length:]
    summed = np.cumsum(ahead, axis=1)
    leads = np.arange(1, horizon + 1)
    each = variance[:, None] * (1.0 + np.einsum("nhi,nij,nhj->nh", ahead, inverse, ahead))
    together = variance[:, None] * (leads + np.einsum("nhi,nij,nhj->nh", summed, inverse, summed))
    covariance = variance[:, None, None] * inverse
    sigma2 = np.where(enough, squares / np.maximum(used, 1.0), math.nan)
    with np.errstate(divide="ignore", invalid="ignore"):
        loglik = -0.5 * used * (np.log(2.0 * math.pi * sigma2) + 1.0)
    return Fits(
        forecast, residuals, np.where(alone & enough[:, None], b, math.nan), names, loglik, sigma2, used, squares,
        k + 1.0, (form,), np.zeros(n, dtype=np.int64),
        np.sqrt(np.maximum(np.einsum("nii->ni", covariance), 0.0)) if bands != "none" else None,
        Normal(forecast, each, together, freedom) if bands != "none" else None,
        notes, covariance=covariance, freedom=freedom,
    )  # fmt: skip


def _inverse(gram: Floats) -> tuple[Floats, np.ndarray]:
    """Inverse of each normal matrix [n, k, k] over the columns that vary on their own, zero elsewhere; and which do,
    [n, k]. Of columns that say the same the first one stays.

    Columns are scaled to length one and taken in one by one (sweeping, Goodnight 1979), all series at once.
    """
    n, k, _ = gram.shape
    size = np.sqrt(np.einsum("nii->ni", gram))
    scale = np.where(size > 0.0, 1.0 / np.where(size > 0.0, size, 1.0), 0.0)
    swept = gram * scale[:, :, None] * scale[:, None, :]
    alone = np.zeros((n, k), dtype=bool)
    for j in range(k):
        pivot = swept[:, j, j]
        own = pivot > _FLAT
        alone[:, j] = own
        divisor = np.where(own, pivot, 1.0)
        row = swept[:, j, :] / divisor[:, None]
        column = swept[:, :, j].copy()
        after = swept - column[:, :, None] * row[:, None, :]
        after[:, j, :] = row
        after[:, :, j] = -column / divisor[:, None]
        after[:, j, j] = 1.0 / divisor
        swept = np.where(own[:, None, None], after, swept)
    both = alone[:, :, None] & alone[:, None, :]
    return np.where(both, swept, 0.0) * scale[:, :, None] * scale[:, None, :], alone
