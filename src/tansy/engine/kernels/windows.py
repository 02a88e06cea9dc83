"""Errors of a backtest, gathered node by node."""

import math

from numba import njit

from tansy.engine.kernels.options import AS_WRITTEN, KERNEL

N_SUMS = 10
CELLS, ABSOLUTE, SIGNED, VOLUME, SQUARES, N_SQUARES, SHARED, OWN, AGAINST, N_BOTH = range(N_SUMS)


@njit(**KERNEL | AS_WRITTEN)
def losses_by_then(mean, came, first, seen, scale, absolute, out):
    """Mean over the leads that had come of (y - f)^2 / scale or, where absolute is true, of |y - f| / sqrt(scale).

    mean: [methods, origins, series, H], forecasts. came: [series, columns], values as they were judged then, of which
    `seen` had come; column first[o] is the first after origin o. scale: [series, origins]; where it is zero or unknown
    the origin is left out: unscaled it would outvote all others. out: [series, methods, origins to judge, the oldest
    ones], NaN where nothing had come.
    """
    n, n_methods, n_origins = out.shape
    horizon = mean.shape[3]
    for s in range(n):
        for o in range(n_origins):
            own = math.sqrt(scale[s, o]) if absolute else scale[s, o]
            leads = min(horizon, seen - first[o])
            for j in range(n_methods):
                out[s, j, o] = math.nan
                if leads <= 0 or not own > 0.0:
                    continue
                total, count = 0.0, 0
                for h in range(leads):
                    e = came[s, first[o] + h] - mean[j, o, s, h]
                    if not math.isnan(e):
                        total += abs(e) if absolute else e * e
                        count += 1
                if count > 0:
                    out[s, j, o] = total / count / own


@njit(**KERNEL | AS_WRITTEN)
def error_sums(forecast, benchmark, actual, scale, sums, origins):
    """Add what every accuracy measure is made of, per node and lead.

    forecast, benchmark, actual: [nodes, origins, H], NaN where there is none. scale: [nodes, origins]. sums: [nodes, H,
    N_SUMS], added to: CELLS with an error, their ABSOLUTE and SIGNED errors and VOLUME; SQUARES e^2 / scale over the
    N_SQUARES cells with a scale; cells SHARED with the benchmark, and over the N_BOTH of these with a scale OWN squares
    and those AGAINST which they are held. origins: [nodes], added to: those with an error.
    """
    n, n_origins, horizon = actual.shape
    for i in range(n):
        for o in range(n_origins):
            usable = scale[i, o] > 0.0
            some = False
            for h in range(horizon):
                y = actual[i, o, h]
                e = y - forecast[i, o, h]
                if math.isnan(e):
                    continue
                some = True
                own = sums[i, h]
                own[CELLS] += 1.0
                own[ABSOLUTE] += abs(e)
                own[SIGNED] += e
                own[VOLUME] += abs(y)
                if usable:
                    own[SQUARES] += e * e / scale[i, o]
                    own[N_SQUARES] += 1.0
                b = y - benchmark[i, o, h]
                if math.isnan(b):
                    continue
                own[SHARED] += 1.0
                if usable:
                    own[OWN] += e * e / scale[i, o]
                    own[AGAINST] += b * b / scale[i, o]
                    own[N_BOTH] += 1.0
            if some:
                origins[i] += 1.0
