"""Periods and seasons.

A period is an integer: the number of days, ISO weeks, months, quarters or years since a fixed start. Counting whole
periods is what keeps them from drifting: the week after 2026-W53 is 2027-W01, and one year later is 52 or 53 weeks on,
as the calendar has it.
"""

from __future__ import annotations

import itertools
import math
import re
import unicodedata
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import FileError

_EPOCH = date(1970, 1, 1)
_WEEK_ZERO = date(1969, 12, 29)  # the Monday of the ISO week that holds 1970-01-01
_SERIAL_ZERO = date(1899, 12, 30)  # day 0 of the serial numbers of spreadsheets
_SERIALS = range(20_000, 80_000)  # 1954 to 2119: other numbers of five digits are no dates

MOST_PERIODS = 20_000
"""More than any history, season, window or horizon has: numbers beyond it are slips, and would only eat memory."""

FREQUENCIES = ("D", "W", "4W", "M", "Q", "Y", "N")
"""Days, weeks, four weeks, months, quarters, years; and periods that are only numbered, without dates."""

SEASON_LENGTH = {"D": 7, "W": 52, "4W": 13, "M": 12, "Q": 4, "Y": 1, "N": 1}
"""Periods in the season that a planner means by default."""

PERIODS_PER_YEAR = {"D": 365.25, "W": 365.25 / 7, "4W": 365.25 / 28, "M": 12.0, "Q": 4.0, "Y": 1.0, "N": 1.0}
"""Length of the year in periods, for yearly harmonics (`methods.md`)."""

NOUN = {"D": "day", "W": "week", "4W": "four weeks", "M": "month", "Q": "quarter", "Y": "year", "N": "period"}

# Months in the languages of the files that come; any beginning of three letters or more that belongs to one month alone
# is understood, with or without accents and a point behind it.
_MONTH_NAMES = (
    "january januar janvier enero gennaio januari janeiro styczen",
    "february februar fevrier febrero febbraio februari fevereiro luty",
    "march marz maerz mars marzo maart marco marec marts marzec mrz",
    "april avril abril aprile kwiecien",
    "may mai mayo maggio mei maio maj",
    "june juni juin junio giugno junho czerwiec",
    "july juli juillet julio luglio julho lipiec",
    "august aout agosto augustus augusti sierpien",
    "september septembre septiembre settembre setembro wrzesien",
    "october oktober octobre octubre ottobre outubro pazdziernik",
    "november novembre noviembre novembro listopad",
    "december dezember decembre diciembre dicembre dezembro desember grudzien",
)  # fmt: skip

_WORD = r"[^\W\d_]{3,12}\.?"
CLOCK_TIME = r"[T ] *\d{1,2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?(?: ?[AaPp][Mm])?(?: ?(?:Z|UTC|[+-]\d{2}(?::?\d{2})?))?"
"""What may stand behind a date: 14:05, 14:05:33.250, 2:05 PM, 14:05+01:00."""
_PATTERNS: tuple[tuple[str, re.Pattern[str]], ...] = (
    ("four-weeks", re.compile(r"(\d{4})-W(\d{2})/P4W")),
    ("week", re.compile(r"(\d{4})[-/ ]?(?:[Ww]|KW|kw)[ -]?(\d{1,2})")),
    ("week-first", re.compile(r"(?:[Ww]|KW|kw|[Ww]eek|[Ww]oche)[ -]?(\d{1,2})[-/ .]{1,2}(\d{4})")),
    ("quarter", re.compile(r"(\d{4})[-/ ]?[QqTt]([1-4])")),
    ("quarter-first", re.compile(r"[QqTt]([1-4])[-/ .]?(\d{4}|'?\d{2})")),
    ("month-code", re.compile(r"(\d{4})-?[Mm](\d{1,2})")),
    ("month-name", re.compile(rf"({_WORD})[-/ ']{{1,2}}(\d{{4}}|\d{{2}})")),
    ("year-month-name", re.compile(rf"(\d{{4}})[-/ ]({_WORD})")),
    ("month-first", re.compile(r"(\d{1,2})[./-](\d{4})")),
    ("compact-month", re.compile(r"((?:19|20)\d\d)(0[1-9]|1[0-2])")),
    ("compact-week", re.compile(r"((?:19|20)\d\d)(0[1-9]|[1-4]\d|5[0-3])")),
    ("date", re.compile(rf"(\d{{4}})-(\d{{1,2}})-(\d{{1,2}})(?:{CLOCK_TIME})?")),
    ("month", re.compile(r"(\d{4})-(\d{1,2})")),
    ("year", re.compile(r"(\d{4})")),
    ("serial", re.compile(r"(\d{5})(?:\.0+)?")),
    ("local-date", re.compile(rf"(\d{{1,2}})[./-](\d{{1,2}})[./-](\d{{4}})(?:{CLOCK_TIME})?")),
    ("short-date", re.compile(rf"(\d{{1,2}})[./](\d{{1,2}})[./](\d{{2}})(?:{CLOCK_TIME})?")),
)

