"""How often a series is to be differenced: the strength of its season, and a test of level stationarity."""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, KERNEL, PART

STRONG_SEASON = 0.64
LEVEL_AT_5_PERCENT = 0.463


@njit(**PART)
def season_strength(y, m):
    """max(0, 1 - Var(rest) / Var(season + rest)) of a classical decomposition (Wang, Smith, Hyndman 2006); 0 where
    there are fewer than two seasons. y: [n], complete.

    The trend is the centred average over m periods (its ends weigh half where m is even); the season is the mean of
    what is left at each of its m places.
    """
    n = len(y)
    if m < 2 or n < 2 * m + 1:
        return 0.0
    half = m // 2
    first = half
    last = n - half
    total = 0.0
    for t in range(2 * half + 1):
        total += y[t]
    count = last - first
    rest = np.empty(count)
    sums = np.zeros(m)
    counts = np.zeros(m)
    for i in range(count):
        t = first + i
        trend = total / m if m % 2 == 1 else (total - 0.5 * (y[t - half] + y[t + half])) / m
        rest[i] = y[t] - trend
        sums[t % m] += rest[i]
        counts[t % m] += 1.0
        if t + half + 1 < n:
            total += y[t + half + 1] - y[t - half]
    together = _variance(rest)
    if not together > 0.0:
        return 0.0
    for i in range(count):
        place = (first + i) % m
        rest[i] -= sums[place] / counts[place]
    # each of the m means takes a share of the noise with it: m of count degrees of freedom
    unbiased = _variance(rest) * count / max(count - m, 1)
    return max(0.0, 1.0 - unbiased / together)


@njit(**BORROWING)
def _variance(x):
    mean = x.mean()
    total = 0.0
    for value in x:
        total += (value - mean) ** 2
    return total / len(x)


@njit(**BORROWING)
def level_statistic(y):
    """Statistic of level stationarity (Kwiatkowski, Phillips, Schmidt, Shin 1992) with Bartlett weights up to lag
    3 sqrt(n) / 13; above `LEVEL_AT_5_PERCENT` the series is to be differenced. y: [n], complete."""
    n = len(y)
    mean = y.mean()
    lags = int(3.0 * math.sqrt(n) / 13.0)
    total = 0.0
    sums = 0.0
    for value in y:
        total += value - mean
        sums += total * total
    variance = 0.0
    for k in range(lags + 1):
        product = 0.0
        for t in range(k, n):
            product += (y[t] - mean) * (y[t - k] - mean)
        variance += product / n * (1.0 if k == 0 else 2.0 * (1.0 - k / (lags + 1.0)))
    if not variance > 1e-14 * (mean * mean + 1e-300):
        return 0.0
    return sums / (n * n * variance)


@njit(**KERNEL)
def choose_differences(y, m, most, most_seasonal, found):
    """d and D, with found [5] written: season strength, then the level statistic at d = 0, 1, 2 and its last d.

    y: [T], NaN missing; gaps are bridged by straight lines for these tests alone.
    """
    n = 0
    filled = np.empty(len(y))
    last = -1
    for t in range(len(y)):
        if math.isnan(y[t]):
            continue
        if last >= 0:
            for i in range(last + 1, t):
                filled[n] = y[last] + (y[t] - y[last]) * (i - last) / (t - last)
                n += 1
        filled[n] = y[t]
        n += 1
        last = t
    w = filled[:n]
    found[:] = math.nan
    found[0] = season_strength(w, m)
    seasonal_d = 1 if most_seasonal > 0 and found[0] > STRONG_SEASON and n > 2 * m + 10 else 0
    if seasonal_d == 1:
        w = w[m:] - w[:-m]
    d = 0
    while True:
        found[1 + d] = level_statistic(w) if len(w) > 5 else 0.0
        if d >= most or not found[1 + d] > LEVEL_AT_5_PERCENT or len(w) < 10:
            break
        w = w[1:] - w[:-1]
        d += 1
    return d, seasonal_d
