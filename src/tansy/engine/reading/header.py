"""Where the header of a table is, and what its columns are called.

Above the header there may be a report's name, who made it and when, and blank lines; a header may take two rows, years
above months. The header is the first row as wide as the table that follows.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from tansy.engine.errors import FileError
from tansy.engine.timeline import form_of, is_part_of_year, with_year

LOOKED_AT = 60
"""Rows in which a header is looked for."""


@dataclass(frozen=True)
class Header:
    """at: position of its last row. names: of all columns, "" for those that have none."""

    at: int
    names: list[str]


def find_header(rows: list[list[str]]) -> Header | None:
    """The header among the first rows of a table; None where no row has two filled cells."""
    rows = [[cell.strip() for cell in row] for row in rows[:LOOKED_AT]]
    filled = [sum(cell != "" for cell in row) for row in rows]
    if max(filled, default=0) < 2:
        return None
    # the width that most rows have, of those that are more than a remark beside a title
    widths = Counter(n for n in filled if n >= 2)
    usual = max(widths, key=lambda n: (widths[n] * (n - 1), n))
    at = next(i for i, n in enumerate(filled) if n >= 2 and (n >= 0.6 * usual or _periods(rows[i]) >= 3))
    if filled[at] < usual:  # a remark of some cells, where names of all columns follow
        at = next((i for i in range(at + 1, min(at + 10, len(rows))) if _names_all(rows[i], usual)), at)
    names = rows[at]
    if at + 1 < len(rows) and _parts(rows[at + 1]) >= 3:
        below = rows[at + 1]
        years = _filled_on(names)
        if sum(form_of(years[j]) == "year" for j, cell in enumerate(below) if is_part_of_year(cell)) >= 3:
            return Header(at + 1, _together(years, below))
    if at > 0 and _parts(names) >= 3:
        years = _filled_on(rows[at - 1] + [""] * (len(names) - len(rows[at - 1])))
        if sum(form_of(years[j]) == "year" for j, cell in enumerate(names) if is_part_of_year(cell)) >= 3:
            return Header(at, _together(years, names))
    return Header(at, names)


def _names_all(row: list[str], usual: int) -> bool:
    """Whether a row holds as many texts as the table has columns, none of them twice, and no number or date."""
    texts = [cell for cell in row if cell]
    plain = not any(cell.replace(",", "").replace(".", "").lstrip("+-").isdigit() for cell in texts)
    a_date_among_them = 0 < _periods(row) < 3  # three or more are headings of periods
    return len(texts) >= usual and len(set(texts)) == len(texts) and plain and not a_date_among_them


def _periods(row: list[str]) -> int:
    return sum(form_of(cell) is not None for cell in row)


def _parts(row: list[str]) -> int:
    return sum(is_part_of_year(cell) for cell in row)


def _filled_on(row: list[str]) -> list[str]:
    """A merged year stands in its first cell alone."""
    last = ""
    found = []
    for cell in row:
        last = cell or last
        found.append(last)
    return found


def _together(years: list[str], below: list[str]) -> list[str]:
    years = years + [years[-1] if years else ""] * (len(below) - len(years))
    return [
        with_year(cell, year) if is_part_of_year(cell) and form_of(year) == "year" else cell or year
        for cell, year in zip(below, years, strict=False)
    ]


def check_names(file: str, line: int, names: list[str]) -> None:
    """Raises FileError where a column has no name, or two have the same."""
    for i, text in enumerate(names):
        if not text:
            raise FileError(f"{file}, row {line}: column {i + 1} has no name; the first row must name every column.")
    twice = next((text for text, n in Counter(names).items() if n > 1), None)
    if twice is not None:
        raise FileError(f"{file}, row {line}: two columns are named {twice!r}; give every column its own name.")
