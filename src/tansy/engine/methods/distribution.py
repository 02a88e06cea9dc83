"""Forecast distributions: quantiles of each lead, and of the sum of the leads 1 to L that an order has to cover."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from scipy.special import betainc, gammaincinv, nbdtrik, ndtr, ndtri, pdtr, pdtrik, stdtrit

from tansy.engine.methods.transforms import brought_back

Floats = NDArray[np.float64]

N_PATHS = 2000
_MANY = 1e6


class Distribution(Protocol):
    """quantiles(p [Q], together) -> [series, Q, H]. together: of the sum of leads 1..h instead of lead h alone."""

    def quantiles(self, p: Floats, together: bool = False) -> Floats: ...


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

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        spread = np.sqrt(self.together if together else self.each)
        mean = np.cumsum(self.mean, axis=1) if together else self.mean
        z = ndtri(p)[None, :, None]
        excess = self.excess_together if together else self.excess
        if self.freedom is not None:
            z = stdtrit(self.freedom[:, None], p[None, :])[:, :, None]
        elif excess is not None:
            freedom = 4.0 + 6.0 / np.clip(excess, 1e-3, 30.0)
            z = stdtrit(freedom[:, None, :], p[None, :, None]) * np.sqrt((freedom - 2.0) / freedom)[:, None, :]
        found: Floats = mean[:, None, :] + z * spread[:, None, :]
        return found


@dataclass(frozen=True)
class Simulated:
    """Of sample paths: draw(n) gives [series, H, n], the same ones every time."""

    draw: Callable[[int], NDArray[np.float32]]

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        paths = self.draw(N_PATHS)
        if together:
            paths = np.cumsum(paths, axis=1, dtype=np.float32)
        return path_quantiles(paths, p)


@dataclass(frozen=True)
class Transformed:
    """Of what is normal on a transformed scale: the quantiles of each lead are its quantiles brought back.

    powers: [series], of Box and Cox (1964), see `transforms`. A sum of leads has no such rule and is taken over paths.
    """

    of: Normal
    powers: Floats

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        powers = self.powers[:, None, None]
        if not together:
            return brought_back(self.of.quantiles(p), powers)
        paths = brought_back(normal_paths(self.of), powers)
        return path_quantiles(np.cumsum(paths, axis=1), p)


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


def normal_paths(of: Normal, n_paths: int = N_PATHS) -> Floats:
    """Paths [series, H, N] of a normal distribution, the same numbers for all series.

    The value of each lead is a multiple of the sum so far plus something new, so that the variance of every lead and of
    every sum of leads is as given.
    """
    n, horizon = of.mean.shape
    z = np.random.default_rng(20264).standard_normal((horizon, n_paths))
    deviations = np.empty((n, horizon, n_paths))
    deviations[:, 0] = np.sqrt(of.each[:, :1]) * z[0]
    summed = deviations[:, 0].copy()
    for h in range(1, horizon):
        before, now = of.together[:, h - 1], of.together[:, h]
        covariance = 0.5 * (now - before - of.each[:, h])
        slope = np.divide(covariance, before, out=np.zeros(n), where=before > 0)
        rest = np.sqrt(np.maximum(of.each[:, h] - slope * covariance, 0.0))
        deviations[:, h] = slope[:, None] * summed + rest[:, None] * z[h]
        summed += deviations[:, h]
    return of.mean[:, :, None] + deviations


@dataclass(frozen=True)
class Counts:
    """Whole numbers: negative binomial with mean [series, H] and size [series], Poisson where the size is infinite.

    variance = mean + mean^2 / size. The sum of leads with the same mean is negative binomial again, its size theirs
    added; leads differ little, so the sum takes the size that gives the variance of the sum.
    """

    mean: Floats
    size: Floats

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


def _count_quantile(q: float, mean: Floats, size: Floats) -> Floats:
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

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        found: Floats | None = None
        for rows, part in self.parts:
            own = part.quantiles(p, together)
            if found is None:
                found = np.full((self.n_series, *own.shape[1:]), np.nan)
            found[rows] = own
        assert found is not None, "a batch has at least one part"
        return found


def path_quantiles(paths: NDArray[np.float32] | Floats, p: Floats) -> Floats:
    """Quantiles over the last axis, [series, Q, H] from paths [series, H, N], which are sorted in place.

    The k-th of N sorted paths is the k/(N + 1) quantile, with straight lines between. One sort serves all quantiles.
    """
    paths.sort(axis=-1)
    n = paths.shape[-1]
    place = np.clip(p * (n + 1) - 1.0, 0.0, n - 1.0)
    low = np.floor(place).astype(np.int64)
    high = np.minimum(low + 1, n - 1)
    part = (place - low).astype(np.float64)
    found = paths[..., low] * (1.0 - part) + paths[..., high] * part
    return np.ascontiguousarray(np.moveaxis(found, -1, 1), dtype=np.float64)
