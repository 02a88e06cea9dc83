"""What every value was to be expected to be, had nothing odd happened in its own period.

A value is expected to be level x factors. The level is the series' own, over the periods around. A factor is what the
siblings did in the same period: all series of the same product, say, or of the same group in the same region. Where a
season, a warm week or a promotion lifts all siblings, it lifts the expectation, and is not odd. A series with few
siblings gets its season from the same part of other years instead. Every estimate leaves out the value that it is to
judge.

Values scatter around their expectation mu as counts do, with variance mu + c mu^2 (negative binomial; c, the
dispersion, per series). Estimates are quasi-likelihood ones (McCullagh, Nelder 1989, ch. 9): a value counts with weight
1 / (1 + c mu) per unit of mu. The robust way starts from the median and the median absolute deviation and then clips
values at five standard deviations, as Huber's estimate of location does, until the estimates settle.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray

from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]
Integers = NDArray[np.int64]

_PASSES = 5
_CLIP = 5.0  # standard deviations
_POOL_PRIOR = 5.0  # siblings' weight, in sales, with which a factor is drawn towards 1
_LEVEL_PRIOR = 3.0  # periods of the overall level with which a local level is drawn towards it
_DISPERSION_PRIOR = 10.0  # full periods with which a dispersion is drawn towards that of all series
_HALF_A_SALE = 0.5  # what is added to the sales around (Jeffreys' prior of a rate), so that no level is zero
_FEW_SIBLINGS = 8.0
_SEASON_PRIOR = 2.0
_SURPRISE = 7.0  # -log probability of a zero that is more likely a stock-out than demand
_SMALL = 1e-9


@dataclass(frozen=True)
class Expectation:
    """mean, doubt: [series, periods], the expected value and the relative variance of that expectation itself.
    dispersion: [series]. unit: [series], what one sale counts; values / unit scatter like counts.
    factor: [series, periods], season and all else that siblings share. sold_out: zeros too unlikely to be demand."""

    mean: Floats
    doubt: Floats
    dispersion: Floats
    unit: Floats
    factor: Floats
    sold_out: Booleans

    def spread(self) -> Floats:
        """Standard deviation of every value, [series, periods], in the values' own unit."""
        mu = self.mean / self.unit[:, None]
        return np.sqrt(mu + (self.dispersion[:, None] + self.doubt) * mu * mu) * self.unit[:, None]


def expect(
    values: Floats,
    timeline: Timeline,
    pools: list[Integers],
    explained: list[Booleans] | None = None,
    robust: bool = True,
) -> Expectation:
    """Expectation of `values` [series, periods], NaN missing.

    pools: per kind of sibling, the group of each series. explained: per yes/no driver, where it was on; what it does
    is estimated over all series of the first pool and is part of the expectation.
    """
    unit = _unit(values)
    seen = ~np.isnan(values)
    received = np.maximum(np.where(seen, values, 0.0), 0.0) / unit[:, None]
    n, length = values.shape
    year = PERIODS_PER_YEAR[timeline.frequency]
    window = max(4, min(round(0.75 * year), length))
    groups = [_Pool(codes) for codes in pools]
    few = np.ones(n, dtype=bool)
    for pool in groups:
        few &= pool.sizes < _FEW_SIBLINGS
    shares = [np.ones((n, length)) for _ in groups]
    lifts = [np.ones((n, length)) for _ in explained or []]
    season = np.ones((n, length))
    level = _median_level(received, seen) if robust else received.sum(axis=1) / np.maximum(seen.sum(axis=1), 1)
    mean = np.repeat(level[:, None], length, axis=1)
    c = _first_dispersion(received, mean, seen, robust)
    use, y = seen.copy(), received
    if robust:
        y = np.minimum(received, mean + _CLIP * _noise(mean, c))
    factor = season
    doubt = np.zeros((n, length))
    for _ in range(_PASSES):
        factor = season.copy()
        for share in (*shares, *lifts):
            factor *= share
        mean, doubt = _local_level(y, factor, use, c, window)
        for j, pool in enumerate(groups):
            mean /= shares[j]
            sold, due = _weighted(y, mean, use, c)
            due = pool.others(due)
            shares[j] = (pool.others(sold) + _POOL_PRIOR) / (due + _POOL_PRIOR)
            doubt += 1.0 / (due + _POOL_PRIOR)
            mean *= shares[j]
        for j, on in enumerate(explained or []):
            mean /= lifts[j]
            sold, due = _weighted(y, mean, use & on, c)
            whole = (sold.sum() + _POOL_PRIOR) / (due.sum() + _POOL_PRIOR)
            codes = groups[0] if groups else _Pool(np.arange(n))
            sold, due = (codes.others(part).sum(axis=1, keepdims=True) for part in (sold, due))
            lifts[j] = np.where(on, (sold + 2.0 * _POOL_PRIOR * whole) / (due + 2.0 * _POOL_PRIOR), 1.0)
            mean *= lifts[j]
        if few.any() and length >= 1.5 * year:
            mean[few] /= season[few]
            season[few] = _own_season(y[few], mean[few], use[few], c[few], timeline, year)
            mean[few] *= season[few]
        mean = np.maximum(mean, _SMALL)
        surprise = np.log1p(c[:, None] * mean) / c[:, None]
        sold_out = (received == 0.0) & seen & (surprise > _SURPRISE)
        use = seen & ~sold_out
        if robust:
            y = np.where(seen, np.minimum(received, mean + _CLIP * _noise(mean, c)), 0.0)
        c = _dispersion(y, mean, use, c, doubt)
    return Expectation(mean * unit[:, None], doubt, c, unit, factor, sold_out)


