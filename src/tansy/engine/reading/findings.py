"""What is odd in a file, counted, with examples; and the rows that are left out, each with its reason."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
import polars as pl
from numpy.typing import NDArray


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

    periods: names of the columns of a wide file, which were laid under each other; None for a long file. header: line
    of the header. lines: line of every row, where empty ones were left out between them.
    """

    n_lines: int
    periods: list[str] | None = None
    header: int = 1
    lines: NDArray[np.int64] | None = None

    def line(self, i: int) -> int:
        row = i % self.n_lines
        return row + 1 + self.header if self.lines is None else int(self.lines[row])

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


class Refusals:
    """Collects the rows that are left out. The first reason of a row stands."""

    def __init__(self, n_rows: int) -> None:
        self._reason = np.zeros(n_rows, dtype=np.int8)
        self._words: list[str] = [""]

    def add(self, bad: NDArray[np.bool_], reason: str) -> None:
        if bad.any():
            self._words.append(reason)
            self._reason[bad & (self._reason == 0)] = len(self._words) - 1

    @property
    def kept(self) -> NDArray[np.bool_]:
        return self._reason == 0

    def table(self, rows: pl.DataFrame, places: Places) -> pl.DataFrame:
        """The rows left out as they were written, with their line in the file and the reason."""
        at = np.nonzero(self._reason)[0]
        named = pl.DataFrame(
            {
                "row": [places.line(i) for i in at.tolist()],
                "reason": [self._words[k] for k in self._reason[at].tolist()],
            },
            schema={"row": pl.Int64, "reason": pl.String},
        )
        clashes: dict[str, str] = {name: f"{name} (in the file)" for name in ("row", "reason") if name in rows.columns}
        return pl.concat([named, rows[at].rename(clashes)], how="horizontal")
