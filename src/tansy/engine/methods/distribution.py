"""Forecast distributions: quantiles of each lead, and of the sum of the leads 1 to L that an order has to cover."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray
from scipy.special import betainc, gammaincinv, nbdtrik, ndtr, ndtri, pdtr, pdtrik, stdtrit
from scipy.stats.qmc import Sobol

from tansy.engine.kernels.paths import places_among
from tansy.engine.methods.transforms import brought_back

Floats = NDArray[np.float64]
Paths = NDArray[np.float32] | Floats

_MOST_PATHS = 1 << 15
_FEWEST_PATHS = 1 << 11
_MOST_NUMBERS = 1 << 21  # in a table of shocks
_BLOCK = 1 << 24  # values of paths that are held at once
_MANY = 1e6


class Distribution(Protocol):
    """What the forecasts of a batch are distributed like: the one thing that a fit says of them beyond its means."""

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        """[series, Q, H] for probabilities [Q]. together: of the sum of leads 1..h instead of lead h alone."""

    def spread(self) -> Floats:
        """[series, H], standard deviation of each lead, or what it would be of a normal with as wide a band."""

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        """[rows, H, N], ways that the leads of some series may go together; the same draws move all series together."""


_FROM_MIDDLE = 1.2815515655446004  # standard deviations of a normal from its middle to its 90 % quantile


def spread_of_band(of: Distribution) -> Floats:
    """From the band that holds 80 %."""
    low, high = of.quantiles(np.array([0.1, 0.9])).transpose(1, 0, 2)
    return np.asarray((high - low) / (2.0 * _FROM_MIDDLE))


@dataclass(frozen=True)
class Normal:
    """Normal, or with heavier tails. mean, each, together: [series, H]; the last two are variances of lead h and of the
    sum of leads 1..h.

    freedom [series]: Student with these degrees, the variances being those of its normal. excess, excess_together
    [series, H]: Student with this excess kurtosis, 6 / (degrees - 4), and the variances as given. plain [series, H]:
    variances of the leads with all parameters taken as known, where `each` holds more.
    """

    mean: Floats
    each: Floats
    together: Floats
    freedom: Floats | None = None
    excess: Floats | None = None
    excess_together: Floats | None = None
    plain: Floats | None = None

    def spread(self) -> Floats:
        return np.sqrt(self.each)

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        spread = np.sqrt(self.together if together else self.each)
        mean = np.cumsum(self.mean, axis=1) if together else self.mean
        z = self._standard(p[None, :, None], slice(None), together)
        found: Floats = mean[:, None, :] + z * spread[:, None, :]
        return found

    def _standard(self, p: Floats, rows: slice, together: bool) -> Floats:
        """Quantiles in standard deviations; p: [series or 1, Q, H or 1]."""
        excess = self.excess_together if together else self.excess
        if self.freedom is not None:
            return np.asarray(stdtrit(self.freedom[rows, None, None], p))
        if excess is not None:
            freedom = 4.0 + 6.0 / np.clip(excess[rows, None], 1e-3, 30.0)
            return np.asarray(stdtrit(freedom, p) * np.sqrt((freedom - 2.0) / freedom))
        return np.asarray(ndtri(p))

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        """Those of `normal_paths`; with heavier tails each lead is at the same quantile as there."""
        found = normal_paths(self, rows, drawn)
        if self.freedom is None and self.excess is None:
            return found
        mean, spread = self.mean[rows, :, None], np.sqrt(self.each[rows])[:, :, None]
        z = np.divide(found - mean, spread, out=np.zeros_like(found), where=spread > 0.0)
        standard = self._standard(ndtr(z).swapaxes(1, 2), rows, False).swapaxes(1, 2)
        return np.asarray(mean + standard * spread)


@dataclass(frozen=True)
class Draws:
    """What sample paths are made of, the same for all series: points that fill the unit cube evenly, and far more so
    than chance would (Sobol 1967, scrambled as in Owen 1998), so that quantiles of paths are smooth over the leads.

    uniforms: [H, N] and normals: [H, N], a coordinate for each lead; which: [N], one more, between 0 and 1.
    """

    uniforms: Floats
    normals: Floats
    which: Floats


def n_paths(horizon: int, finer: bool = False) -> int:
    """Paths that quantiles are taken from: 32,768, and fewer for horizons of more than 64 periods; finer: up to four
    times as many, where estimates are drawn too, whose tails are long."""
    most_paths, most_numbers = (_MOST_PATHS << 2, _MOST_NUMBERS << 1) if finer else (_MOST_PATHS, _MOST_NUMBERS)
    most = most_numbers // max(horizon, 1)
    return max(_FEWEST_PATHS, min(most_paths, 1 << max(most.bit_length() - 1, 0)))


def draws(horizon: int, n: int | None = None) -> Draws:
    """Draws for so many leads, `n_paths` of them unless a power of two is given; those of fewer leads are the first of
    those of more."""
    most = 1 << max(horizon - 1, 15).bit_length()  # few tables are made, and horizons share them
    table = _table(most, n or n_paths(horizon))
    return Draws(table.uniforms[:horizon], table.normals[:horizon], table.which)


@lru_cache(maxsize=4)
def _table(horizon: int, n: int) -> Draws:
    points = Sobol(horizon + 1, seed=20261).random_base2(n.bit_length() - 1)
    # the numbers of a lead lie beside each other in memory, as they are read
    points = np.ascontiguousarray(np.clip(points, 0.5 / (1 << 30), 1.0 - 0.5 / (1 << 30)).T)
    return Draws(points[1:], ndtri(points[1:]), points[0])


@dataclass(frozen=True)
class Simulated:
    """Of sample paths: paths(rows, draws) gives [rows, H, N] of those series, the same ones every time.

    finer: see `n_paths`. response(rows), where there is one: [rows, H, H], about how far the normal of each lead (last
    axis) moves the value of each. What these responses alone would give is normal with a variance that is known, so the
    place that its known quantile takes among what the draws give of it is a better one for the quantile of the paths
    than their share alone: the draws' own error is taken out as far as the paths follow the responses (a control
    variate for quantiles: Hsu, Nelson 1990).
    """

    n_series: int
    horizon: int
    paths: Callable[[slice, Draws], Paths]
    response: Callable[[slice], Floats] | None = None
    finer: bool = False

    def spread(self) -> Floats:
        return spread_of_band(self)

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        drawn = draws(self.horizon, n_paths(self.horizon, self.finer))
        block = max(1, _BLOCK // drawn.uniforms.size)
        found = np.empty((self.n_series, len(p), self.horizon))
        for start in range(0, self.n_series, block):
            rows = slice(start, min(start + block, self.n_series))
            paths = self.paths(rows, drawn)
            places = None
            if self.response is not None:
                response = self.response(rows)
                places = _places(np.cumsum(response, axis=1) if together else response, drawn, p)
            summed: NDArray[Any] = np.cumsum(paths, axis=1) if together else paths
            found[rows] = path_quantiles(summed, p, places)
        return found


def _places(response: Floats, drawn: Draws, p: Floats) -> Floats:
    """Places [rows, Q, H] of the quantiles p among the sorted values that `response` [rows, H, H] makes of draws."""
    n, horizon, _ = response.shape
    sd = np.sqrt((response**2).sum(axis=2, keepdims=True))
    unit = np.divide(response, sd, out=np.zeros_like(response), where=sd > 0.0)
    values = unit.astype(np.float32) @ drawn.normals.astype(np.float32)
    values.sort(axis=-1)
    places = np.repeat(np.repeat(_sure_places(p, values.shape[-1])[None, :, None], n, axis=0), horizon, axis=2)
    places_among(values, ndtri(p).astype(np.float32), places)
    return places


def _sure_places(p: Floats, n: int) -> Floats:
    """Places of the quantiles p among n sorted paths: the k-th, counted from 1, is the k/(n + 1) quantile."""
    return np.asarray(p * (n + 1) - 1.0)


@dataclass(frozen=True)
class Transformed:
    """Of what is normal on a transformed scale: the quantiles of each lead are its quantiles brought back.

    powers: [series], of Box and Cox (1964), see `transforms`. A sum of leads has no such rule and is taken over paths.
    """

    of: Normal
    powers: Floats

    def spread(self) -> Floats:
        return spread_of_band(self)

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        powers = self.powers[:, None, None]
        if not together:
            return brought_back(self.of.quantiles(p), powers)
        mean, step = self.of.mean, 1e-4 * np.sqrt(self.of.each) + 1e-12
        slope = (brought_back(mean + step, powers[:, 0]) - brought_back(mean - step, powers[:, 0])) / step
        return Simulated(
            len(mean),
            mean.shape[1],
            self.paths,
            lambda rows: slope[rows, :, None] * normal_response(self.of, rows),
        ).quantiles(p, together)

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        return brought_back(np.asarray(self.of.paths(rows, drawn), np.float64), self.powers[rows, None, None])


@dataclass(frozen=True)
class Lifted:
    """Of another distribution times factors above zero [series, H]. mean: [series, H], without the factors. doubt,
    doubt_of_sum: [series, H], variance because the factors are estimated: of lead h and of the sum of leads 1..h.

    The spread of a sum of leads grows as its mean does. The doubt is independent of the rest: quantiles move away from
    the median as the standard deviation, read off those at -1 and 1 of the normal, grows.
    """

    of: Distribution
    factors: Floats
    mean: Floats
    doubt: Floats
    doubt_of_sum: Floats

    def spread(self) -> Floats:
        return spread_of_band(self)

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        grown = self.factors
        if together:
            plain = np.cumsum(self.mean, axis=1)
            lifted = np.cumsum(self.mean * self.factors, axis=1)
            grown = np.divide(lifted, plain, out=np.ones_like(plain), where=np.abs(plain) > 1e-12)
        found = self.of.quantiles(np.concatenate([p, ndtr([-1.0, 0.0, 1.0])]), together) * grown[:, None, :]
        low, middle, high = (found[:, len(p) + i] for i in range(3))
        spread = 0.5 * (high - low)
        doubt = self.doubt_of_sum if together else self.doubt
        wider = np.sqrt(1.0 + doubt / np.maximum(spread**2, 1e-12 * doubt + 1e-300))
        out: Floats = middle[:, None] + (found[:, : len(p)] - middle[:, None]) * wider[:, None]
        return out

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        """The factors are too high or too low at all leads of a path alike, by the draw that no lead has."""
        doubt = np.sqrt(self.doubt[rows])[:, :, None] * ndtri(drawn.which)
        return np.asarray(self.of.paths(rows, drawn) * self.factors[rows, :, None] + doubt)


def normal_paths(of: Normal, rows: slice, drawn: Draws) -> Floats:
    """Paths [rows, H, N] of a normal distribution.

    The value of each lead is a multiple of the sum so far plus something new, so that the variance of every lead and of
    every sum of leads is as given.
    """
    mean, each, together = of.mean[rows], of.each[rows], of.together[rows]
    n, horizon = mean.shape
    z = drawn.normals
    deviations = np.empty((n, *z.shape))
    deviations[:, 0] = np.sqrt(each[:, :1]) * z[0]
    summed = deviations[:, 0].copy()
    for h in range(1, horizon):
        before, now = together[:, h - 1], together[:, h]
        covariance = 0.5 * (now - before - each[:, h])
        slope = np.divide(covariance, before, out=np.zeros(n), where=before > 0)
        rest = np.sqrt(np.maximum(each[:, h] - slope * covariance, 0.0))
        deviations[:, h] = slope[:, None] * summed + rest[:, None] * z[h]
        summed += deviations[:, h]
    return np.asarray(mean[:, :, None] + deviations)


def normal_response(of: Normal, rows: slice) -> Floats:
    """How far the normal of each lead moves the value of each in `normal_paths`, [rows, H, H]."""
    ones = np.eye(of.mean.shape[1])
    return np.asarray(normal_paths(of, rows, Draws(ones, ones, ones[0])) - of.mean[rows, :, None])


@dataclass(frozen=True)
class Counts:
    """Whole numbers: negative binomial with mean [series, H] and size [series], Poisson where the size is infinite.

    variance = mean + mean^2 / size. The sum of leads with the same mean is negative binomial again, its size theirs
    added; leads differ little, so the sum takes the size that gives the variance of the sum.
    """

    mean: Floats
    size: Floats

    def spread(self) -> Floats:
        mean = np.maximum(self.mean, 0.0)
        return np.sqrt(mean + mean * mean / self.size[:, None])

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        mean = np.maximum(np.cumsum(self.mean, axis=1) if together else self.mean, 0.0)
        size = np.broadcast_to(self.size[:, None], mean.shape)
        if together:
            squares = np.cumsum(self.mean**2, axis=1)
            finite = np.isfinite(size)
            total = np.divide(np.where(finite, size, 1.0) * mean**2, squares, out=np.array(size), where=squares > 0.0)
            size = np.where(finite, total, size)
        quantiles = np.stack([_count_quantile(q, mean, size) for q in p.tolist()], axis=1)
        return np.where(np.isnan(mean)[:, None, :], np.nan, quantiles)

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        mean = np.maximum(self.mean[rows], 0.0)
        size = np.broadcast_to(self.size[rows, None], mean.shape)
        found = np.empty((*mean.shape, drawn.uniforms.shape[1]))
        for h in range(mean.shape[1]):
            u = np.broadcast_to(drawn.uniforms[h], found[:, h].shape)
            found[:, h] = _count_quantile(u, mean[:, h, None], size[:, h, None])
        return np.where(np.isnan(mean)[:, :, None], np.nan, found)


def _count_quantile(q: float | Floats, mean: Floats, size: Floats) -> Floats:
    """Least whole number whose probability of not being exceeded is at least q; Poisson where size is infinite.

    The continuous inverse gives it to within one; the distribution itself, an incomplete beta function, settles it.
    Above a million both run out of digits, and one unit more or less is nothing: the limits, a gamma distribution and
    the normal, take their place.
    """
    endless = ~np.isfinite(size)
    mean = np.where(np.isnan(mean), 0.0, mean)
    large = mean > _MANY
    if large.any():
        spread = np.where(endless, 1.0 + ndtri(q) / np.sqrt(np.maximum(mean, 1.0)), 0.0)
        r = np.where(endless, 1.0, size)
        limit = np.ceil(mean * np.where(endless, spread, gammaincinv(r, q) / r))
        return np.where(large, limit, _count_quantile(q, np.where(large, 0.0, mean), size))
    r = np.where(endless, 1.0, size)
    chance = r / (r + mean)
    positive = np.maximum(mean, 1e-300)
    guess = np.where(endless, pdtrik(q, positive), nbdtrik(q, r, chance))
    # at a mean of nothing the inverse has no answer: nothing is the answer
    k = np.where(mean > 0.0, np.maximum(np.ceil(np.nan_to_num(guess)) - 2.0, 0.0), 0.0)
    while True:
        below = np.where(endless, pdtr(k, positive), betainc(r, k + 1.0, chance)) < q * (1.0 - 1e-12)
        if not below.any():
            return k
        k += below


@dataclass(frozen=True)
class Chosen:
    """Each series has its own of several distributions: parts of (rows, distribution of those rows)."""

    n_series: int
    parts: Sequence[tuple[NDArray[np.int64], Distribution]]

    def spread(self) -> Floats:
        found: Floats | None = None
        for rows, part in self.parts:
            own = part.spread()
            if found is None:
                found = np.full((self.n_series, own.shape[1]), np.nan)
            found[rows] = own
        assert found is not None, "a batch has at least one part"
        return found

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        found: Floats | None = None
        for rows, part in self.parts:
            own = part.quantiles(p, together)
            if found is None:
                found = np.full((self.n_series, *own.shape[1:]), np.nan)
            found[rows] = own
        assert found is not None, "a batch has at least one part"
        return found

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        start, stop, _ = rows.indices(self.n_series)
        found = np.full((stop - start, *drawn.uniforms.shape), np.nan)
        for own, part in self.parts:  # whose rows ascend
            first, last = np.searchsorted(own, [start, stop]).tolist()
            if first < last:
                found[own[first:last] - start] = part.paths(slice(first, last), drawn)
        return found


def path_quantiles(paths: NDArray[np.float32] | Floats, p: Floats, places: Floats | None = None) -> Floats:
    """Quantiles over the last axis, [series, Q, H] from paths [series, H, N], which are sorted in place.

    The k-th of N sorted paths is the k/(N + 1) quantile, with straight lines between, unless places [series, Q, H] are
    given, counted from 0. One sort serves all quantiles.
    """
    paths.sort(axis=-1)
    n = paths.shape[-1]
    place = np.clip(_sure_places(p, n) if places is None else np.moveaxis(places, 1, -1), 0.0, n - 1.0)
    low = np.floor(place).astype(np.int64)
    high = np.minimum(low + 1, n - 1)
    part = place - low
    found = _at(paths, low, places is None) * (1.0 - part) + _at(paths, high, places is None) * part
    return np.ascontiguousarray(np.moveaxis(found, -1, 1), dtype=np.float64)


def _at(paths: NDArray[np.float32] | Floats, place: NDArray[np.int64], of_all: bool) -> Floats:
    """Values of the paths at the places of all rows [Q], a plain index and so several times as fast, or of each row."""
    return np.asarray(paths[..., place] if of_all else np.take_along_axis(paths, place, -1), np.float64)
