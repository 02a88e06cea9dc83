"""Box-Cox transforms: a scale on which swings do not grow with the level (Box, Cox 1964).

x = (y^power - 1) / power, and log y where the power is 0. Powers may differ from series to series.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tansy.engine.reading.numbers import MOST

Floats = NDArray[np.float64]

_NODES, _WEIGHTS = np.polynomial.hermite_e.hermegauss(40)
_TRIED = np.arange(11) / 10.0


def transformed(values: Floats, powers: Floats) -> Floats:
    """values and powers broadcast together. Values are above zero, or zero where the power is not."""
    flat = powers == 0.0
    power = np.where(flat, 1.0, powers)
    return np.where(flat, np.log(np.where(flat, values, 1.0)), (values**power - 1.0) / power)


def brought_back(x: Floats, powers: Floats) -> Floats:
    """The inverse; what lies beyond the end of the scale comes back as zero, and nothing as more than is read as a
    number."""
    flat = powers == 0.0
    power = np.where(flat, 1.0, powers)
    base = np.clip(power * x + 1.0, 0.0, MOST**power)
    return np.where(flat, _exp(np.where(flat, x, 0.0)), base ** (1.0 / power))


def _exp(x: Floats) -> Floats:
    return np.asarray(np.exp(np.minimum(x, np.log(MOST))))


def mean_brought_back(mean: Floats, variance: Floats, powers: Floats) -> Floats:
    """Mean of what is normal on the transformed scale; all broadcast together.

    exp(mean + variance / 2) for logarithms, Gauss-Hermite quadrature with 40 nodes for other powers.
    """
    spread = np.sqrt(variance)[..., None]
    back = brought_back(mean[..., None] + spread * _NODES, powers[..., None])
    by_nodes = back @ (_WEIGHTS / _WEIGHTS.sum())
    flat = powers == 0.0
    return np.where(flat, _exp(np.where(flat, mean + 0.5 * variance, 0.0)), by_nodes)


def steadying_powers(values: Floats, block: int) -> Floats:
    """For each series [n, T] the power from 0 to 1, in tenths, that makes the spread within blocks of `block` periods
    the most nearly the same share of their mean to the power 1 - power (Guerrero 1993); 1 where there are fewer than
    three whole blocks of values above zero."""
    n, length = values.shape
    count = length // block
    if count < 3:
        return np.ones(n)
    cut = values[:, length - count * block :].reshape(n, count, block)
    seen = (~np.isnan(cut)).sum(axis=2)
    whole = seen >= max(2, block // 2)
    total = np.where(np.isnan(cut), 0.0, cut).sum(axis=2)
    mean = np.divide(total, seen, out=np.zeros_like(total), where=whole)
    squares = np.where(np.isnan(cut), 0.0, (cut - mean[:, :, None]) ** 2).sum(axis=2)
    spread = np.sqrt(np.divide(squares, seen - 1, out=np.zeros_like(total), where=whole))
    whole &= mean > 0.0
    enough = whole.sum(axis=1)
    ratio = np.where(whole[None], spread / np.where(whole, mean, 1.0)[None] ** (1.0 - _TRIED[:, None, None]), 0.0)
    centre = ratio.sum(axis=2) / np.maximum(enough, 1)
    around = np.where(whole[None], (ratio - centre[:, :, None]) ** 2, 0.0).sum(axis=2) / np.maximum(enough - 1, 1)
    variation = np.sqrt(around) / np.maximum(centre, 1e-300)
    return np.where(enough >= 3, _TRIED[np.argmin(variation, axis=0)], 1.0)
