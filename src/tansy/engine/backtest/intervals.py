"""Bands from what the reconciled backtest forecasts missed.

A series has a handful of origins, too few to read its own 95 % quantile off them. So every error is split into five
factors, and only what is common is pooled:

    error = (one-step sigma of the fit at its origin)
          x (forecast / usual volume of the series) to a power of 0, 1/2 or 1, common to a group of levels
          x (growth with the lead, common to the group)
          x (how much this series exceeds its group, shrunk towards 1)
          x (a shape, common to the group)

The second factor widens the bands in season and narrows them out of it: counts spread with the root of their mean,
promotions and weather in proportion to it. The power is the one with the least interval score. The shape's empirical
quantiles give the bands: no normal distribution is assumed, but where nothing could be tested at all. Powers and
coverage are judged with bands that were made without the origin they are judged on.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri

from tansy.engine.backtest.measures import interval_score, nan_mean

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_PRIOR_ERRORS = 26.0  # a series' own factor counts as much as its group's once it has this many errors
_POWERS = (0.0, 0.5, 1.0)
_LEAST_RELATIVE = 0.05
_FEWEST_NODES = 60  # levels with fewer nodes are pooled with each other


@dataclass(frozen=True)
class Bands:
    """probabilities: [Q]. now: [nodes, Q, H], offsets from the published mean. at_origin: [nodes, origins, Q, H],
    offsets from the backtest's mean, each origin's made from the other origins."""

    probabilities: Floats
    now: Floats
    at_origin: Floats


def probabilities(levels: list[float]) -> Floats:
    """Lower and upper probabilities of central bands, ascending: [80, 95] -> 0.025, 0.1, 0.9, 0.975."""
    lower = sorted((100.0 - level) / 200.0 for level in levels)
    return np.round(np.array(lower + [1.0 - p for p in reversed(lower)]), 10)


def groups(level_of: Integers, n_levels: int) -> Integers:
    """Group of each node: its level, or one common group for levels with few nodes."""
    sizes = np.bincount(level_of, minlength=n_levels)
    group_of_level = np.where(sizes >= _FEWEST_NODES, np.arange(n_levels), n_levels)
    _, group = np.unique(group_of_level[level_of], return_inverse=True)
    return group


def calibrate(
    errors: Floats, sigma: Floats, sigma_now: Floats, relative: Floats, relative_now: Floats, group: Integers, p: Floats
) -> Bands:
    """Make the bands.

    errors: [nodes, origins, H], actual minus reconciled forecast, NaN where not to be counted. sigma: [nodes, origins]
    and sigma_now: [nodes], one-step sigmas, positive or NaN. relative: [nodes, origins, H] and relative_now:
    [nodes, H], forecast over usual volume, positive; ones where volume says nothing about spread. group: [nodes].
    p: [Q], ascending.
    """
    n_groups = int(group.max()) + 1
    least = np.full(n_groups, np.inf)
    best: Bands | None = None
    for power in _POWERS:
        scale = np.where(sigma > 0.0, sigma, np.nan)[:, :, None] * relative**power
        scale_now = np.nan_to_num(sigma_now)[:, None] * relative_now**power
        bands = _at_power(errors, scale, scale_now, group, p)
        missed = _interval_score(errors, bands.at_origin, p) / np.where(sigma > 0.0, sigma, np.nan)[:, :, None]
        score = np.array([float(nan_mean(missed[group == g])) for g in range(n_groups)])
        better = (score < least)[group]
        if best is None:
            best = bands
        else:
            best = Bands(
                p,
                np.where(better[:, None, None], bands.now, best.now),
                np.where(better[:, None, None, None], bands.at_origin, best.at_origin),
            )
        least = np.fmin(least, score)
    assert best is not None
    return best


def whole_bands(quantiles: Floats, whole: NDArray[np.bool_]) -> Floats:
    """Bands in whole numbers for those who only sell whole units and few of them.

    quantiles: [nodes, ..., Q, H], ascending in Q. whole: [nodes]. A count lies inside a band exactly if it lies inside
    the band drawn in to whole numbers, so that no hit changes. Where none lies inside, the band takes the two around
    it, and every wider band holds at least as much.
    """
    found = quantiles.copy()
    own = found[whole]
    n_bands = own.shape[-2] // 2
    for b in reversed(range(n_bands)):
        low, high = own[..., b, :], own[..., -1 - b, :]
        first, last = np.ceil(low - 1e-9), np.floor(high + 1e-9)
        none = first > last
        first, last = np.where(none, last, first), np.where(none, first, last)
        if b < n_bands - 1:
            first, last = np.minimum(first, own[..., b + 1, :]), np.maximum(last, own[..., -2 - b, :])
        own[..., b, :], own[..., -1 - b, :] = first, last
    found[whole] = own
    return found


def relative_volume(forecast: Floats, usual: Floats) -> Floats:
    """Forecast over usual volume, at least a twentieth; one where the usual volume is not positive.

    forecast: [..., H]; usual: [...].
    """
    usual = np.where(usual > 0.0, usual, np.nan)[..., None]
    ratio = np.maximum(forecast / usual, _LEAST_RELATIVE)
    return np.where(np.isnan(ratio), 1.0, ratio)


def _interval_score(errors: Floats, offsets: Floats, p: Floats) -> Floats:
    """Interval scores of all bands, summed, [nodes, origins, H]; errors against offsets from the same forecast."""
    total = np.zeros_like(errors)
    for b in range(len(p) // 2):
        total += interval_score(errors, offsets[:, :, b], offsets[:, :, -1 - b], float(p[-1 - b] - p[b]))
    return total


def _at_power(errors: Floats, scale: Floats, scale_now: Floats, group: Integers, p: Floats) -> Bands:
    n_nodes, n_origins, horizon = errors.shape
    z = errors / scale
    now = _offsets(z, group, p) * scale_now[:, None, :]
    at_origin = np.empty((n_nodes, n_origins, len(p), horizon))
    for o in range(n_origins):
        others = np.delete(z, o, axis=1) if n_origins > 1 else z
        at_origin[:, o] = _offsets(others, group, p) * np.nan_to_num(scale[:, o])[:, None, :]
    return Bands(p, now, at_origin)


def _offsets(z: Floats, group: Integers, p: Floats) -> Floats:
    """Quantiles of the standardised errors, [nodes, Q, H], from z [nodes, origins, H]."""
    n_nodes, _, horizon = z.shape
    offsets = np.zeros((n_nodes, len(p), horizon))
    for g in range(int(group.max()) + 1):
        inside = group == g
        own = z[inside]
        if not np.isfinite(own).any():
            own = np.where(np.isfinite(z), z, np.nan)  # nothing was tested in this group: all nodes speak for it
        growth = _smooth(np.sqrt(nan_mean(own * own, axis=(0, 1))))
        u = own / growth
        mean_square = nan_mean(u * u)
        capped = np.minimum(u * u, 25.0 * mean_square)
        count = np.isfinite(u).sum(axis=(1, 2))
        total = np.where(np.isfinite(capped), capped, 0.0).sum(axis=(1, 2))
        relative = total / mean_square if mean_square > 0.0 else count
        factor = np.sqrt((relative + _PRIOR_ERRORS) / (count + _PRIOR_ERRORS))
        shape = (u / factor[:, None, None]).ravel()
        shape = shape[np.isfinite(shape)]
        quantiles = np.quantile(shape, p) if len(shape) else ndtri(p)  # nothing was tested anywhere: normal errors
        factors = factor if len(own) == inside.sum() else np.ones(int(inside.sum()))
        offsets[inside] = factors[:, None, None] * quantiles[None, :, None] * growth[None, None, :]
    return offsets


def _smooth(growth: Floats) -> Floats:
    """Running mean over three leads, the first and last as they are; an unknown or zero lead takes the mean of the
    others."""
    usable = growth > 0.0
    filled = np.where(usable, growth, growth[usable].mean() if usable.any() else 1.0)
    smooth = filled.copy()
    smooth[1:-1] = (filled[:-2] + filled[1:-1] + filled[2:]) / 3.0
    return smooth
