"""What a planner decides about a file: which column is what, and what to do where it is not clear."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

from tansy.engine.errors import RecipeError

DUPLICATES = ("sum", "first", "last", "mean")
GAPS = ("zero", "unknown")


@dataclass(frozen=True)
class ReadOptions:
    """file: path of the sales. time, value, keys: column names, guessed where empty. attribute_columns: column of the
    same file -> key column that it describes. attribute_files: path -> key column, for files with one row per key.
    gaps: what a missing row between a series' first and the last period means. duplicates: how rows for the same series
    and period are put together. frequency, season_length: guessed where None. day_first: how 03/04/2025 is read.
    sheet: of an XLSX file. layout: "long" or "wide", guessed where None."""

    file: str = ""
    time: str = ""
    value: str = ""
    keys: tuple[str, ...] = ()
    attribute_columns: dict[str, str] | None = None
    attribute_files: dict[str, str] | None = None
    gaps: str = "zero"
    duplicates: str = "sum"
    frequency: str | None = None
    season_length: int | None = None
    day_first: bool | None = None
    sheet: str | None = None
    layout: str | None = None

    def __post_init__(self) -> None:
        if self.gaps not in GAPS:
            raise RecipeError(f"Missing periods are {' or '.join(GAPS)}, not {self.gaps!r}.")
        if self.duplicates not in DUPLICATES:
            raise RecipeError(f"Duplicates are put together by {', '.join(DUPLICATES)}, not by {self.duplicates!r}.")
        if self.season_length is not None and self.season_length < 1:
            raise RecipeError("The season length is a whole number of at least 1.")

    @classmethod
    def from_mapping(cls, entries: dict[str, Any]) -> ReadOptions:
        """From the [data] section of a recipe. Raises RecipeError on an unknown entry."""
        known = {field.name for field in fields(cls)}
        unknown = set(entries) - known
        if unknown:
            raise RecipeError(f"[data] has an unknown entry {min(unknown)!r}; known are {', '.join(sorted(known))}.")
        return cls(**{**entries, "keys": tuple(entries.get("keys", ()))})
