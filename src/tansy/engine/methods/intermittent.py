"""Croston, its bias-corrected variant (sba), and the one that updates the probability every period (tsb)."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.kernels import intermittent as kernel
from tansy.engine.methods import fields
from tansy.engine.methods.distribution import Chosen, Counts, Distribution, Draws, Simulated
from tansy.engine.methods.fits import Batch, Fits, Floats, Integers, note
from tansy.engine.methods.form import Field, Form, Surroundings
from tansy.engine.methods.method_text import Written

_KINDS = {"croston": kernel.CROSTON, "sba": kernel.SBA, "tsb": kernel.TSB}


_WORDS = {
    "croston": "Sizes of sales over the gaps between them, both smoothed at sales.",
    "sba": "Sizes of sales over the gaps between them, both smoothed at sales, less the bias that division brings.",
    "tsb": "Size of a sale times its chance, which is updated every period.",
}


@dataclass(frozen=True)
class Intermittent(Form):
    only_options = True
    names = ("croston", "sba", "tsb")
    examples = names
    menu = (("croston", "Croston"), ("sba", "Croston, corrected"), ("tsb", "Croston, by chance"))

    @classmethod
    def read(cls, written: Written) -> Intermittent:
        if written.transformed:
            raise written.wrong(f"{written.name} is for demand with zeros, which have no logarithm.")
        written.options.take_words(())
        return cls(written.name, given=written.options.take_numbers(("alpha", "beta")))

    def richness(self) -> tuple[int, int]:
        return 8 + self.names.index(self.family), 0

    def in_words(self) -> str:
        return _WORDS[self.family]

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        return _fit(self, batch, horizon, bands)

    def fields(self, around: Surroundings) -> list[Field]:
        gaps = "weight of the chance" if self.family == "tsb" else "weight of the gaps"
        return [fields.share(self, "alpha", "weight of the sizes α"), fields.share(self, "beta", f"{gaps} β")]

    def changed(self, name: str, value: Any, around: Surroundings) -> Intermittent:
        if name not in ("alpha", "beta"):
            raise KeyError(name)
        return fields.with_given(self, name, value)


def _fit(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """A series without any demand gets zeros.

    Bands are those of counts: negative binomial about the forecast where the values are whole numbers, else from the
    sizes and gaps of the past (each period of a path has a demand with the chance 1/interval, of a size of the past).
    """
    n, length = batch.values.shape
    level, residuals, parameters = np.empty(n), np.empty((n, length)), np.empty((n, 4))
    statistics, size = np.empty((n, 4)), np.empty(n)
    kernel.fit_intermittent_batch(
        np.ascontiguousarray(batch.values), _KINDS[form.family], form.given.get("alpha", math.nan),
        form.given.get("beta", form.given.get("alpha", math.nan)), bands != "none", level, residuals, parameters,
        statistics, size,
    )  # fmt: skip
    notes: dict[int, tuple[str, ...]] = {}
    seen = ~np.isnan(batch.values)
    some = np.asarray(seen.any(axis=1))
    without = np.isnan(level) & some
    level = np.where(without, 0.0, level)
    size = np.where(without, math.inf, size)
    note(notes, without, "no demand so far: forecast as zero")
    note(notes, ~some, "not fitted: 0 values are too few for this method")
    forecast = np.repeat(level[:, None], horizon, axis=1)
    loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
    names = ("alpha", "beta", "size", "probability" if form.family == "tsb" else "interval")
    return Fits(
        forecast, residuals, parameters, names, loglik, sigma2, n_used, sum_squares, np.zeros(n),
        (form,), np.zeros(n, dtype=np.int64), notes=notes,
        distribution=None if bands == "none" else _distribution(form, batch, forecast, parameters, size),
    )  # fmt: skip


def _distribution(form: Form, batch: Batch, forecast: Floats, parameters: Floats, size: Floats) -> Distribution:
    n = len(forecast)
    whole = np.nonzero(~np.isnan(size))[0]
    rest = np.nonzero(np.isnan(size))[0]
    parts: list[tuple[Integers, Distribution]] = []
    if len(whole):
        parts.append((whole, Counts(forecast[whole], size[whole])))
    if len(rest):
        parts.append((rest, _SizesAndGaps.of_fit(batch.values[rest], forecast[rest], parameters[rest], form.family)))
    return parts[0][1] if len(parts) == 1 else Chosen(n, parts)


@dataclass(frozen=True)
class _SizesAndGaps:
    """A demand at the chance of the fit, of a size drawn from the past and scaled to the smoothed size.

    Every lead has the same distribution, whose quantiles are those of its sizes; sums are taken over paths.
    chance: [n]; sizes: [n, most], ascending, infinite behind the counts [n] of each.
    """

    horizon: int
    chance: Floats
    sizes: Floats
    counts: Integers

    @classmethod
    def of_fit(cls, values: Floats, forecast: Floats, parameters: Floats, family: str) -> _SizesAndGaps:
        chance = np.clip(parameters[:, 3] if family == "tsb" else 1.0 / parameters[:, 3], 0.0, 1.0)
        demands = np.where(np.nan_to_num(values) != 0.0, values, math.nan)
        counts = (~np.isnan(demands)).sum(axis=1)
        expected = chance * np.nansum(demands, axis=1) / np.maximum(counts, 1)
        scale = np.divide(forecast[:, 0], expected, out=np.ones(len(expected)), where=expected > 0.0)
        sizes = np.sort(np.where(np.isnan(demands), math.inf, demands * scale[:, None]), axis=1)
        return cls(forecast.shape[1], chance, sizes, counts)

    def spread(self) -> Floats:
        sizes = np.where(np.isfinite(self.sizes), self.sizes, 0.0)
        share = self.chance / np.maximum(self.counts, 1)
        variance = share * (sizes**2).sum(axis=1) - (share * sizes.sum(axis=1)) ** 2
        return np.repeat(np.sqrt(np.maximum(variance, 0.0))[:, None], self.horizon, axis=1)

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        n = len(self.chance)
        if together:
            return Simulated(n, self.horizon, self.paths).quantiles(p, together)
        return np.repeat(self._least(np.broadcast_to(p, (n, len(p))))[:, :, None], self.horizon, axis=2)

    def paths(self, rows: slice, drawn: Draws) -> NDArray[np.float32]:
        part = replace(self, chance=self.chance[rows], sizes=self.sizes[rows], counts=self.counts[rows])
        u = np.broadcast_to(drawn.uniforms.ravel(), (len(part.chance), drawn.uniforms.size))
        return part._least(u).astype(np.float32).reshape(-1, *drawn.uniforms.shape)

    def _least(self, u: Floats) -> Floats:
        """Least demand that is not exceeded with probability u [n, k]: those below zero, then none, then others."""
        n, count = len(u), self.counts[:, None]
        below = (self.sizes < 0.0).sum(axis=1)[:, None]
        share = np.divide(self.chance[:, None], count, out=np.zeros((n, 1)), where=count > 0)  # of each size
        none = 1.0 - self.chance[:, None]
        rank = np.where(u <= share * below, u, u - none)
        most = np.maximum(count, 1)
        known = share * most > np.abs(rank)  # false where nothing was fitted, and where the rank lies beyond the last
        place = np.divide(rank, share, out=np.where(np.isnan(rank), 0.0, np.sign(rank) * most), where=known)
        at = np.ceil(place - 1e-9).astype(np.int64) - 1
        size = np.take_along_axis(self.sizes, np.clip(at, 0, np.maximum(count - 1, 0)), axis=1)
        is_none = (u > share * below) & (u <= share * below + none + 1e-12)
        return np.where(is_none | (count == 0), 0.0, size)
