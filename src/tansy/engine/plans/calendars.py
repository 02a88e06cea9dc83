"""Public holidays of countries and regions, from a package that keeps their calendars."""

from __future__ import annotations

from datetime import date, timedelta
from functools import lru_cache

import holidays
import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import PlanError
from tansy.engine.timeline import first_day, label

Floats = NDArray[np.float64]


@lru_cache(maxsize=1)
def calendars() -> dict[str, tuple[str, ...]]:
    """Codes of countries (ISO 3166, two letters) and of their regions that have a calendar."""
    return {
        country: tuple(region for region in regions if len(region) <= 3)
        for country, regions in sorted(holidays.list_supported_countries(include_aliases=False).items())
        if len(country) == 2
    }


def check_calendar(of: str) -> None:
    """Raise PlanError where there is no calendar of that code."""
    country, _, region = of.partition("-")
    known = calendars().get(country)
    if known is None:
        raise PlanError("of", f"There is no calendar {of!r}: give a country such as DE, or a region such as DE-BY.")
    if region and region not in known:
        regions = f"has {', '.join(known)}" if known else "has no regions"
        raise PlanError("of", f"There is no region {region!r}: {country} {regions}.")


def holidays_in(of: str, frequency: str, first: int, n: int) -> Floats:
    """How many public holidays fall in each of n periods from the one numbered `first` on, [n].

    Raises PlanError where periods have no dates, or there is no such calendar.
    """
    check_calendar(of)
    if frequency == "N":
        raise PlanError("of", f"Periods that are numbered, such as {label(first, 'N')}, have no holidays.")
    starts = np.array([first_day(number, frequency) for number in range(first, first + n + 1)], dtype="datetime64[D]")
    found = np.array(_days(of, starts[0].item(), starts[-1].item() - timedelta(days=1)), dtype="datetime64[D]")
    counts: Floats = np.diff(np.searchsorted(found, starts)).astype(np.float64)
    return counts


def _days(of: str, first: date, last: date) -> list[date]:
    """Sorted."""
    country, _, region = of.partition("-")
    years = range(first.year, last.year + 1)
    calendar = holidays.country_holidays(country, subdiv=region or None, years=years)
    return sorted(day for day in calendar if first <= day <= last)
