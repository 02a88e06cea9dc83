"""The column of periods: what it says, how often it ticks, and how finer periods are put together into coarser ones."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.engine.errors import FileError
from tansy.engine.reading import findings as found
from tansy.engine.reading.findings import Example, Finding, Places
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.roles import is_numbered
from tansy.engine.timeline import (
    CLOCK_TIME,
    DATE_FORMS,
    FORM_NAMES,
    FREQUENCIES,
    MOST_PERIODS,
    NOUN,
    as_weeks,
    first_day,
    form_of,
    forms_of,
    guess_frequency,
    label,
    ordinal,
    read_date,
    regular_step,
)

Integers = NDArray[np.int64]

_FIRST_YEAR, _LAST_YEAR = 1600, 2999  # 9999-12-31 stands for "no end" in many systems

_SUMS = {"D": ("W", "4W", "M", "Q", "Y"), "W": ("4W",), "M": ("Q", "Y"), "Q": ("Y",)}


@dataclass(frozen=True)
class Clock:
    """number: [rows], period of every row at the frequency `native`; known: where there is one. frequency: the one that
    is asked for, as coarse as `native` or coarser. findings: what is odd in the column."""

    number: Integers
    known: NDArray[np.bool_]
    native: str
    frequency: str
    sunday: bool
    findings: list[Finding]

    def coarse(self, first: int, last: int) -> Integers:
        """Number at `frequency` of each native period from `first` to `last`."""
        if self.native == self.frequency:
            return np.arange(first, last + 1)
        shift = timedelta(days=1 if self.sunday and self.frequency in ("W", "4W") else 0)
        days = (first_day(n, self.native) + shift for n in range(first, last + 1))
        return np.array([ordinal(day, self.frequency) for day in days], dtype=np.int64)

    def is_whole(self, number: int, first: int, last: int) -> bool:
        """Whether all of a coarse period lies within the native periods `first` to `last`."""
        around = self.coarse(first - 1, last + 1)
        return bool(around[0] != number and around[-1] != number)


def read_clock(column: pl.Series, options: ReadOptions, name: str, places: Places) -> Clock:
    """Period number of every row. Works on the distinct texts, of which there are few.

    Raises FileError where the column holds no periods, writes them in several ways, or cannot be summed as asked.
    """
    texts, timed = _without_times(column.str.strip_chars())
    distinct = texts.unique(maintain_order=True).to_list()
    if len(distinct) > MOST_PERIODS:
        raise FileError(
            f"{name}, column {options.time!r} holds {len(distinct):,} different texts; it is not a column of periods."
        )
    forms = forms_of(distinct)
    if options.written == "W":
        forms = as_weeks(forms)
    if options.written == "N" or options.frequency == "N" or is_numbered(column):
        forms = {text: "number" if re.fullmatch(r"\d{1,6}", text) else None for text in distinct}
        if not any(forms.values()):
            raise FileError(f"{name}, column {options.time!r}, row 2: {distinct[0]!r} is not the number of a period.")
    seen = [form for form in forms.values() if form]
    if not seen:
        raise FileError(
            f"{name}, column {options.time!r}, row 2: {distinct[0]!r} is not a date, week, month, quarter or year."
        )
    main = max(dict.fromkeys(seen), key=seen.count)  # a tie goes to the first row
    other = next((text for text, form in forms.items() if form and form != main), None)
    if other is not None:
        row = places.line(int((texts == other).arg_max() or 0))
        raise FileError(
            f"{name}, column {options.time!r}, row {row}: {other!r} is written as {FORM_NAMES[forms[other] or main]}, "
            f"but most rows hold {FORM_NAMES[main]}; write all periods in one way."
        )
    day_first, ambiguous = True, False
    if main == "number":
        native, frequency = _frequencies("N", main, options, name)
        numbers = {text: int(text) for text in distinct if forms[text]}
    else:
        day_first, ambiguous = _day_first(distinct, main, options, name)
        days = {text: read_date(text, main, day_first) for text in distinct if forms[text]}
        known_days = sorted({day for day in days.values() if day})
        if not (options.written or options.frequency):
            _check_steps(known_days, main, options, name)
        native, frequency = _frequencies(guess_frequency(known_days, main), main, options, name)
        numbers = _numbers(days, native, main, known_days)
    lookup = pl.DataFrame(
        {"text": list(numbers), "number": list(numbers.values())}, schema={"text": pl.String, "number": pl.Int64}
    )
    joined = pl.DataFrame({"text": texts}).join(lookup, on="text", how="left", maintain_order="left")["number"]
    known = joined.is_not_null().to_numpy()
    findings = found.of_rows("off-calendar", "these rows are left out", options.time, column, ~known, places)
    findings += found.of_rows("time-of-day", "counted to their day", options.time, column, timed & known, places)
    if ambiguous:
        order = "day first" if day_first else "month first"
        findings.append(
            Finding("ambiguous-date", len(distinct), f"read {order}", [Example(2, options.time, distinct[0])])
        )
    _check_span(numbers, native, options, name)
    return Clock(joined.fill_null(0).to_numpy(), known, native, frequency, options.week_start == "sunday", findings)


def _frequencies(guess: str, form: str, options: ReadOptions, name: str) -> tuple[str, str]:
    """The frequency that the column is written in, and the one that is wanted."""
    guess = options.written or guess  # a file of one week cannot show how often it ticks
    wanted = options.frequency or guess
    if wanted == guess or wanted in _SUMS.get(guess, ()):
        return guess, wanted
    finer = FREQUENCIES.index(wanted) < FREQUENCIES.index(guess)
    if finer and form in DATE_FORMS:
        return wanted, wanted  # few dates may look coarser than they are meant
    raise FileError(
        f"{name}, column {options.time!r} holds {_plural(guess)}, which cannot be put together into {_plural(wanted)}."
    )


def _plural(frequency: str) -> str:
    return "periods of four weeks" if frequency == "4W" else f"{NOUN[frequency]}s"


def _numbers(days: dict[str, date | None], native: str, form: str, known_days: list[date]) -> dict[str, int]:
    """Period of every text that names one. A weekly file names the week by one weekday; other days are off."""
    if native == "W" and form in DATE_FORMS:
        weekdays = [day.weekday() for day in known_days]
        usual = max(set(weekdays), key=weekdays.count)
        # a week that begins on Sunday is the ISO week of the Monday after
        shift = timedelta(days=1 if usual == 6 else 0)
        return {text: ordinal(day + shift, "W") for text, day in days.items() if day and day.weekday() == usual}
    return {text: ordinal(day, native) for text, day in days.items() if day}


def _without_times(texts: pl.Series) -> tuple[pl.Series, NDArray[np.bool_]]:
    """Dates without the time behind them, and which had one that is not midnight. Done for the whole column at once:
    where every sale has its time, nearly all texts differ."""
    if not texts.unique().str.contains(r"\d:\d").any():
        return texts, np.zeros(len(texts), dtype=bool)
    cut = texts.str.replace(rf"^(\d{{1,4}}[./-]\d{{1,2}}[./-]\d{{1,4}}){CLOCK_TIME}$", "$1")
    midnight = texts.str.contains(r"[T ] *00:00(:00([.,]0+)?)?( ?(Z|UTC|[+-][\d:]+))?$|[T ] *12:00(:00)? ?[Aa][Mm]$")
    return cut, ((cut != texts) & ~midnight).to_numpy()


def _check_steps(days: list[date], form: str, options: ReadOptions, name: str) -> None:
    """Raises FileError where dates follow each other regularly, but not as any frequency does."""
    step = regular_step(days) if form in DATE_FORMS and guess_frequency(days, form) == "D" else None
    if step is not None:
        raise FileError(
            f"{name}, column {options.time!r}: the dates lie some {step} days apart, as no frequency has it; choose "
            "what to add them up to, such as months, or days as they are, or number the periods 1, 2, 3 ..."
        )


def _check_span(numbers: dict[str, int], native: str, options: ReadOptions, name: str) -> None:
    if not numbers:
        return
    low, high = min(numbers.values()), max(numbers.values())
    if high - low >= MOST_PERIODS or (
        native != "N" and not _FIRST_YEAR <= first_day(low, native).year <= first_day(high, native).year <= _LAST_YEAR
    ):
        raise FileError(
            f"{name}, column {options.time!r}: they run from {label(low, native)} to {label(high, native)}; "
            "look for a mistyped year."
        )


def _day_first(distinct: list[str], form: str, options: ReadOptions, name: str) -> tuple[bool, bool]:
    """Whether dates such as 03/04/2025 start with the day, and whether that is only assumed."""
    if form not in ("local-date", "short-date"):
        return True, False
    parts = [text.replace(".", "/").replace("-", "/").split("/") for text in distinct if form_of(text) == form]
    years = {part[2] for part in parts}
    if form == "short-date" and len(years) > max(12, *(len({part[i] for part in parts}) for i in (0, 1))):
        raise FileError(
            f"{name}, column {options.time!r}: which part of {distinct[0]!r} is the year cannot be told; "
            "write years with four digits."
        )
    day_first = any(int(part[0]) > 12 for part in parts)
    month_first = any(int(part[1]) > 12 for part in parts)
    if day_first and month_first:
        raise FileError(f"{name}, column {options.time!r} mixes dates with the day first and with the month first.")
    if day_first or month_first:
        return day_first, False
    if options.day_first is None and _is_monthly(distinct, form, False) and not _is_monthly(distinct, form, True):
        return False, False  # the first of every month, month first; else twelve days of each January
    return options.day_first is not False, options.day_first is None


def _is_monthly(distinct: list[str], form: str, day_first: bool) -> bool:
    """Whether texts, all of which have more than one month, are one day of each month without a gap."""
    days = sorted({day for text in distinct if form_of(text) == form and (day := read_date(text, form, day_first))})
    months = [ordinal(day, "M") for day in days]
    return len(set(months)) == len(months) > 2 and months[-1] - months[0] == len(months) - 1
