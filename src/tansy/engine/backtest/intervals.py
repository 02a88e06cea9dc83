"""Bands from what the reconciled backtest forecasts missed.

A series has a handful of origins, too few to read its own 95 % quantile off them. So every error is split into four
factors, and only what is common is pooled:

    error = (one-step sigma of the fit at its origin) x (growth with the lead, common to a group of levels)
          x (how much this series exceeds its group, shrunk towards 1) x (a shape, common to the group)

The shape's empirical quantiles give the bands: no normal distribution is assumed. Coverage is reported with bands that
were made without the origin they are judged on.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.measures import nan_mean

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_PRIOR_ERRORS = 26.0  # a series' own factor counts as much as its group's once it has this many errors
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


def calibrate(errors: Floats, sigma: Floats, sigma_now: Floats, group: Integers, p: Floats) -> Bands:
    """Make the bands.

    errors: [nodes, origins, H], actual minus reconciled forecast, NaN where not to be counted. sigma: [nodes, origins]
    and sigma_now: [nodes], one-step sigmas, positive or NaN. group: [nodes]. p: [Q], ascending.
    """
    n_nodes, n_origins, _ = errors.shape
    z = errors / np.where(sigma > 0.0, sigma, np.nan)[:, :, None]
    now = _offsets(z, group, p) * np.nan_to_num(sigma_now)[:, None, None]
    at_origin = np.empty((n_nodes, n_origins, len(p), errors.shape[2]))
    for o in range(n_origins):
        others = np.delete(z, o, axis=1) if n_origins > 1 else z
        at_origin[:, o] = _offsets(others, group, p) * np.nan_to_num(sigma[:, o])[:, None, None]
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
        factor = np.sqrt((total / mean_square + _PRIOR_ERRORS) / (count + _PRIOR_ERRORS))
        shape = (u / factor[:, None, None]).ravel()
        shape = shape[np.isfinite(shape)]
        quantiles = np.quantile(shape, p) if len(shape) else np.zeros(len(p))
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
