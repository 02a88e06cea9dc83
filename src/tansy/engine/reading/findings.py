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


def of_rows(kind: str, remedy: str, column: str, texts: pl.Series, bad: np.ndarray) -> list[Finding]:
    """A finding for the rows where `bad`, none if there are none. texts: the column as written."""
    at = np.nonzero(bad)[0]
    if not len(at):
        return []
    examples = [Example(int(i) + 2, column, "" if texts[int(i)] is None else str(texts[int(i)])) for i in at[:3]]
    return [Finding(kind, len(at), remedy, examples)]