def _unit(values: Floats) -> Floats:
    """1 where a series holds whole numbers, else a millionth of its median: then the chance of counts plays no part."""
    with np.errstate(invalid="ignore"):
        broken = ((values % 1.0) > 0.0).any(axis=1)
        typical = _nanmedian(np.where(values > 0.0, values, np.nan))
    return np.where(broken & (typical > 0.0), typical / 1e6, 1.0)


class _Pool:
    """Sums over siblings by a sparse matrix: [groups, series] x [series, periods]."""

    def __init__(self, codes: Integers) -> None:
        self.codes = codes
        n = len(codes)
        n_groups = int(codes.max()) + 1 if n else 0
        self._members = sp.csr_array((np.ones(n), (codes, np.arange(n))), shape=(n_groups, n))
        self.sizes = np.bincount(codes, minlength=n_groups)[codes].astype(np.float64)

    def others(self, parts: Floats) -> Floats:
        """For every series, the sum over its siblings without itself."""
        total: Floats = np.asarray(self._members @ parts)
        return np.maximum(total[self.codes] - parts, 0.0)


def _weighted(y: Floats, mean: Floats, use: Booleans, c: Floats) -> tuple[Floats, Floats]:
    """Values and expectations with their quasi-likelihood weights."""
    weight = use / (1.0 + c[:, None] * mean)
    return y * weight, mean * weight


def _around(parts: Floats, window: int) -> Floats:
    """Sums over the periods up to `window` before and after, the period itself left out."""
    length = parts.shape[1]
    window = min(window, length)
    total = np.zeros((len(parts), length + 1))
    np.cumsum(parts, axis=1, out=total[:, 1:])
    around = -parts
    around[:, : length - window] += total[:, window + 1 :]
    around[:, length - window :] += total[:, -1:]
    around[:, window + 1 :] -= total[:, 1 : length - window]
    return around


def _local_level(y: Floats, factor: Floats, use: Booleans, c: Floats, window: int) -> tuple[Floats, Floats]:
    """Level over the periods around times the factor, and its relative variance."""
    overall = (y * use).sum(axis=1) / np.maximum((factor * use).sum(axis=1), _SMALL)
    weight = use / (1.0 + c[:, None] * overall[:, None] * factor)
    sold, due = y * weight, factor * weight
    usual = sold.sum(axis=1) / np.maximum(due.sum(axis=1), _SMALL)
    prior = _LEVEL_PRIOR * due.sum(axis=1) / np.maximum(use.sum(axis=1), 1)
    around = np.maximum(_around(due, window), 0.0) + prior[:, None] + _SMALL
    level = (np.maximum(_around(sold, window), 0.0) + (usual * prior)[:, None] + _HALF_A_SALE) / around
    return np.maximum(level * factor, _SMALL), 1.0 / np.maximum(around * level, _SMALL)


