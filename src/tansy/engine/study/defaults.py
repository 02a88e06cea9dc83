"""The recipe that people get without asking: a sound start for any panel.

A few methods that differ, put together, are hard to beat, and what is chosen from many by a handful of noisy windows is
not: so a blend stands at every series until others have shown to be better (`backtest/choice.py`). What goes in has a
reason beside figures, which `bench/real.py` and `bench/study.py` print:

- Months and quarters: a damped trend whose season grows with the level, a trend that is not damped with a season that
  does not, and a season that fades towards the mean (a seasonal AR term): three views of trend and season, each wrong
  elsewhere.
- Weeks: fifty-two seasonal states cannot be told from noise, so the season is the group's, or three sines; beside them
  a level alone, which is right for what has ended or has no season, and the last season, which is right for what
  returns at fixed dates. Their median leaves out whichever is far off.
- Days: timetables repeat, and one odd day must not: the last week, the median of the last three, and a level with a
  season that fades. Where the last week errs more than the mean of the last four, days are sales rather than a
  timetable, and are smoothed: states of the week, the same beside the group's season of the year, and the level.
- What is sold in a few months of the year: states that follow a season spread it over the year, and a logarithm does
  not bear its zeros. The last season and the group's are nothing where it is over, and the latter follows a level
  down. Weeks have both in their blend.
- With drivers known ahead: a regression with ARIMA errors, and smoothing with effects that the group shares. Public
  holidays alone are few, and have to show that they matter: what stands without them stands first.
- The learner, where the season is too long for one series to show it well and many series are there to learn from: what
  one has in two or three noisy copies, all together have in thousands. Elsewhere it is no part: trees do not carry a
  trend on, and a timetable that repeats needs no learning.
"""

from __future__ import annotations

import numpy as np

from tansy.engine.backtest.measures import nan_mean
from tansy.engine.errors import RecipeError
from tansy.engine.panel import Panel
from tansy.engine.plans.kinds import Plan
from tansy.engine.plans.planned import with_plans
from tansy.engine.profile.kinds import find_kinds
from tansy.engine.reading.options import ReadOptions
from tansy.engine.study.driven import driven_methods, entries_of
from tansy.engine.study.recipe import BEST, Recipe
from tansy.engine.timeline import Timeline

_LEADS = {"D": 28, "W": 13, "4W": 6, "M": 12, "Q": 4, "Y": 3, "N": 8}
_SEASONAL = ("mean", "log ets(A,Ad,A)", "ets(A,A,A)", "arima(0,1,1)(1,0,0){m}")
_OF_GROUP = ("median", "ets(A,N,N)", "ets(A,N,N) + shared-season", "arima(1,0,1) + harmonics(3)", "seasonal-naive")
_TIMETABLE = ("median", "seasonal-naive", "seasonal-median(3)", "arima(0,1,1)(1,0,0){m}")
_DAYS_OF_SALES = ("mean", "ets(A,N,A)", "ets(A,N,A) + shared-season", "arima(0,1,1)(1,0,0){m}")
_NO_SEASON = ("mean", "ets(A,N,N)", "ets(A,Ad,N)", "theta")
_BOTH_DIFFERENCES = "blend(mean; arima(best; d=0); arima(best; d=1))"
_STANDS = {"D": _TIMETABLE, "W": _OF_GROUP, "4W": _SEASONAL, "M": _SEASONAL, "Q": _SEASONAL}
"""What stands until others have shown to be better, by frequency; elsewhere there is no season."""
_BESIDE = {
    "D": ("ets(A,N,A)", "ets(A,Ad,A)", "ets(A,N,A) + shared-season", "arima(1,0,1) + harmonics(3)"),
    "W": ("ets(A,Ad,N)", "ets(A,N,N) + shared-season", "arima(1,0,1) + harmonics(3)"),
    "4W": ("ets(A,N,N) + shared-season", "ets(best)", "arima(1,0,1) + harmonics(3)"),
    "M": ("ets(A,N,N) + shared-season", "ets(best)", "theta", _BOTH_DIFFERENCES),
    "Q": ("ets(best)", "theta", _BOTH_DIFFERENCES),
}
_SHARP = "blend(mean; seasonal-naive; ets(A,N,N) + shared-season)"
_OTHERWISE = ("ets(A,Ad,N)", _BOTH_DIFFERENCES)
_SEASONS_BACK = 4
_LEARNED_FROM = 10_000
"""Values of weekly series from which on a learner is a part."""
_LAST = ("ets(A,N,N)", "naive")
"""What is left for series that are too short for all else."""
_FEWEST = 3


