"""What a planner decides about a file: which column is what, and what to do where it is not clear."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, get_type_hints

from tansy.engine.entries import frozen, misfit
from tansy.engine.errors import RecipeError
from tansy.engine.timeline import FREQUENCIES, MOST_PERIODS

DUPLICATES = ("sum", "first", "last", "mean")
GAPS = ("zero", "unknown", "interpolate")
NEGATIVES = ("keep", "drop", "positive")
UNFINISHED = ("leave-out", "keep")
COPIES = ("one", "all")
TOTALS = ("leave-out", "keep")
EMPTY_KEYS = ("leave-out", "as-above")
WEEK_STARTS = ("monday", "sunday")
LAYOUTS = ("long", "wide")


@dataclass(frozen=True)
class ReadOptions:
    """file: path of the sales. time, value, keys: column names, guessed where empty. attribute_columns: column of the
    same file -> key column that it describes. attribute_files: path -> key column, for files with one row per key.
    driver_columns: columns of the same file that are known ahead; guessed where None. driver_files: paths of files with
    drivers by period, with or without key columns. edges_file: path of a file that says which node or series lies below
    which parent.
    period_columns: columns of a wide file that are periods, in their order, where their headings do not show it.
    first_period: the period of the first of them, 2023-01 say; where it is empty and the headings cannot be read, they
    are numbered from 1 on.
    more: paths of later actuals, put to the history one after the other.
    copies: whether of rows that are the same in every column one is kept, or all. totals: whether rows that are the sum
    of others are left out. empty_keys: whether rows with an empty key or period are left out, or have that of the row
    above, as reports have it where it stays the same.
    gaps: what a missing row between a series' first and the last period means. duplicates: how rows for the same series
    and period are put together. negatives: "keep" as returns, "drop" the rows, or make them "positive".
    written: the frequency that rows are written in, guessed where None. frequency: that of the panel; finer rows are
    added up to it. week_start: of days that are added up to weeks.
    unfinished: whether a last period that is not over yet is left out. season_length: guessed where None.
    day_first: how 03/04/2025 is read. sheet: of an XLSX file. layout: "long" or "wide", guessed where None."""

    file: str = ""
    time: str = ""
    value: str = ""
    keys: tuple[str, ...] = ()
    attribute_columns: dict[str, str] | None = None
    attribute_files: dict[str, str] | None = None
    driver_columns: tuple[str, ...] | None = None
    driver_files: tuple[str, ...] = ()
    edges_file: str = ""
    period_columns: tuple[str, ...] = ()
    first_period: str = ""
    more: tuple[str, ...] = ()
    gaps: str = "zero"
    duplicates: str = "sum"
    copies: str = "one"
    totals: str = "leave-out"
    empty_keys: str = "leave-out"
    negatives: str = "keep"
    unfinished: str = "leave-out"
    written: str | None = None
    frequency: str | None = None
    week_start: str = "monday"
    season_length: int | None = None
    day_first: bool | None = None
    sheet: str | None = None
    layout: str | None = None

    def __post_init__(self) -> None:
        for words, chosen, known in (
            ("Missing periods are", self.gaps, GAPS),
            ("Duplicates are put together by", self.duplicates, DUPLICATES),
            ("Of exact copies keep", self.copies, COPIES),
            ("Rows of totals: choose", self.totals, TOTALS),
            ("Rows with an empty key: choose", self.empty_keys, EMPTY_KEYS),
            ("Negative values: choose", self.negatives, NEGATIVES),
            ("An unfinished period: choose", self.unfinished, UNFINISHED),
            ("Weeks start on", self.week_start, WEEK_STARTS),
        ):
            if chosen not in known:
                raise RecipeError(f"{words} {', '.join(known[:-1])} or {known[-1]}, not {chosen!r}.")
        for frequency in (self.frequency, self.written):
            if frequency is not None and frequency not in FREQUENCIES:
                raise RecipeError(f"The frequency is one of {', '.join(FREQUENCIES)}, not {frequency!r}.")
        if self.layout is not None and self.layout not in LAYOUTS:
            raise RecipeError(f"The layout is long or wide, not {self.layout!r}.")
        if self.season_length is not None and not 1 <= self.season_length <= MOST_PERIODS:
            raise RecipeError(f"The season length is a whole number from 1 to {MOST_PERIODS:,}.")

    @classmethod
    def from_mapping(cls, entries: dict[str, Any]) -> ReadOptions:
        """From the [data] section of a recipe. Raises RecipeError on an entry that does not belong there."""
        wrong = misfit(entries, get_type_hints(cls))
        if wrong:
            raise RecipeError(f"[data] {wrong[1]}.")
        return cls(**frozen(entries))
