"""Least squares on time, with seasonal indices where asked, and the theta method."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.distribution import Draws, Normal, Paths, Simulated, normal_response, spread_of_band
from tansy.engine.methods.fits import Batch, Fits, Floats, all_positive, note, too_few
from tansy.engine.methods.form import Field, Form, Surroundings
from tansy.engine.methods.method_text import Written
from tansy.engine.methods.smoothing import Smoothing
from tansy.engine.methods.transforms import brought_back

_NAMES = {"linear": ("intercept", "slope"), "quadratic": ("intercept", "slope", "curvature"),
          "exponential": ("intercept", "slope")}  # fmt: skip


_SHAPES = {"linear": "straight", "quadratic": "parabola", "exponential": "constant rate"}
_LINES = {"linear": "A straight line", "quadratic": "A parabola", "exponential": "Growth by a constant rate"}


@dataclass(frozen=True)
class Trend(Form):
    family: str = "trend"

    names = ("trend",)
    examples = ("trend(linear)",)
    menu = (("trend(linear)", "trend line"),)

    @classmethod
    def read(cls, written: Written) -> Trend:
        if written.transformed:
            raise written.wrong("a trend is not transformed; one of the logarithms is trend(exponential).")
        shape = written.main.strip()
        if shape not in _SHAPES:
            raise written.wrong(f"write trend(...) with one of {', '.join(_SHAPES)}.")
        words = written.options.take_words(("indices",))
        written.options.take_numbers(())
        return cls(shape=shape, words=words)

    def main(self) -> str:
        return self.shape

    def richness(self) -> tuple[int, int]:
        return 5, list(_SHAPES).index(self.shape)

    @property
    def has_season(self) -> bool:
        return "indices" in self.words

    def in_words(self) -> str:
        season = " through the values without their season, times seasonal indices" if "indices" in self.words else ""
        return f"{_LINES[self.shape]} by least squares{season}."

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        return _fit(self, batch, horizon, bands)

    def fields(self, around: Surroundings) -> list[Field]:
        indices = Field("indices", "times seasonal indices", "flag", "indices" in self.words)
        return [
            Field("shape", "Line", "choice", self.shape, tuple(_SHAPES.items())),
            *([indices] if around.season_length > 1 else []),
        ]

    def changed(self, name: str, value: Any, around: Surroundings) -> Trend:
        if name == "indices":
            return replace(self, words=("indices",) if value else ())
        if name != "shape":
            raise KeyError(name)
        return replace(self, shape=value)


@dataclass(frozen=True)
class Theta(Form):
    family: str = "theta"

    bare = True
    names = ("theta",)
    examples = ("theta",)
    menu = (("theta", "theta"),)

    @classmethod
    def read(cls, written: Written) -> Theta:
        return cls(log=written.around["log"], power=written.around["power"])

    def richness(self) -> tuple[int, int]:
        return 6, 0

    @property
    def has_season(self) -> bool:
        return True

    def in_words(self) -> str:
        return "Halfway between a straight line and simple smoothing of what the line leaves out twice over."

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        return _fit_theta(self, batch, horizon, bands)


def _fit(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """Trend by least squares: y = intercept + slope t + curvature t^2, or log y = intercept + slope t, t = 1..T.

    t counts from the first value of each series. With `indices`, the series is first divided by its seasonal indices
    (see `seasonal_indices`) and the forecast multiplied by them. Student quantiles of the least-squares prediction
    variance (Draper, Smith 1998, section 3.1), on the logarithmic scale for the exponential one.
    """
    values = batch.values
    notes: dict[int, tuple[str, ...]] = {}
    m = batch.timeline.season_length
    n, length = values.shape
    began = np.argmax(~np.isnan(values), axis=1)
    indices: Floats | None = None
    if "indices" in form.words:
        indices, known = seasonal_indices(values, began, m, horizon)
        note(notes, ~known, "no seasonal indices: they need two seasons of values above zero; fitted without")
        values = values / indices[:, :length]
    y = values
    if form.shape == "exponential":
        positive = all_positive(values)
        note(notes, ~positive, "not fitted: an exponential trend needs values above zero")
        y = np.log(np.where(positive[:, None], np.where(values > 0.0, values, math.nan), math.nan))
    t = np.arange(1, length + horizon + 1)[None, :] - began[:, None].astype(float)
    degree = 2 if form.shape == "quadratic" else 1
    solved = _polynomial(y, t, degree)
    coefficients, fitted, ratio, freedom, sigma2 = solved
    few = np.isnan(coefficients[:, 0])
    for i in np.nonzero(few)[0].tolist():
        notes[i] = notes.get(i) or (
            f"not fitted: {int((~np.isnan(batch.values[i])).sum())} values are too few for this method",
        )
    mean = np.exp(fitted) if form.shape == "exponential" else fitted
    if indices is not None:
        mean = mean * indices
    residuals = batch.values - mean[:, :length]
    ahead = fitted[:, length:]
    forecast = mean[:, length:]
    used = (~np.isnan(residuals)).sum(axis=1).astype(float)
    on_scale = np.where(np.isnan(y), math.nan, y - fitted[:, :length])
    squares = np.where(np.isnan(on_scale), 0.0, on_scale**2).sum(axis=1)
    mean_square = np.divide(squares, used, out=np.full(n, math.nan), where=used > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        loglik = -0.5 * used * (np.log(2.0 * np.pi * mean_square) + 1.0)
    distribution = None
    if bands != "none":
        normal = Normal(ahead, sigma2[:, None] * (1.0 + ratio[0]), sigma2[:, None] * ratio[1], freedom)
        factor = np.ones_like(ahead) if indices is None else indices[:, length:]
        distribution = _OnScale(normal, factor, form.shape == "exponential")
    return Fits(
        forecast, residuals, coefficients, _NAMES[form.shape], loglik, mean_square, used, squares,
        np.full(n, degree + 2.0), (form,), np.zeros(n, dtype=np.int64),
        standard_errors=None if bands != "estimated" else solved_errors(y, t, degree, sigma2),
        distribution=distribution, notes=notes,
    )  # fmt: skip


class _OnScale:
    """A trend's distribution brought back from its scale: exponentials, times the seasonal indices.

    Sums of leads are exact without either; else they are taken over paths.
    """

    def __init__(self, of: Normal, factor: Floats, exponential: bool) -> None:
        self._of, self._factor, self._exponential = of, factor, exponential

    def spread(self) -> Floats:
        return spread_of_band(self)

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        if together and (self._exponential or bool((self._factor != 1.0).any())):
            return Simulated(len(self._factor), self._of.mean.shape[1], self.paths, self._response).quantiles(
                p, together
            )
        found = self._of.quantiles(p, together)
        return (np.exp(found) if self._exponential else found) * (1.0 if together else self._factor[:, None, :])

    def _response(self, rows: slice) -> Floats:
        slope = self._factor[rows] * (np.exp(self._of.mean[rows]) if self._exponential else 1.0)
        found: Floats = slope[:, :, None] * normal_response(self._of, rows)
        return found

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        x = np.asarray(self._of.paths(rows, drawn), np.float64)
        return (brought_back(x, np.array(0.0)) if self._exponential else x) * self._factor[rows, :, None]


def _polynomial(y: Floats, t: Floats, degree: int) -> tuple[Floats, Floats, tuple[Floats, Floats], Floats, Floats]:
    """Least squares of y [n, T] on powers of t [n, T + H], missing values left out.

    Returns coefficients [n, degree + 1], fitted [n, T + H], (x'(X'X)^-1 x of each lead, variance of the sum of leads
    1..h in units of sigma2), degrees of freedom [n], sigma2 [n]. NaN with fewer than degree + 3 values.
    """
    length = y.shape[1]
    seen = ~np.isnan(y)
    enough = seen.sum(axis=1) >= degree + 3
    design = t[:, :, None] ** np.arange(degree + 1)[None, None, :]
    scale = np.maximum(t[:, length - 1], 1.0)[:, None] ** np.arange(degree + 1)
    design = design / scale[:, None, :]
    masked = design[:, :length] * seen[:, :, None]
    gram = np.einsum("nti,ntj->nij", masked, masked)
    gram[~enough] = np.eye(degree + 1)
    right = np.einsum("nti,nt->ni", masked, np.where(seen, y, 0.0))
    inverse = np.linalg.inv(gram)
    coefficients = np.einsum("nij,nj->ni", inverse, right)
    coefficients[~enough] = math.nan
    fitted = np.einsum("nti,ni->nt", design, coefficients)
    error = np.where(seen, y - fitted[:, :length], 0.0)
    freedom = seen.sum(axis=1) - (degree + 1.0)
    sigma2 = np.where(enough, (error**2).sum(axis=1) / np.maximum(freedom, 1.0), math.nan)
    ahead = design[:, length:]
    ratio = np.einsum("nhi,nij,nhj->nh", ahead, inverse, ahead)
    summed = np.cumsum(ahead, axis=1)
    total = np.einsum("nhi,nij,nhj->nh", summed, inverse, summed) + np.arange(1, ahead.shape[1] + 1)
    return coefficients / scale, fitted, (ratio, total), np.maximum(freedom, 1.0), sigma2


def solved_errors(y: Floats, t: Floats, degree: int, sigma2: Floats) -> Floats:
    """Standard errors of the coefficients, [n, degree + 1]."""
    length = y.shape[1]
    scale = np.maximum(t[:, length - 1], 1.0)[:, None] ** np.arange(degree + 1)
    design = (t[:, :length, None] ** np.arange(degree + 1)) / scale[:, None, :] * ~np.isnan(y)[:, :, None]
    gram = np.einsum("nti,ntj->nij", design, design)
    gram[np.isnan(sigma2)] = np.eye(degree + 1)
    diagonal = np.einsum("nii->ni", np.linalg.inv(gram))
    found: Floats = np.sqrt(sigma2[:, None] * diagonal) / scale
    return found


def seasonal_indices(
    values: Floats, began: NDArray[np.int64], m: int, horizon: int
) -> tuple[Floats, NDArray[np.bool_]]:
    """Ratio-to-moving-average indices [n, T + H], mean one, and where they are known, [n].

    Each value over the centred moving average of one season (half weights at the ends of an even one), averaged over
    the seasons, scaled to mean one. Ones where a series has fewer than two seasons or a value that is not positive.
    """
    usual = centred_average(values, m)
    ratio = np.divide(values, usual, out=np.full_like(values, math.nan), where=usual > 0)
    own, slot, known = _by_period(np.where(all_positive(values)[:, None], ratio, math.nan), began, m, horizon)
    own = np.where(known[:, None], own, 1.0)
    result: Floats = np.take_along_axis(own / own.mean(axis=1, keepdims=True), slot, axis=1)
    return result, known


def seasonal_differences(
    values: Floats, began: NDArray[np.int64], m: int, horizon: int
) -> tuple[Floats, NDArray[np.bool_]]:
    """What each period of the season adds, [n, T + H], mean zero, and where that is known, [n]: each value less the
    centred moving average, averaged over the seasons. Zeros where a series has fewer than two seasons."""
    own, slot, known = _by_period(values - centred_average(values, m), began, m, horizon)
    own = np.where(known[:, None], own, 0.0)
    result: Floats = np.take_along_axis(own - own.mean(axis=1, keepdims=True), slot, axis=1)
    return result, known


def centred_average(values: Floats, m: int) -> Floats:
    """Centred moving average of one season, half weights at the ends of an even one, [n, T]; NaN at both ends."""
    found = np.full(values.shape, math.nan)
    weights = np.ones(m) / m if m % 2 else np.r_[0.5, np.ones(m - 1), 0.5] / m
    half = len(weights) // 2
    if values.shape[1] >= len(weights):
        windows = np.lib.stride_tricks.sliding_window_view(values, len(weights), axis=1)
        found[:, half : values.shape[1] - half] = windows @ weights
    return found


def _by_period(
    values: Floats, began: NDArray[np.int64], m: int, horizon: int
) -> tuple[Floats, NDArray[np.int64], NDArray[np.bool_]]:
    """Means by period of the season [n, m], the period of the season of each period [n, T + H], and whether every mean
    is known and two seasons speak for them, [n]."""
    n, length = values.shape
    slot = (np.arange(length + horizon)[None, :] - began[:, None]) % m
    at = np.arange(n)[:, None] * m + slot
    seen = np.isfinite(values)
    sums = np.bincount(at[:, :length][seen], values[seen], n * m).reshape(n, m)
    counts = np.bincount(at[:, :length][seen], minlength=n * m).reshape(n, m)
    known = (counts > 0).all(axis=1) & (length - began >= 2 * m) & (m > 1)
    return sums / np.maximum(counts, 1), slot, known


def _fit_theta(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """The theta method with the lines 0 and 2 (Assimakopoulos, Nikolopoulos 2000).

    Seasonally adjusted where there are two seasons and the autocorrelation at lag m exceeds 1.645 standard errors: by
    indices where every value is above zero, else by what each period adds. Line 0 is the least-squares line; line 2
    doubles the distance from it and is smoothed simply, started at its first value; the forecast is the mean of both.
    Variance sigma2 (1 + (h - 1) alpha^2), sigma2 of the one-step errors, as the method is simple smoothing with drift
    (Hyndman, Billah 2003).
    """
    values = batch.values
    n, length = values.shape
    notes: dict[int, tuple[str, ...]] = {}
    season, coefficients, line = theta_line(values, batch.timeline.season_length, horizon)
    note(notes, season.factors, "seasonally adjusted by indices")
    note(notes, season.shows & ~season.factors, "seasonally adjusted by what each period adds")
    adjusted = season.taken_off(values)
    two = 2.0 * adjusted - line[:, :length]
    simple = Smoothing(letters=("A", "N", "N"), choices={"start": "first", "tune": "MSE"})
    one = simple.fit(Batch(two, batch.timeline), horizon, "none")
    smoothed = two - one.residuals
    whole = season.put_back(0.5 * (np.concatenate([smoothed, one.forecast], axis=1) + line))
    fitted, forecast = whole[:, :length], whole[:, length:]
    residuals = np.where(np.isnan(one.residuals), math.nan, values - fitted)
    used = (~np.isnan(residuals)).sum(axis=1).astype(float)
    squares = np.where(np.isnan(residuals), 0.0, residuals**2).sum(axis=1)
    sigma2 = np.divide(squares, used, out=np.full(n, math.nan), where=used > 0)
    alpha = one.parameters[:, 0]
    for i in np.nonzero(np.isnan(forecast[:, 0]))[0].tolist():
        notes[i] = too_few(values[i])
    h = np.arange(horizon, dtype=float)
    psi = np.where(h[None, :] == 0.0, 1.0, alpha[:, None])
    each = sigma2[:, None] * np.cumsum(psi**2, axis=1)
    together = sigma2[:, None] * np.cumsum(np.cumsum(psi, axis=1) ** 2, axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        loglik = -0.5 * used * (np.log(2.0 * np.pi * sigma2) + 1.0)
    return Fits(
        forecast, residuals, np.c_[alpha, 0.5 * coefficients[:, 1]], ("alpha", "drift"), loglik, sigma2, used, squares,
        np.full(n, 4.0), (form,), np.zeros(n, dtype=np.int64),
        distribution=None if bands == "none" else Normal(forecast, each, together), notes=notes,
    )  # fmt: skip


@dataclass(frozen=True)
class Season:
    """What `theta` adjusts by: values are (adjusted + added) x indices. indices, added: [n, T + H], one of them at
    rest. shows: [n], whether there is a season; factors: [n], whether it multiplies."""

    indices: Floats
    added: Floats
    shows: NDArray[np.bool_]
    factors: NDArray[np.bool_]

    def taken_off(self, values: Floats) -> Floats:
        """[n, T] of values [n, T]."""
        length = values.shape[1]
        return np.asarray(values / self.indices[:, :length] - self.added[:, :length])

    def put_back(self, adjusted: Floats) -> Floats:
        """[n, T + H] of adjusted values [n, T + H]."""
        return np.asarray((adjusted + self.added) * self.indices)


def theta_line(values: Floats, m: int, horizon: int) -> tuple[Season, Floats, Floats]:
    """What `theta` adjusts by, and its line 0: intercept and slope [n, 2] of t = 1 at the first value, and the line [n,
    T + H]."""
    length = values.shape[1]
    began = np.argmax(~np.isnan(values), axis=1)
    indices, multiplies = seasonal_indices(values, began, m, horizon)
    added, adds = seasonal_differences(values, began, m, horizon)
    shows = (multiplies | adds) & _season_shows(values, m)
    factors = shows & multiplies
    season = Season(
        np.where(factors[:, None], indices, 1.0), np.where((shows & ~factors)[:, None], added, 0.0), shows, factors
    )
    t = np.arange(1, length + horizon + 1)[None, :] - began[:, None].astype(float)
    coefficients, line, _, _, _ = _polynomial(season.taken_off(values), t, 1)
    return season, coefficients, line


def _season_shows(values: Floats, m: int) -> NDArray[np.bool_]:
    """Whether the autocorrelation at lag m exceeds 1.645 standard errors by Bartlett's formula, [n]."""
    n, length = values.shape
    if m < 2 or length < 2 * m:
        return np.zeros(n, dtype=bool)
    seen = ~np.isnan(values)
    count = np.maximum(seen.sum(axis=1), 1)
    centred = np.where(seen, values - (np.where(seen, values, 0.0).sum(axis=1) / count)[:, None], 0.0)
    own = np.maximum((centred**2).sum(axis=1), 1e-300)
    r = np.stack([(centred[:, k:] * centred[:, : length - k]).sum(axis=1) / own for k in range(1, m + 1)], axis=1)
    error = np.sqrt((1.0 + 2.0 * (r[:, :-1] ** 2).sum(axis=1)) / count)
    shows: NDArray[np.bool_] = np.abs(r[:, -1]) > 1.645 * error
    return shows
