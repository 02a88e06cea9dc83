"""A series to look at before any method: differences, correlation with its past, years against each other, parts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tansy.engine.errors import TansyError
from tansy.engine.kernels.differencing import LEVEL_AT_5_PERCENT, STRONG_SEASON, choose_differences
from tansy.engine.methods.fits import Floats
from tansy.engine.profile.correlation import NOISE_95, autocorrelations, partial_autocorrelations
from tansy.engine.profile.decomposition import Parts, decompose
from tansy.engine.timeline import Timeline, first_day

MOST_LAGS = 160


class LookError(TansyError):
    """What was asked to be shown cannot be."""


@dataclass(frozen=True)
class Years:
    """One row per place in the year, one column per year: places, years, values [places, years] (NaN none), and the
    mean over the years of each place [places]. what: the name of a place."""

    what: str
    places: list[str]
    years: list[int]
    values: Floats
    usual: Floats


@dataclass(frozen=True)
class Look:
    """shown: [T], differenced as asked, NaN where there is none. acf, pacf: lags 1, 2, ...; noise: 95 % band of both.
    years: none for yearly data. advice: sentences about differencing."""

    shown: Floats
    acf: Floats
    pacf: Floats
    noise: float
    years: Years | None
    parts: Parts
    advice: list[str]


def look(values: Floats, timeline: Timeline, d: int = 0, seasonal_d: int = 0, logs: bool = False) -> Look:
    """values: [T], NaN missing. d, seasonal_d: differences. logs: of logarithms, with parts that multiply.

    Raises LookError where logarithms or a seasonal difference are asked of a series that has none.
    """
    m = timeline.season_length
    if logs and not (np.nan_to_num(values, nan=1.0) > 0.0).all():
        raise LookError("Logarithms need values above zero; this series has others.")
    if seasonal_d and (m < 2 or len(values) <= m):
        raise LookError("A seasonal difference needs more than one season of history.")
    shown = np.log(values) if logs else values.astype(np.float64)
    for lag in [m] * seasonal_d + [1] * d:
        shown = np.concatenate([np.full(min(lag, len(shown)), np.nan), shown[lag:] - shown[:-lag]])
    n = int((~np.isnan(shown)).sum())
    lags = max(1, min(MOST_LAGS, max(24, 2 * m + 2), n - 2))
    r = autocorrelations(shown, lags)
    return Look(
        shown, r, partial_autocorrelations(r), float(NOISE_95 / np.sqrt(max(n, 1))), years(values, timeline),
        decompose(values, m, logs), _advice(np.log(values) if logs else values, m),
    )  # fmt: skip


def _advice(values: Floats, m: int) -> list[str]:
    """What the tests of `arima(best)` say about differencing."""
    found = np.empty(5)
    if (~np.isnan(values)).sum() < 10:
        return ["Fewer than ten values: too few to tell whether to difference."]
    d, seasonal_d = choose_differences(np.ascontiguousarray(values[np.argmax(~np.isnan(values)) :]), m, 2, 1, found)
    says = []
    if m > 1:
        verdict = f"above {STRONG_SEASON}, so difference at lag {m}" if seasonal_d else (
            f"not above {STRONG_SEASON}, so no difference at lag {m}"
        )  # fmt: skip
        says.append(f"Season strength {found[0]:.2f}: {verdict}.")
    levels = [f"{value:.2f}" for value in found[1:4] if not np.isnan(value)]
    after = " after the seasonal difference" if seasonal_d else ""
    verdict = {0: "the level stays, no difference", 1: "the level wanders, one difference", 2: "two differences"}[d]
    says.append(
        f"Level statistic{after} {', then '.join(levels)} (the level wanders above {LEVEL_AT_5_PERCENT}): {verdict}."
    )
    return says


_PLACES = {"W": ("week", 53), "4W": ("four weeks", 14), "M": ("month", 12), "Q": ("quarter", 4), "D": ("month", 12)}
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def years(values: Floats, timeline: Timeline) -> Years | None:
    """Values by place in the year and year; of daily data the mean of each month, so that one that has only begun is
    not small for that. None for yearly data."""
    frequency = timeline.frequency
    if frequency not in _PLACES:
        return None
    what, n_places = _PLACES[frequency]
    days = [first_day(number, frequency) for number in range(timeline.first, timeline.last + 1)]
    if frequency in ("W", "4W"):
        calendar = [day.isocalendar() for day in days]
        year = np.array([one.year for one in calendar])
        place = np.array([(one.week - 1) // (1 if frequency == "W" else 4) for one in calendar])
    else:
        year = np.array([day.year for day in days])
        place = np.array([(day.month - 1) // (3 if frequency == "Q" else 1) for day in days])
    first, count = int(year.min()), int(year.max() - year.min()) + 1
    cell = place * count + (year - first)
    known = ~np.isnan(values)
    total = np.bincount(cell[known], weights=values[known], minlength=n_places * count)
    seen = np.bincount(cell[known], minlength=n_places * count)
    mean = np.divide(total, seen, out=np.full(len(total), np.nan), where=seen > 0)
    table = mean.reshape(n_places, count)
    some = ~np.isnan(table)
    usual = np.divide(np.nansum(table, axis=1), some.sum(axis=1), out=np.full(n_places, np.nan), where=some.any(axis=1))
    kept = some.any(axis=1)
    names = list(_MONTHS) if what == "month" else [f"{i + 1}" for i in range(n_places)]
    return Years(
        what, [names[i] for i in np.nonzero(kept)[0].tolist()],
        list(range(first, first + count)), table[kept], usual[kept],
    )  # fmt: skip