DATE_FORMS = ("date", "local-date", "short-date", "serial")
"""Ways of writing a day, which may stand for any period that holds it."""

FORM_NAMES = {
    "four-weeks": "periods of four weeks such as 2025-W03/P4W",
    "week": "ISO weeks such as 2025-W07",
    "quarter": "quarters such as 2025-Q2",
    "date": "dates such as 2025-03-31",
    "month": "months such as 2025-03",
    "year": "years such as 2025",
    "serial": "serial day numbers of a spreadsheet such as 45747",
    "local-date": "dates such as 31/03/2025",
    "short-date": "dates such as 31/03/25",
    "week-first": "weeks such as KW 7/2025",
    "quarter-first": "quarters such as Q2 2025",
    "month-code": "months such as 2025M03",
    "month-name": "months such as Mar 2025",
    "year-month-name": "months such as 2025 Mar",
    "month-first": "months such as 03/2025",
    "compact-month": "months such as 202503",
    "compact-week": "ISO weeks such as 202507",
    "number": "numbered periods 1, 2, 3 ...",
}

DOUBTFUL_FORMS = ("year", "serial", "compact-month", "compact-week", "short-date")
"""What names a period as well as anything else: not taken for one without another sign."""


@lru_cache(maxsize=4096)
def month_of(name: str) -> int | None:
    """Number of the month that a name or the beginning of one means, None where it means none or several."""
    plain = unicodedata.normalize("NFKD", name.casefold().rstrip(".")).encode("ascii", "ignore").decode()
    if len(plain) < 3:
        return None
    found = [i for i, names in enumerate(_MONTH_NAMES, 1) if any(one.startswith(plain) for one in names.split())]
    return found[0] if len(found) == 1 else None


def is_part_of_year(text: str) -> bool:
    """Whether a heading is a month, quarter or week without its year: "Jan", "Q3", "KW 07"."""
    return month_of(text) is not None or re.fullmatch(r"[QqTt][1-4]|(?:[Ww]|KW|kw)[ -]?\d{1,2}", text) is not None


def with_year(text: str, year: str) -> str:
    """A heading that `is_part_of_year`, with its year."""
    month = month_of(text)
    if month is not None:
        return f"{year}-{month:02d}"
    number = int("".join(filter(str.isdigit, text)))
    return f"{year}-Q{number}" if text[0] in "QqTt" else f"{year}-W{number:02d}"


def form_of(text: str) -> str | None:
    """Which way of writing a period `text` follows, or None."""
    stripped = text.strip()
    for form, pattern in _PATTERNS:
        match = pattern.fullmatch(stripped)
        if match is None:
            continue
        if form == "serial" and int(stripped[:5]) not in _SERIALS:
            return None
        if form == "month-name" and month_of(match[1]) is None:
            continue
        if form == "year-month-name" and month_of(match[2]) is None:
            continue
        if form == "month-first" and not 1 <= int(match[1]) <= 12:
            continue
        if form == "short-date" and not 1 <= min(int(match[1]), int(match[2])) <= 12:
            continue
        return form
    return None


def forms_of(texts: list[str]) -> dict[str, str | None]:
    """Which way of writing a period each of some texts of one column follows: 202503 is a week where 202513 is one."""
    forms = {text: form_of(text) for text in texts}
    return as_weeks(forms) if "compact-week" in forms.values() else forms


def as_weeks(forms: dict[str, str | None]) -> dict[str, str | None]:
    """The same where 202503 is a week of its year."""
    return {text: "compact-week" if form == "compact-month" else form for text, form in forms.items()}


