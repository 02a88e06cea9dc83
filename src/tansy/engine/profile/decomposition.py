"""A series taken apart into trend, season and rest, to look at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solveh_banded

Floats = NDArray[np.float64]

_SMOOTHED_FROM = 24  # places of a season from which neighbours are averaged
_WEIGHTS = np.array([1.0, 2.0, 3.0, 2.0, 1.0]) / 9.0
_MOST_ROUNDS = 60
_PLAIN_SPAN = 12  # periods that count as a season where there is none


@dataclass(frozen=True)
class Parts:
    """[T] each: value = trend + season + rest, or trend x season x rest where `multiplied`. rest is NaN where the value
    is missing; all are NaN outside the first and last value."""

    trend: Floats
    season: Floats
    rest: Floats
    multiplied: bool


def decompose(values: Floats, m: int, multiplied: bool = False) -> Parts:
    """Trend, season and rest of one series [T], NaN missing.

    The trend is the smoothest curve near the values (Whittaker 1923): it halves waves of two seasons and passes longer
    ones. The season of a place is the mean of what is left there, over neighbouring places where a season has many.
    Both are found in turn until they stay. No value is lost at the ends. multiplied: of logarithms; values above zero.
    """
    y = np.log(values) if multiplied else values
    known = ~np.isnan(y)
    trend, season = np.full(len(y), np.nan), np.full(len(y), np.nan)
    if known.sum() < 3:
        return Parts(trend, season, np.full(len(y), np.nan), multiplied)
    first, last = int(np.argmax(known)), len(y) - int(np.argmax(known[::-1]))
    own, weight = np.where(known, y, 0.0)[first:last], known[first:last].astype(np.float64)
    seasonal = m > 1 and last - first >= 2 * m
    bands = _penalty(len(own), 2.0 * m if seasonal else 2.0 * _PLAIN_SPAN)
    bands[2] += weight
    place = np.arange(first, last) % m
    by_place = np.zeros(m)
    size = float(np.abs(own).max()) + 1e-300
    for _ in range(_MOST_ROUNDS):
        trend[first:last] = solveh_banded(bands, weight * (own - by_place[place]))
        if not seasonal:
            break
        left = weight * (own - trend[first:last])
        counts = np.bincount(place, weights=weight, minlength=m)
        means = np.bincount(place, weights=left, minlength=m) / np.maximum(counts, 1.0)
        if m >= _SMOOTHED_FROM:
            means = np.convolve(np.r_[means[-2:], means, means[:2]], _WEIGHTS, mode="valid")
        means -= means.mean()
        settled = float(np.abs(means - by_place).max()) < 1e-9 * size
        by_place = means
        if settled:
            break
    season[first:last] = by_place[place]
    rest = y - trend - season
    if multiplied:
        return Parts(np.exp(trend), np.exp(season), np.exp(rest), True)
    return Parts(trend, season, rest, False)


def _penalty(n: int, halved: float) -> Floats:
    """Upper bands [3, n] of lambda D'D, D second differences, with lambda such that a wave of `halved` periods is
    halved: the smoother passes 1 / (1 + lambda (2 sin(pi / period))^4) of it."""
    weight = (2.0 * np.sin(np.pi / halved)) ** -4
    rows = np.zeros((3, n))
    for i, own in enumerate((1.0, -2.0, 1.0)):
        for j, other in enumerate((1.0, -2.0, 1.0)):
            if j >= i:
                # D[t, t + i] D[t, t + j] adds to row t + i, column t + j
                rows[2 - (j - i), j : n - 2 + j] += own * other
    return rows * weight
