"""Every period's arithmetic, so that it can be checked by hand or in a spreadsheet.

A column is a formula in a small notation, from which three things are made: the value, the text with the numbers in it,
and the live formula of a spreadsheet.

    [x]      the cell of column x in this row         [x<]     in the row above
    [x<3]    three rows above                         {alpha}  a parameter

Everything else is spreadsheet arithmetic that Python reads the same way. Rows begin with those that hold the start.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

_REFERENCE = re.compile(r"\[([a-z_]+)(<\d*)?\]|\{([a-z0-9_]+)\}")


@dataclass(frozen=True)
class Column:
    """name: in formulas; title: on the screen; formula: of a usual row, "" for input. means: what it is."""

    name: str
    title: str
    formula: str
    means: str


@dataclass
class Cell:
    """value: None where there is none; formula: "" for input; why: of an empty cell."""

    value: float | None = None
    formula: str = ""
    why: str = ""


@dataclass(frozen=True)
class Workings:
    """labels: of the rows; the first n_start hold the start, the last n_ahead are leads. cells: per column name, one
    per row. parameters: by name, as formulas name them; parameter_formulas: those that follow from sums, as formulas
    over whole columns. sums: of the columns that a regression adds up."""

    labels: list[str]
    n_start: int
    columns: list[Column]
    cells: dict[str, list[Cell]]
    parameters: dict[str, float]
    parameter_formulas: dict[str, str] = field(default_factory=dict)
    equation: str = ""
    sums: dict[str, float] = field(default_factory=dict)
    n_ahead: int = 0

    def with_numbers(self, name: str, row: int) -> str:
        """The formula of a cell with the numbers in it: "104.2 + 0.30 × 5.1"."""
        cell = self.cells[name][row]

        def number(match: re.Match[str]) -> str:
            value = self.parameters[match[3]] if match[3] else self.cells[match[1]][row - steps(match[2])].value
            return "—" if value is None else f"{value:.6g}" if value >= 0 else f"(−{-value:.6g})"

        spaced = cell.formula
        for sign, shown in (("*", " × "), ("/", " / "), ("+", " + "), ("-", " − ")):
            spaced = spaced.replace(sign, shown)
        return _REFERENCE.sub(number, spaced)

    def addressed(
        self, name: str, row: int, column_of: dict[str, str], first: int, parameter_at: dict[str, str]
    ) -> str:
        """The formula of a cell with the addresses of a spreadsheet. first: its row of our row 0."""

        def address(match: re.Match[str]) -> str:
            if match[3]:
                return parameter_at[match[3]]
            return f"{column_of[match[1]]}{first + row - steps(match[2])}"

        return "=" + _REFERENCE.sub(address, self.cells[name][row].formula)


def steps(back: str | None) -> int:
    """Rows above that a reference means: none for "", one for "<", k for "<k"."""
    if not back:
        return 0
    return int(back[1:]) if len(back) > 1 else 1


ERROR = (
    Column("error", "Error", "[actual]-[fitted]", "actual minus fitted"),
    Column("absolute", "Absolute error", "ABS([error])", "size of the error"),
    Column("percentage", "Error %", "100*[error]/[actual]", "error in percent of the actual value"),
)
ACTUAL = Column("actual", "Actual", "", "history, corrected")
LOG_ACTUAL = Column("log_actual", "ln actual", "LN([actual])", "natural logarithm")
SETTLED = 1e-11
"""Of a value: a formula that gives it to so much shows how it was made."""


def has_gaps(values: Floats) -> bool:
    """Whether a value [T] is missing after the first."""
    known = np.nonzero(~np.isnan(values))[0]
    return bool(np.isnan(values[known[0] :]).any())


def begin(values: Floats, timeline: Timeline, n_start: int) -> tuple[int, list[str], list[Cell]]:
    """Position of the first value, labels of the rows from there on after `n_start` that hold the start, and the cells
    of the actual values."""
    first = int(np.argmax(~np.isnan(values))) if (~np.isnan(values)).any() else 0
    labels = ["start"] * n_start + timeline.labels[first:]
    actual = [Cell() for _ in range(n_start)]
    actual += [Cell(None, why="no value") if np.isnan(v) else Cell(float(v)) for v in values[first:]]
    return first, labels, actual


def add_errors(cells: dict[str, list[Cell]]) -> None:
    """The three columns of errors beside actual and fitted, in place."""
    for name in ("error", "absolute", "percentage"):
        cells[name] = []
    for actual, fitted in zip(cells["actual"], cells["fitted"], strict=True):
        if actual.value is None or fitted.value is None:
            why = fitted.why or actual.why
            for name in ("error", "absolute", "percentage"):
                cells[name].append(Cell(why=why))
            continue
        e = actual.value - fitted.value
        cells["error"].append(Cell(e, ERROR[0].formula))
        cells["absolute"].append(Cell(abs(e), ERROR[1].formula))
        share = 100.0 * e / actual.value if actual.value else None
        cells["percentage"].append(Cell(share, ERROR[2].formula) if share is not None else Cell(why="the actual is 0"))


def letters_of(j: int) -> str:
    """Column names hold letters alone."""
    return (chr(97 + j // 26) if j >= 26 else "") + chr(97 + j % 26)
