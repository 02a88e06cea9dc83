"""What is odd in a file, counted, with examples."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
import polars as pl


@dataclass(frozen=True)
class Example:
    """row: line of the file, the header being line 1 (0 where a whole series is meant)."""

    row: int
    column: str
    text: str


@dataclass(frozen=True)
class Finding:
    """kind: see `architecture.md`. count: rows, periods or series. remedy: what loading does about it, in words."""

    kind: str
    count: int
    remedy: str
    examples: list[Example] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class Places:
    """Where the cells of a long table stand in the file: the line of row i, and the column that its value is in.

    periods: names of the columns of a wide file, which were laid under each other; None for a long file.
    """

    n_lines: int
    periods: list[str] | None = None

    def line(self, i: int) -> int:
        return i % self.n_lines + 2

    def column(self, i: int, column: str, is_value: bool) -> str:
        return self.periods[i // self.n_lines] if self.periods and is_value else column


def of_rows(
    kind: str, remedy: str, column: str, texts: pl.Series, bad: np.ndarray, places: Places, is_value: bool = False
) -> list[Finding]:
    """A finding for the rows where `bad`, none if there are none. texts: the column as written."""
    at = np.nonzero(bad)[0]
    if not len(at):
        return []
    examples = [
        Example(places.line(i), places.column(i, column, is_value), str(texts[i] or "")) for i in at[:3].tolist()
    ]
    return [Finding(kind, len(at), remedy, examples)]
