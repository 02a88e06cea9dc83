"""How strong trend and season are, and how hard a series is to forecast at all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.panel import filled_inside
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]

_PAIRS = {"D": 3, "W": 3, "4W": 3, "M": 3, "Q": 1, "Y": 0}


@dataclass(frozen=True)
class Strengths:
    """All [series], from 0 to 1, NaN where history is too short. trend, season: 1 - Var(rest) / Var(rest and it), cut
    at 0 (Wang, Smith, Hyndman 2006). entropy: of the normalised periodogram; 1 is noise, which no method can forecast
    (Goerg 2013)."""

    trend: Floats
    season: Floats
    entropy: Floats


def strengths(values: Floats, timeline: Timeline) -> Strengths:
    """Strengths of series [series, periods], NaN missing. Gaps inside are drawn as straight lines first, and what lies
    before the first or after the last value is left out by its weight of zero.

    The trend is a straight line with two bends at the thirds of the history, the season yearly harmonics; both are
    fitted together by least squares. Season needs two years.
    """
    n, length = values.shape
    year = PERIODS_PER_YEAR[timeline.frequency]
    filled = filled_inside(values)
    known = ~np.isnan(filled)
    weight = known.astype(np.float64)
    y = np.where(known, filled, 0.0)
    t = np.arange(length) / max(length - 1, 1)
    trend = np.stack([np.ones(length), t, np.maximum(t - 1 / 3, 0), np.maximum(t - 2 / 3, 0)], axis=1)
    pairs = _PAIRS[timeline.frequency]
    season = timeline.harmonics(pairs, 0) if pairs and length >= 2 * year else np.empty((length, 0))
    x = np.concatenate([trend, season], axis=1)
    k = x.shape[1]
    # normal equations of all series at once; a little on the diagonal keeps short histories solvable
    gram = np.einsum("nt,ti,tj->nij", weight, x, x, optimize=True) + 1e-8 * np.eye(k)
    right = np.einsum("nt,ti->ni", y, x, optimize=True)
    beta = np.linalg.solve(gram, right[..., None])[..., 0]
    parts_trend, parts_season = beta[:, :4] @ trend.T, beta[:, 4:] @ season.T
    rest = y - parts_trend - parts_season
    count = weight.sum(axis=1)

    def variance(part: Floats) -> Floats:
        mean = (weight * part).sum(axis=1) / np.maximum(count, 1)
        return np.asarray((weight * (part - mean[:, None]) ** 2).sum(axis=1) / np.maximum(count, 1))

    noise = variance(rest)

    def strength(part: Floats, needed: float) -> Floats:
        whole = variance(rest + part)
        with np.errstate(divide="ignore", invalid="ignore"):
            share = np.where(whole > 1e-12, np.maximum(0.0, 1.0 - noise / whole), 0.0)
        return np.where(count >= needed, share, np.nan)

    return Strengths(
        trend=strength(parts_trend, k + 4),
        season=strength(parts_season, 2 * year) if season.shape[1] else np.full(n, np.nan),
        entropy=_entropy(y, weight, count),
    )


def _entropy(y: Floats, weight: Floats, count: Floats) -> Floats:
    mean = (weight * y).sum(axis=1) / np.maximum(count, 1)
    spectrum = np.abs(np.fft.rfft(weight * (y - mean[:, None]), axis=1)[:, 1:]) ** 2
    total = spectrum.sum(axis=1, keepdims=True)
    with np.errstate(divide="ignore", invalid="ignore"):
        p = spectrum / total
        found = -np.where(p > 0, p * np.log(p), 0.0).sum(axis=1) / np.log(spectrum.shape[1])
    return np.where((count >= 8) & (total[:, 0] > 1e-12), found, np.nan)