def read_date(text: str, form: str, day_first: bool = True) -> date | None:
    """First day of the period that `text` names, or None where it names none (2025-W53, 2025-02-30)."""
    pattern = dict(_PATTERNS)[form]
    match = pattern.fullmatch(text.strip())
    if match is None:
        return None
    try:
        if form in ("month-name", "year-month-name"):
            name, year = match.groups() if form == "month-name" else match.groups()[::-1]
            return date(_full_year(year), month_of(name) or 0, 1)
        short = form in ("quarter-first", "short-date")
        n = [_full_year(group) for group in match.groups()[-1:]] if short else [int(match.groups()[-1])]
        n = [*map(int, match.groups()[:-1]), *n]
        if form in ("week-first", "quarter-first", "month-first"):
            n = n[::-1]
        form = {"week-first": "week", "compact-week": "week", "quarter-first": "quarter"}.get(form, form)
        if form in ("month-first", "month-code", "compact-month"):
            form = "month"
        if form in ("week", "four-weeks"):
            monday = date.fromisocalendar(n[0], n[1], 1)
            return monday if form == "week" or (monday - _WEEK_ZERO).days % 28 == 0 else None
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


def _full_year(text: str) -> int:
    """2023 of "2023", "23" and "'23"; a number of one digit stays as it is."""
    number = int(text.lstrip("'"))
    return number + (2000 if number < 70 else 1900) if len(text.lstrip("'")) == 2 else number


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
    """How a period is written: 2025-03-31, 2025-W14, 2025-W03/P4W (start and length as ISO 8601 has it), 2025-03,
    2025-Q1, 2025; a numbered period by its number."""
    if frequency == "N":
        return str(number)
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


FREQUENCY_OF_FORM = {
    "week": "W", "week-first": "W", "compact-week": "W", "four-weeks": "4W", "quarter": "Q", "quarter-first": "Q",
    "month": "M", "month-code": "M", "month-name": "M", "year-month-name": "M", "month-first": "M",
    "compact-month": "M", "year": "Y", "number": "N",
}  # fmt: skip


def usual_frequency(text: str) -> str:
    """The frequency of periods that are written like this: of a date, days; of one to three digits, none."""
    if text.strip().isdecimal() and len(text.strip()) < 4:
        return "N"
    return FREQUENCY_OF_FORM.get(form_of(text) or "", "D")


def number_of(text: str, frequency: str) -> int | None:
    """Number of the period that a text names, at a frequency; None where it names none."""
    if frequency == "N":
        return int(text) if re.fullmatch(r"\d{1,6}", text.strip()) else None
    form = as_weeks({text: form_of(text)})[text] if frequency == "W" else form_of(text)
    day = read_date(text, form) if form else None
    return ordinal(day, frequency) if day else None


def guess_frequency(days: list[date], form: str) -> str:
    """Frequency of sorted, distinct days: the coarsest one whose periods they start, else daily.

    A weekly file may name the week by any weekday, as long as it is always the same one.
    """
    fixed = FREQUENCY_OF_FORM.get(form)
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
    months = [12 * d.year + d.month for d in days]
    if len(set(months)) == len(months) > 2:  # one row a month, on whatever day
        if months[-1] - months[0] == len(months) - 1:
            return "M"
        spans = {"M": range(28, 32), "Q": range(88, 94), "Y": range(360, 372)}
        found = next((frequency for frequency, span in spans.items() if usual in span), None)
        if found:
            return found
    return "W" if usual == 7 else "D"


def regular_step(days: list[date]) -> int | None:
    """Days from one of sorted, distinct days to the next, where they are ten or more and all but a few follow each
    other so, within a quarter of it: such as every two weeks, or twice a month. None where they do not, or daily, or on
    some days of each week."""
    steps = sorted((b - a).days for a, b in itertools.pairwise(days))
    if len(steps) < 9:
        return None
    usual = steps[len(steps) // 2]
    near = sum(4 * abs(step - usual) <= usual for step in steps)
    weekly = usual <= 7 and len({day.weekday() for day in days}) < 7
    return usual if usual > 1 and not weekly and near >= 0.9 * len(steps) else None


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

    @property
    def ends(self) -> tuple[str, str]:
        """What the first and the last period are called."""
        return label(self.first, self.frequency), label(self.last, self.frequency)

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
