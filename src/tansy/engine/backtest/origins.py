"""Where a backtest stands in time: origins on a fixed grid of the calendar.

A grid stands still while history grows, so that a later run shares its origins with an earlier one, and what was found
there need not be found again.
"""

from __future__ import annotations

from tansy.engine.errors import RecipeError


def origins(n_periods: int, number: int, step: int, leads: int, anchor: int | None = None) -> list[int]:
    """Number of periods seen at each origin, oldest first.

    anchor: the periods seen at one point of the grid, inside the history or not; without one, the grid is laid so that
    the newest origin leaves `leads` periods to be judged on. Where the newest such origin of the grid does not reach
    the end of the history, the next one does too, and is judged on the leads that have come.

    Raises RecipeError where the history is too short.

    Examples
    --------
    >>> origins(100, 3, 10, 13)
    [67, 77, 87]
    >>> origins(104, 3, 10, 13, anchor=87)
    [77, 87, 97]
    """
    latest = n_periods - leads
    newest = latest if anchor is None else latest - (latest - anchor) % step
    if newest < latest and newest + step < n_periods:
        newest += step
    oldest = newest - step * (number - 1)
    if oldest < 2:
        raise RecipeError(
            f"{number} origins, {step} periods apart and {leads} leads long, need at least "
            f"{n_periods + 2 - oldest} periods of history; there are {n_periods}. Ask for fewer origins or shorter "
            "leads."
        )
    return list(range(oldest, newest + 1, step))
