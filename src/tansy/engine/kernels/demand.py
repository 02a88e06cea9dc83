"""Figures that tell the kinds of demand apart, for a batch of series."""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, KERNEL, PART

N_FIGURES = 9
FIRST_SALE, LAST_SALE, INTERVAL, VARIATION, EMPTY, SEASON_GAIN, WINDOW, OPENS, LASTS = range(9)

BEGUN, ENDED, OWN, SEEN = range(4)  # rows of ranges: least and most of where in the year sales began and ended

IN_WINDOW = 0.98  # share of the volume that a season's window must hold


@njit(**KERNEL)
def demand_figures(values, sine, cosine, position, bin_of, n_bins, year_of, margin, two_years, figures):
    """Write figures [series, 9] of values [series, T], NaN missing; a figure that is undefined is NaN.

    sine, cosine: [T], one yearly pair. position: [T], share of the year that has passed, 0 to 1. bin_of: [T], part of
    the year, 0 to n_bins - 1. year_of: [T], a count of years.
    margin: bins that a season may shift by. two_years: periods.
    FIRST_SALE, LAST_SALE: positions. INTERVAL: mean number of observed periods from one sale to the next. VARIATION:
    squared coefficient of variation of the sizes of sales. EMPTY: share of periods without a sale since the first.
    SEASON_GAIN: by how much the yearly pair lowers AICc of a constant, given two years. WINDOW: length in bins of the
    one part of the year, at most half of it, that holds 98 % of the volume, in at least two years also each by itself.
    OPENS, LASTS: where in the year anything may be sold, first position and length, both shares of the year: from the
    earliest first sale to the latest last one of the seasons that were seen whole, and as much more at each end as
    these differed there.
    """
    n_series, length = values.shape
    figures[:] = math.nan
    volume = np.empty(n_bins)
    ranges = np.empty((4, 2))
    for s in range(n_series):
        y = values[s]
        first = -1
        last = -1
        for t in range(length):
            if y[t] > 0.0:
                if first < 0:
                    first = t
                last = t
        if first < 0:
            continue
        figures[s, FIRST_SALE] = first
        figures[s, LAST_SALE] = last
        n_sales = 0
        n_seen = 0
        n_until_last = 0
        total = 0.0
        squares = 0.0
        for t in range(first, length):
            if math.isnan(y[t]):
                continue
            n_seen += 1
            if t <= last:
                n_until_last += 1
            if y[t] > 0.0:
                n_sales += 1
                total += y[t]
                squares += y[t] * y[t]
        if n_sales > 1:
            figures[s, INTERVAL] = (n_until_last - 1) / (n_sales - 1)
            mean = total / n_sales
            figures[s, VARIATION] = max(squares / n_sales - mean * mean, 0.0) / (mean * mean)
        figures[s, EMPTY] = 1.0 - n_sales / n_seen
        if n_seen >= two_years:
            figures[s, SEASON_GAIN] = _season_gain(y, sine, cosine, first, n_seen)
        size, opens, lasts = _season_window(y, position, bin_of, n_bins, year_of, margin, volume, ranges)
        figures[s, WINDOW] = size
        figures[s, OPENS] = opens
        figures[s, LASTS] = lasts


@njit(**PART)
def _season_gain(y, sine, cosine, first, n):
    """AICc of a constant less AICc of a constant and one yearly pair, by least squares."""
    sums = np.zeros((4, 4))
    row = np.empty(4)
    for t in range(first, len(y)):
        if math.isnan(y[t]):
            continue
        row[0], row[1], row[2], row[3] = 1.0, sine[t], cosine[t], y[t]
        for i in range(4):
            for j in range(i + 1):
                sums[i, j] += row[i] * row[j]
    plain = 0.0
    for j in range(4):  # Gauss elimination; the last pivot is the sum of squares that is left
        if j == 3:
            break
        if sums[j, j] <= 1e-9 * n:
            return math.nan
        for i in range(j + 1, 4):
            factor = sums[i, j] / sums[j, j]
            for k in range(j + 1, i + 1):
                sums[i, k] -= factor * sums[k, j]
        if j == 0:
            plain = sums[3, 3]
    left = max(sums[3, 3], 1e-12 * plain)
    if plain <= 0.0:
        return 0.0
    penalty = 2.0 * 4 + 2.0 * 4 * 5 / (n - 5) - 2.0 * 2 - 2.0 * 2 * 3 / (n - 3)
    return n * math.log(plain / left) - penalty


@njit(**BORROWING)
def _widen(ranges, row, value):
    ranges[row, 0] = min(ranges[row, 0], value)
    ranges[row, 1] = max(ranges[row, 1], value)


@njit(**BORROWING)
def _season_window(y, position, bin_of, n_bins, year_of, margin, volume, ranges):
    volume[:] = 0.0
    total = 0.0
    for t in range(len(y)):
        if y[t] > 0.0:
            volume[bin_of[t]] += y[t]
            total += y[t]
    best = n_bins
    at = 0
    for start in range(n_bins):
        inside = 0.0
        for size in range(1, n_bins // 2 + 1):
            inside += volume[(start + size - 1) % n_bins]
            if inside >= IN_WINDOW * total:
                if size < best:
                    best = size
                    at = start
                break
    if best > n_bins // 2:
        return math.nan, math.nan, math.nan
    # seasons are counted from the middle of the part of the year without sales, so that none is cut in two
    cut = (at + best + (n_bins - best) // 2) % n_bins
    zone = ((at - margin - cut) % n_bins) / n_bins  # from the cut to where sales of a season are looked for
    width = (best + 2 * margin) / n_bins
    # of the seasons seen whole: least and most of where sales began, and of where they ended
    for i in range(4):
        ranges[i, 0], ranges[i, 1] = math.inf, -math.inf
    n_seasons = 0
    season = -1
    held = 0.0
    whole = 0.0
    for t in range(len(y) + 1):
        this = year_of[t] - (1 if bin_of[t] < cut else 0) if t < len(y) else -2
        if this != season:
            if whole > 0.0 and held >= IN_WINDOW * whole:
                n_seasons += 1
                if ranges[SEEN, 0] <= zone:
                    _widen(ranges, BEGUN, ranges[OWN, 0])
                if ranges[SEEN, 1] >= zone + width:
                    _widen(ranges, ENDED, ranges[OWN, 1])
            season = this
            held = 0.0
            whole = 0.0
            for i in range(OWN, SEEN + 1):
                ranges[i, 0], ranges[i, 1] = math.inf, -math.inf
        if t == len(y) or math.isnan(y[t]):
            continue
        into = (position[t] - cut / n_bins) % 1.0
        _widen(ranges, SEEN, into)
        if y[t] > 0.0:
            whole += y[t]
            if (bin_of[t] - (at - margin)) % n_bins < best + 2 * margin:
                held += y[t]
                _widen(ranges, OWN, into)
    if n_seasons < 2:
        return math.nan, math.nan, math.nan
    first, last = zone, zone + width
    if math.isfinite(ranges[BEGUN, 0]):
        first = max(first, 2.0 * ranges[BEGUN, 0] - ranges[BEGUN, 1])
    if math.isfinite(ranges[ENDED, 0]):
        last = min(last, 2.0 * ranges[ENDED, 1] - ranges[ENDED, 0])
    return float(best), (cut / n_bins + first) % 1.0, last - first