def _own_season(y: Floats, mean: Floats, use: Booleans, c: Floats, timeline: Timeline, year: float) -> Floats:
    """Factor from the same part of other years, a twenty-fourth of the year before and after included."""
    length = y.shape[1]
    sold, due = _weighted(y, mean, use, c)
    reach = round(year / 24.0) if year > 24.0 else 0
    above, below = np.zeros_like(y), np.zeros_like(y)
    cut = np.zeros((2, len(y), length + 1))
    np.cumsum(sold, axis=1, out=cut[0][:, 1:])
    np.cumsum(due, axis=1, out=cut[1][:, 1:])
    t = np.arange(length)
    for k in range(-int(length // year) - 1, int(length // year) + 2):
        if k == 0:
            continue
        at = t + round(k * year)
        low, high = np.clip(at - reach, 0, length), np.clip(at + reach + 1, 0, length)
        above += cut[0][:, high] - cut[0][:, low]
        below += cut[1][:, high] - cut[1][:, low]
    return np.asarray((above + _SEASON_PRIOR) / (below + _SEASON_PRIOR))


def _noise(mean: Floats, c: Floats) -> Floats:
    """Standard deviation, at least one sale: below that a single sale would be clipped."""
    return np.maximum(np.sqrt(mean + c[:, None] * mean * mean), 1.0)


def _median_level(received: Floats, seen: Booleans) -> Floats:
    """Median of each series, its mean where half of the periods are empty."""
    with np.errstate(all="ignore"):
        median = np.nan_to_num(_nanmedian(np.where(seen, received, np.nan)))
    mean = received.sum(axis=1) / np.maximum(seen.sum(axis=1), 1)
    return np.maximum(np.where(median > 0.0, median, mean), _SMALL)


def _nanmedian(values: Floats) -> Floats:
    """Median of every row without its NaNs, NaN for a row of them; by one sort, many times faster than NumPy's."""
    ordered = np.sort(values, axis=1)
    count = (~np.isnan(values)).sum(axis=1)
    row = np.arange(len(values))
    low, high = np.maximum((count - 1) // 2, 0), count // 2
    high = np.minimum(high, values.shape[1] - 1)
    return np.where(count > 0, 0.5 * (ordered[row, low] + ordered[row, high]), np.nan)


def _first_dispersion(received: Floats, mean: Floats, seen: Booleans, robust: bool) -> Floats:
    """Dispersion from the median absolute deviation (times 1.4826, which makes it a standard deviation for the normal),
    or from the plain variance."""
    error = np.where(seen, received - mean, np.nan)
    if robust:
        variance = (1.4826 * np.nan_to_num(_nanmedian(np.abs(error)))) ** 2
    else:
        variance = np.nan_to_num(np.where(seen, error, 0.0) ** 2).sum(axis=1) / np.maximum(seen.sum(axis=1), 1)
    level = mean[:, 0]
    return np.clip((variance - level) / np.maximum(level * level, _SMALL), 0.05, 2.0)


def _dispersion(y: Floats, mean: Floats, use: Booleans, c: Floats, doubt: Floats) -> Floats:
    """Dispersion by moments, each period weighted by how much it tells, drawn towards that of all series."""
    weight = np.where(use, (mean / (1.0 + c[:, None] * mean)) ** 2, 0.0)
    moment = ((y - mean) ** 2 - mean) / (mean * mean) - doubt
    told, sums = (weight * moment).sum(axis=1), weight.sum(axis=1)
    enough = sums > 1.0
    usual = float(np.clip(np.median(told[enough] / sums[enough]), 1e-5, 2.0)) if enough.any() else 0.15
    prior = _DISPERSION_PRIOR / usual**2
    return np.clip((told + prior * usual) / (sums + prior), 1e-6, 2.0)
