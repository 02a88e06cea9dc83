"""Periods and seasons.

A period is an integer: the number of days, ISO weeks, months, quarters or years since a fixed start. Counting whole
periods is what keeps them from drifting: the week after 2026-W53 is 2027-W01, and one year later is 52 or 53 weeks on,
as the calendar has it.
"""

from __future__ import annotations

import itertools
import math
import re
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import FileError

_EPOCH = date(1970, 1, 1)
_WEEK_ZERO = date(1969, 12, 29)  # the Monday of the ISO week that holds 1970-01-01
_SERIAL_ZERO = date(1899, 12, 30)  # day 0 of the serial numbers of spreadsheets
_SERIALS = range(20_000, 80_000)  # 1954 to 2119: other numbers of five digits are no dates

MOST_PERIODS = 20_000
"""More than any history, season, window or horizon has: numbers beyond it are slips, and would only eat memory."""

FREQUENCIES = ("D", "W", "4W", "M", "Q", "Y")
"""Days, weeks, four weeks, months, quarters, years."""

SEASON_LENGTH = {"D": 7, "W": 52, "4W": 13, "M": 12, "Q": 4, "Y": 1}
"""Periods in the season that a planner means by default."""

PERIODS_PER_YEAR = {"D": 365.25, "W": 365.25 / 7, "4W": 365.25 / 28, "M": 12.0, "Q": 4.0, "Y": 1.0}
"""Length of the year in periods, for yearly harmonics (`methods.md`)."""

NOUN = {"D": "day", "W": "week", "4W": "four weeks", "M": "month", "Q": "quarter", "Y": "year"}

_PATTERNS: tuple[tuple[str, re.Pattern[str]], ...] = (
    ("four-weeks", re.compile(r"(\d{4})-W(\d{2})/P4W")),
    ("week", re.compile(r"(\d{4})-?[Ww](\d{1,2})")),
    ("quarter", re.compile(r"(\d{4})[- ]?[Qq]([1-4])")),
    ("date", re.compile(r"(\d{4})-(\d{1,2})-(\d{1,2})(?:[T ]00:00(?::00(?:\.0+)?)?)?")),
    ("month", re.compile(r"(\d{4})-(\d{1,2})")),
    ("year", re.compile(r"(\d{4})")),
    ("serial", re.compile(r"(\d{5})(?:\.0+)?")),
    ("local-date", re.compile(r"(\d{1,2})[./-](\d{1,2})[./-](\d{4})")),
)

DATE_FORMS = ("date", "local-date", "serial")
"""Ways of writing a day, which may stand for any period that holds it."""

FORM_NAMES = {
    "four-weeks": "periods of four weeks such as 2025-W05/P4W",
    "week": "ISO weeks such as 2025-W07",
    "quarter": "quarters such as 2025-Q2",
    "date": "dates such as 2025-03-31",
    "month": "months such as 2025-03",
    "year": "years such as 2025",
    "serial": "serial day numbers of a spreadsheet such as 45747",
    "local-date": "dates such as 31/03/2025",
}


def form_of(text: str) -> str | None:
    """Which way of writing a period `text` follows, or None."""
    stripped = text.strip()
    form = next((form for form, pattern in _PATTERNS if pattern.fullmatch(stripped)), None)
    return None if form == "serial" and int(stripped[:5]) not in _SERIALS else form


def read_date(text: str, form: str, day_first: bool = True) -> date | None:
    """First day of the period that `text` names, or None where it names none (2025-W53, 2025-02-30)."""
    pattern = dict(_PATTERNS)[form]
    match = pattern.fullmatch(text.strip())
    if match is None:
        return None
    n = [int(group) for group in match.groups()]
    try:
        if form in ("week", "four-weeks"):
            return date.fromisocalendar(n[0], n[1], 1)
        if form == "quarter":
            return date(n[0], 3 * n[1] - 2, 1)
        if form == "serial":
            return _SERIAL_ZERO + timedelta(days=n[0])
        if form == "date":
            return date(n[0], n[1], n[2])
        if form == "month":
            return date(n[0], n[1], 1)
        if form == "year":
            return date(n[0], 1, 1)
        return date(n[2], n[1], n[0]) if day_first else date(n[2], n[0], n[1])
    except ValueError:
        return None


def ordinal(day: date, frequency: str) -> int:
    """Number of the period that holds `day`."""
    if frequency == "D":
        return (day - _EPOCH).days
    if frequency == "W":
        return (day - _WEEK_ZERO).days // 7
    if frequency == "4W":
        return (day - _WEEK_ZERO).days // 28
    if frequency == "M":
        return day.year * 12 + day.month - 1
    if frequency == "Q":
        return day.year * 4 + (day.month - 1) // 3
    if frequency == "Y":
        return day.year
    raise FileError(f"The frequency {frequency!r} is not one of {', '.join(FREQUENCIES)}.")