def default_recipe(
    panel: Panel, structure: dict[str, list[str]], data: ReadOptions | None = None, plans: tuple[Plan, ...] = ()
) -> Recipe:
    """A sound start for any panel, with what is planned for it.

    As many origins as the history bears while a year and a half stays to learn from, at most six. They lie a multiple
    of the longest lead apart: no two windows hold the same values, so that each says something of its own, over a year
    or more; and the end of the history lies on their grid, so that what is fitted there is an origin's when it is one.
    Where the history bears fewer than three such origins, up to four lie closer.

    Raises RecipeError where there are fewer than three periods: two to learn from, and one to test.
    """
    timeline = panel.timeline
    if timeline.n_periods < _FEWEST:
        there = "is one" if timeline.n_periods == 1 else f"are {timeline.n_periods}"
        raise RecipeError(f"A study needs {_FEWEST} periods of history to begin with; there {there}.")
    leads = _LEADS[timeline.frequency]
    leads = max(1, min(leads, timeline.n_periods // 4))
    year = {"D": 364, "W": 52, "4W": 13, "M": 12, "Q": 4, "Y": 6, "N": 24}[timeline.frequency]
    step = leads * max(1, round((year - leads) / (5 * leads)))
    room = timeline.n_periods - leads - max(round(1.5 * year), 8)
    number = max(1, min(6, 1 + max(0, room) // step))
    if number < 3:  # a short history: more origins from fewer periods
        step = max(1, leads // 3)
        number = max(1, min(4, 1 + max(0, timeline.n_periods - leads - 4) // step))
    slow = ("tsb",) if _has_slow_movers(panel) else ()
    entries, calendar_alone = entries_of(with_plans(panel, plans, leads).panel.drivers, timeline, plans, leads)
    driven = driven_methods(entries, timeline, panel.n_series > 1)
    learned = ("learner",) if _enough_to_learn(panel) else ()
    m = timeline.season_length
    parts = _STANDS.get(timeline.frequency, _NO_SEASON)
    if timeline.frequency == "D" and not _repeats(panel):
        parts = _DAYS_OF_SALES
    stands = (*(part.format(m=m) for part in parts), *learned)
    of_drivers = ("mean", *driven, *learned)
    of_parts = (stands,) if not driven else (stands, of_drivers) if calendar_alone else (of_drivers, stands)
    blends = tuple(f"blend({'; '.join(parts)})" for parts in of_parts)
    sharp = _SHARP if timeline.frequency in ("4W", "M", "Q") and _has_short_seasons(panel) else ""
    methods = (
        *blends,
        *((sharp,) if sharp else ()),
        *_BESIDE.get(timeline.frequency, _OTHERWISE),
        *slow,
        "ets(A,N,N)",
        *driven,
    )
    return Recipe(
        name="Default",
        structure={} if panel.edges else structure,
        edges=panel.edges.name if panel.edges else "",
        methods=methods,
        origins=number,
        step=step,
        leads=leads,
        anchor=timeline.labels[timeline.n_periods - leads - 1],
        fallback=(*blends, *_LAST),
        in_season=sharp,
        nonnegative=bool((panel.values[panel.values == panel.values] >= 0).all()) or _mostly_positive(panel),
        ended_after=season_and_a_bit(timeline),
        reconciliation=BEST,
        plans=plans,
        data=data,
    )


def stands_for(timeline: Timeline) -> tuple[str, ...]:
    """What stands at any history without drivers: the blend of its frequency, then what is left for short series."""
    parts = _STANDS.get(timeline.frequency, _NO_SEASON)
    return (f"blend({'; '.join(part.format(m=timeline.season_length) for part in parts)})", *_LAST)


def _enough_to_learn(panel: Panel) -> bool:
    return panel.timeline.frequency == "W" and int((~np.isnan(panel.values)).sum()) >= _LEARNED_FROM


def _repeats(panel: Panel) -> bool:
    """Most series err less by their last season than by the mean of their last four, over their history."""
    values, m = panel.values, panel.timeline.season_length
    if values.shape[1] <= _SEASONS_BACK * m:
        return True
    back = [values[:, (_SEASONS_BACK - k) * m : -k * m] for k in range(1, _SEASONS_BACK + 1)]
    came = values[:, _SEASONS_BACK * m :]
    last, mean = (nan_mean((came - one) ** 2, axis=1) for one in (back[0], np.mean(back, axis=0)))
    known = ~np.isnan(last) & ~np.isnan(mean) & (last != mean)
    return bool((last[known] < mean[known]).mean() > 0.5) if known.any() else True


def _has_slow_movers(panel: Panel) -> bool:
    """A twentieth of the series have no demand in a quarter of the periods from their first demand on."""
    sold = np.nan_to_num(panel.values) != 0.0
    began = np.argmax(sold, axis=1)
    possible = np.where(sold.any(axis=1), panel.timeline.n_periods - began, 0)
    return bool((sold.sum(axis=1) < 0.75 * possible).mean() > 0.05)


def _has_short_seasons(panel: Panel) -> bool:
    """A twentieth of the series are sold in a part of the year only."""
    kinds = find_kinds(panel.values, panel.timeline, season_and_a_bit(panel.timeline))
    return bool((kinds.in_season_only & ~kinds.ended).mean() > 0.05)


def _mostly_positive(panel: Panel) -> bool:
    """Demand with a few returns is still demand; data that is often negative is something else."""
    known = panel.values[panel.values == panel.values]
    return bool((known < 0).mean() < 0.02) if len(known) else True


def season_and_a_bit(timeline: Timeline) -> int:
    """A product that is sold in one part of the year only is not ended before that part has passed without a sale."""
    year = {"D": 365, "W": 52, "4W": 13, "M": 12, "Q": 4, "Y": 2, "N": 24}[timeline.frequency]
    return year + max(1, round(year / 12))
