"""Periods never drift, and every way of writing one is read back."""

from datetime import date, timedelta

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tansy.engine.timeline import Timeline, first_day, form_of, guess_frequency, label, ordinal, read_date

DAYS = st.dates(min_value=date(1990, 1, 1), max_value=date(2060, 12, 31))


@pytest.mark.parametrize("frequency", ["D", "W", "4W", "M", "Q", "Y"])
@given(day=DAYS)
def test_a_period_is_named_and_found_again(frequency: str, day: date) -> None:
    number = ordinal(day, frequency)
    start = first_day(number, frequency)
    assert start <= day < first_day(number + 1, frequency)
    text = label(number, frequency)
    form = form_of(text)
    assert form is not None
    assert read_date(text, form) == start


@given(day=DAYS)
def test_weeks_are_iso_weeks_with_their_53rd(day: date) -> None:
    year, week, _ = day.isocalendar()
    assert label(ordinal(day, "W"), "W") == f"{year}-W{week:02d}"
    assert ordinal(day + timedelta(weeks=1), "W") == ordinal(day, "W") + 1


def test_week_53_follows_52_and_comes_before_1() -> None:
    timeline = Timeline("W", ordinal(date(2026, 12, 21), "W"), 3, 52)
    assert timeline.labels == ["2026-W52", "2026-W53", "2027-W01"]
    assert timeline.after(1).labels == ["2027-W02"]


@pytest.mark.parametrize(
    "text", ["2025-W54", "2025-W53", "2025-02-30", "2025-13", "31/02/2025", "31.02.25", "202553", "2025-W05/P4W"]
)
def test_a_period_that_does_not_exist_is_not_read(text: str) -> None:
    form = form_of(text)
    assert form is None or read_date(text, form) is None


def test_frequency_is_guessed_from_the_days() -> None:
    mondays = [date(2025, 1, 6) + timedelta(weeks=i) for i in range(20) if i != 7]
    month_ends = [date(2025, m + 1, 1) - timedelta(days=1) for m in range(1, 12)]
    assert guess_frequency(mondays, "date") == "W"
    assert guess_frequency(month_ends, "date") == "M"
    assert guess_frequency([date(2025, m, 1) for m in (1, 4, 7, 10)], "date") == "Q"
    assert guess_frequency([date(2025, 1, d) for d in (1, 2, 3, 6)], "date") == "D"


def test_yearly_harmonics_have_the_year_as_their_period() -> None:
    weeks = Timeline("W", 2800, 300, 52).harmonics(2, 20)
    t = np.arange(2800, 3120)
    assert weeks.shape == (320, 4)
    np.testing.assert_allclose(weeks[:, 1], np.sin(2 * np.pi * 2 * t * 7 / 365.25), atol=1e-12)
    later = Timeline("W", 2810, 10, 52).harmonics(2, 0)
    np.testing.assert_allclose(later, weeks[10:20], atol=1e-12)