def first_day(number: int, frequency: str) -> date:
    """First day of a period; the inverse of `ordinal`."""
    if frequency == "D":
        return _EPOCH + timedelta(days=number)
    if frequency == "W":
        return _WEEK_ZERO + timedelta(weeks=number)
    if frequency == "4W":
        return _WEEK_ZERO + timedelta(weeks=4 * number)
    if frequency == "M":
        return date(number // 12, number % 12 + 1, 1)
    if frequency == "Q":
        return date(number // 4, number % 4 * 3 + 1, 1)
    return date(number, 1, 1)


def label(number: int, frequency: str) -> str:
    """How a period is written: 2025-03-31, 2025-W14, 2025-W05/P4W (start and length as ISO 8601 has it), 2025-03,
    2025-Q1, 2025."""
    day = first_day(number, frequency)
    if frequency == "W":
        year, week, _ = day.isocalendar()
        return f"{year}-W{week:02d}"
    if frequency == "4W":
        return f"{label((day - _WEEK_ZERO).days // 7, 'W')}/P4W"
    if frequency == "D":
        return day.isoformat()
    if frequency == "M":
        return f"{day.year}-{day.month:02d}"
    if frequency == "Q":
        return f"{day.year}-Q{(day.month + 2) // 3}"
    return str(day.year)


def guess_frequency(days: list[date], form: str) -> str:
    """Frequency of sorted, distinct days: the coarsest one whose periods they start, else daily.

    A weekly file may name the week by any weekday, as long as it is always the same one.
    """
    fixed = {"week": "W", "four-weeks": "4W", "quarter": "Q", "month": "M", "year": "Y"}.get(form)
    if fixed is not None:
        return fixed
    if len(days) < 2:
        return "D"
    if all(d.day == 1 for d in days):
        if all(d.month == 1 for d in days):
            return "Y"
        return "Q" if all(d.month in (1, 4, 7, 10) for d in days) else "M"
    steps = sorted((b - a).days for a, b in itertools.pairwise(days))
    usual = steps[len(steps) // 2]
    if usual >= 28 and all((d + timedelta(days=1)).day == 1 for d in days):
        return "Q" if usual >= 85 else "M"
    return "W" if usual == 7 else "D"


@dataclass(frozen=True)
class Timeline:
    """A run of consecutive periods.

    frequency: one of FREQUENCIES. first: number of the first period. n_periods: how many.
    season_length: periods per season, m in the formulas.
    """

    frequency: str
    first: int
    n_periods: int
    season_length: int

    @property
    def last(self) -> int:
        return self.first + self.n_periods - 1

    @cached_property
    def labels(self) -> list[str]:
        return [label(p, self.frequency) for p in range(self.first, self.first + self.n_periods)]

    def after(self, n_periods: int) -> Timeline:
        """The `n_periods` periods that follow this timeline."""
        return Timeline(self.frequency, self.last + 1, n_periods, self.season_length)

    def until(self, n_periods: int) -> Timeline:
        """The first `n_periods` periods."""
        return Timeline(self.frequency, self.first, n_periods, self.season_length)

    def harmonics(self, pairs: int, n_ahead: int) -> NDArray[np.float64]:
        """Yearly sines and cosines, shape [n_periods + n_ahead, columns], named by `harmonic_names`.

        Counted from period zero of the calendar, so that the same week has the same values whatever the first period.
        """
        t = np.arange(self.first, self.first + self.n_periods + n_ahead, dtype=np.float64)
        k = np.arange(1, pairs + 1, dtype=np.float64)
        angle = 2.0 * math.pi * np.outer(t, k) / PERIODS_PER_YEAR[self.frequency]
        sines = pairs - int(self._ends_in_a_cosine(pairs))
        return np.concatenate([np.sin(angle[:, :sines]), np.cos(angle)], axis=1)

    def harmonic_names(self, pairs: int) -> list[str]:
        """sin1, sin2, ..., cos1, cos2, ... A sine of two periods is zero in all of them, and left out."""
        sines = pairs - int(self._ends_in_a_cosine(pairs))
        return [*(f"sin{k}" for k in range(1, sines + 1)), *(f"cos{k}" for k in range(1, pairs + 1))]

    def _ends_in_a_cosine(self, pairs: int) -> bool:
        return pairs > 0 and 2 * pairs == PERIODS_PER_YEAR[self.frequency]
