"""How strong trend and season are, and how hard a series is to forecast at all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.panel import filled_inside
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]

_CHUNK = 1000  # series; bounds the memory of their design matrices
_LEAST = 12  # values that a trend with two bends needs
_PAIRS = {"D": 3, "W": 3, "4W": 3, "M": 3, "Q": 1, "Y": 0, "N": 0}


@dataclass(frozen=True)
class Strengths:
    """All [series], from 0 to 1, NaN where history is too short. trend, season: 1 - Var(rest) / Var(rest and it), cut
    at 0 (Wang, Smith, Hyndman 2006). entropy: of the normalised periodogram; 1 is noise, which no method can forecast
    (Goerg 2013)."""

    trend: Floats
    season: Floats
    entropy: Floats


def strengths(values: Floats, timeline: Timeline) -> Strengths:
    """Strengths of series [series, periods], NaN missing. Gaps inside are drawn as straight lines first; what lies
    before the first or after the last value has no weight.

    The trend is a straight line with two bends at the thirds of a series' own history, the season yearly harmonics;
    both are fitted together by least squares. Only series with two years of history have a season.
    """
    n, length = values.shape
    enough = 2 * PERIODS_PER_YEAR[timeline.frequency]
    pairs = _PAIRS[timeline.frequency]
    filled = filled_inside(values)
    count = (~np.isnan(filled)).sum(axis=1)
    trend, season, entropy = (np.full(n, np.nan) for _ in range(3))
    for seasonal in (True, False):
        of_kind = np.nonzero((count >= enough) & (pairs > 0) if seasonal else (count < enough) | (pairs == 0))[0]
        waves = timeline.harmonics(pairs, 0) if seasonal else np.empty((length, 0))
        for start in range(0, len(of_kind), _CHUNK):
            at = of_kind[start : start + _CHUNK]
            trend[at], found, entropy[at] = _of_chunk(filled[at], waves)
            if seasonal:
                season[at] = found
    return Strengths(trend, season, entropy)


def _of_chunk(filled: Floats, waves: Floats) -> tuple[Floats, Floats, Floats]:
    known = ~np.isnan(filled)
    weight = known.astype(np.float64)
    y = np.where(known, filled, 0.0)
    count = weight.sum(axis=1)
    length = filled.shape[1]
    first = np.argmax(known, axis=1)
    last = length - 1 - np.argmax(known[:, ::-1], axis=1)
    whole: NDArray[np.bool_] = np.asarray(known.all(axis=1))
    part_trend, part_season = np.empty_like(y), np.empty_like(y)
    for own in (np.nonzero(whole)[0][:1], np.nonzero(~whole)[0]):
        if not len(own):
            continue
        # histories without a gap stand on the same bends and waves
        rows = np.nonzero(whole)[0] if whole[own[0]] else own
        t = (np.arange(length) - first[own, None]) / np.maximum(last - first, 1)[own, None]
        bends = np.stack([np.ones_like(t), t, np.maximum(t - 1 / 3, 0.0), np.maximum(t - 2 / 3, 0.0)], axis=2)
        x = np.concatenate([bends, np.broadcast_to(waves, (len(t), *waves.shape))], axis=2) * weight[own, :, None]
        # a little on the diagonal keeps short histories solvable
        gram = np.matmul(x.transpose(0, 2, 1), x) + 1e-6 * np.eye(x.shape[2])
        if whole[own[0]]:
            beta = np.linalg.solve(gram[0], x[0].T @ y[rows].T).T
            part_trend[rows], part_season[rows] = beta[:, :4] @ x[0, :, :4].T, beta[:, 4:] @ x[0, :, 4:].T
        else:
            beta = np.linalg.solve(gram, np.matmul(x.transpose(0, 2, 1), y[rows, :, None]))[..., 0]
            part_trend[rows] = np.einsum("ntk,nk->nt", x[:, :, :4], beta[:, :4])
            part_season[rows] = np.einsum("ntk,nk->nt", x[:, :, 4:], beta[:, 4:])
    rest = y - part_trend - part_season

    def variance(part: Floats) -> Floats:
        mean = (weight * part).sum(axis=1) / np.maximum(count, 1)
        return np.asarray((weight * (part - mean[:, None]) ** 2).sum(axis=1) / np.maximum(count, 1))

    noise = variance(rest)

    def strength(part: Floats) -> Floats:
        both = variance(rest + part)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(both > 1e-12, np.maximum(0.0, 1.0 - noise / both), 0.0)

    trend = np.where(count >= _LEAST, strength(part_trend), np.nan)
    return trend, strength(part_season), _entropy(y, weight, count)


def _entropy(y: Floats, weight: Floats, count: Floats) -> Floats:
    mean = (weight * y).sum(axis=1) / np.maximum(count, 1)
    spectrum = np.abs(np.fft.rfft(weight * (y - mean[:, None]), axis=1)[:, 1:]) ** 2
    total = spectrum.sum(axis=1, keepdims=True)
    with np.errstate(divide="ignore", invalid="ignore"):
        p = spectrum / total
        found = -np.where(p > 0, p * np.log(p), 0.0).sum(axis=1) / np.log(spectrum.shape[1])
    return np.where((count >= 8) & (total[:, 0] > 1e-12), found, np.nan)
