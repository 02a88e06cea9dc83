"""The season of a group of series, for its members to share.

A single series shows each week of the year two or three times, a group of hundreds as well, but with a fraction of the
noise. Its season is the history of the group over a centred mean of one year, averaged at the same time of year over
the years, with neighbouring periods weighing in as far as leaving out a year at a time says they should.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tansy.engine.kernels.averages import weighted_means
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]

# How far neighbours weigh in, in weeks; a period always speaks for itself.
_WIDTHS = (0.75, 1.5, 2.5, 4.0, 6.0)
_WEEKS_PER_YEAR = PERIODS_PER_YEAR["W"]


def season_profiles(sources: Floats, timeline: Timeline, horizon: int) -> Floats:
    """Season of each group as a factor about one, [groups, T + H], at every period and lead.

    sources: [groups, T], NaN missing. A group without one year of history, or whose volume is not positive, gets ones.
    """
    n, length = sources.shape
    year = PERIODS_PER_YEAR[timeline.frequency]
    profile = np.ones((n, length + horizon))
    if length <= year:
        return profile
    ratio = _over_yearly_mean(sources, round(year))
    phase = np.mod(np.arange(timeline.first, timeline.first + length + horizon), year)
    years = np.floor_divide(np.arange(timeline.first, timeline.first + length) - timeline.first, year)
    apart = np.abs(phase[:, None] - phase[None, :length])
    apart = np.minimum(apart, year - apart)
    known = np.ascontiguousarray(np.where(np.isfinite(ratio), ratio, np.nan))
    scale = max(year / _WEEKS_PER_YEAR, 1.0)
    other_year = years[:, None] != years[None, :]
    least = np.full(n, np.inf)
    for width in _WIDTHS:
        near = np.maximum(1.0 - apart / max(width * scale, 0.75), 0.0)
        missed = ratio - _averaged(known, near[:length] * other_year)
        judged = np.isfinite(missed)
        error = np.where(judged, missed, 0.0)
        score = np.divide((error**2).sum(axis=1), judged.sum(axis=1), out=np.full(n, np.inf), where=judged.any(axis=1))
        score = np.where(np.isinf(score) & np.isinf(least), 1e300, score)  # one year alone: the narrowest that is known
        found = _averaged(known, near)
        better = (score < least) & np.isfinite(found).all(axis=1)
        profile[better] = found[better]
        least[better] = score[better]
    # of the history, so that no season depends on how far ahead it is asked for
    one_year = profile[:, length - round(year) : length].mean(axis=1, keepdims=True)
    result: Floats = np.where(one_year > 0.0, profile / np.where(one_year > 0.0, one_year, 1.0), 1.0)
    return result


def _averaged(values: Floats, weights: Floats) -> Floats:
    """Weighted means [groups, targets] of values [groups, T]; weights [targets, T]; NaN where nothing weighs."""
    means = np.empty((len(values), len(weights)))
    weighted_means(values, np.ascontiguousarray(weights), means)
    return means


def _over_yearly_mean(sources: Floats, year: int) -> Floats:
    """History over its centred mean of one year, held at both ends and where too little of a year is known: less than
    95 % of it, or than three quarters where no year is known better. NaN where the mean is not positive."""
    length = sources.shape[1]
    seen = np.isfinite(sources)
    window = np.ones(year)
    if year % 2 == 0:  # an even window is centred with half weights at its ends
        window = np.r_[0.5, np.ones(year - 1), 0.5]
    span = len(window)
    if length < span:
        span, window = year, np.ones(year)
    sums = np.cumsum(np.pad(np.where(seen, sources, 0.0), ((0, 0), (1, 0))), axis=1)
    counts = np.cumsum(np.pad(seen.astype(float), ((0, 0), (1, 0))), axis=1)

    def windowed(of: Floats) -> Floats:
        whole = of[:, span:] - of[:, :-span]
        if window[0] == 1.0:
            return whole
        inner = of[:, span - 1 : -1] - of[:, 1 : 2 - span + length]
        result: Floats = 0.5 * (whole + inner)
        return result

    known = windowed(counts)
    enough = known >= np.clip(known.max(axis=1, keepdims=True), 0.75 * year, 0.95 * year)
    mean = np.divide(windowed(sums), known, out=np.full(known.shape, np.nan), where=enough)
    # the last window before each that holds enough; before the first of them, that one
    last = np.maximum.accumulate(np.where(enough, np.arange(known.shape[1]), -1), axis=1)
    held = np.where(last < 0, enough.argmax(axis=1)[:, None], last)
    at = np.clip(np.arange(length) - span // 2, 0, known.shape[1] - 1)
    level = np.take_along_axis(mean, held[:, at], axis=1)
    return np.divide(sources, level, out=np.full(sources.shape, np.nan), where=level > 0)
