"""A structure drawn by hand: rows of a total and what lies below it.

What lies below is another total of the rows, the value of a key or an attribute, "group: Hostas", or one series, its
keys joined, "P1042 × S07". A value stands for all of its series, and is a node itself where it has several. Rows make a
list of edges, which `along_edges` builds. What no row holds comes below a top of its own, so that nothing is lost.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from tansy.engine.errors import StructureError
from tansy.engine.panel import Edges, Panel

NAME = "rows by hand"
REST = "in no row"
"""The top of series that no row holds, and its level."""
MOST_ROWS = 5_000
_MOST_SUGGESTED = 200
_JOINED = " × "
_BETWEEN = ": "


@dataclass(frozen=True)
class Drawn:
    """edges: what the rows come to. n_rest: series that no row holds, with some of them."""

    edges: Edges
    n_rest: int
    rest: tuple[str, ...]


def drawn(panel: Panel, rows: Sequence[Sequence[str]]) -> Drawn:
    """Edges of rows (total, what lies below it, and where wanted what the level of the total is called).

    Raises StructureError, with the number of the row, where it has no total or names nothing below it.
    """
    if not rows:
        raise StructureError("There are no rows: name a total and what lies below it.")
    if len(rows) > MOST_ROWS:
        raise StructureError(f"There are {len(rows):,} rows, more than {MOST_ROWS:,}; use a file of edges for them.")
    edges = _Edges(panel, rows)
    for number, row in enumerate(rows, start=1):
        parent, child, level = (part.strip() for part in (*row, "", "")[:3])
        if not parent:
            raise StructureError(f"Row {number}: there is no total.")
        edges.add(number, parent, child, level)
    return edges.done()


def values_of(panel: Panel) -> list[str]:
    """Values of keys and attributes as rows name them, for suggestions: those of few first, none of very many."""
    found: list[list[str]] = []
    for column in (*(name for own in panel.attributes.values() for name in own if name != "name"), *panel.key_names):
        values = sorted(set(panel.column(column) or []) - {""})
        if len(values) <= _MOST_SUGGESTED:
            found.append([f"{column}{_BETWEEN}{value}" for value in values])
    return [one for own in sorted(found, key=len) for one in own]


class _Edges:
    def __init__(self, panel: Panel, rows: Sequence[Sequence[str]]) -> None:
        self._panel = panel
        self._totals = {row[0].strip() for row in rows}
        self._series = list(zip(*(panel.keys[name] for name in panel.key_names), strict=True))
        self._by_name = {_JOINED.join(one): one for one in self._series}
        self._held: set[tuple[str, ...]] = set()
        self._first_row: dict[str, int] = {}
        self._rows: dict[tuple[str, tuple[str, ...]], str] = {}

    def add(self, number: int, parent: str, child: str, level: str) -> None:
        self._first_row.setdefault(parent, number)
        if child in self._totals:
            self._row(parent, (child,), level)
        elif child in self._by_name:
            self._leaf(parent, self._by_name[child], level)
        elif _BETWEEN in child:
            self._row_of_value(number, parent, child, level)
        else:
            raise StructureError(f"Row {number}: {child!r} below {parent!r} is {self._nothing()}")

    def _row_of_value(self, number: int, parent: str, child: str, level: str) -> None:
        column, value = (part.strip() for part in child.split(_BETWEEN, 1))
        own = self._panel.column(column)
        if own is None:
            raise StructureError(f"Row {number}: there is no key or attribute {column!r}; {self._nothing()}")
        names = self._panel.attributes.get(column, {}).get("name", {})
        series = [
            key for key, one in zip(self._series, own, strict=True) if one == value or names.get(one, one) == value
        ]
        if not series:
            raise StructureError(f"Row {number}: no series has the {column} {value!r}.")
        if len(series) == 1:
            self._leaf(parent, series[0], level)
            return
        node = f"{column}{_BETWEEN}{value}"
        self._row(parent, (node,), level)
        for one in series:
            self._leaf(node, one, column)

    def _leaf(self, parent: str, series: tuple[str, ...], level: str) -> None:
        self._held.add(series)
        self._row(parent, series, level)

    def _row(self, parent: str, child: tuple[str, ...], level: str) -> None:
        before = self._rows.get((parent, child), "")
        self._rows[parent, child] = before or level

    def _nothing(self) -> str:
        known = (*self._panel.key_names, *(name for own in self._panel.attributes.values() for name in own))
        value = next((f"{name}: {column[0]}" for name in known if (column := self._panel.column(name))), "")
        return f"neither a total of these rows nor a value such as {value!r} nor a series such as {self._example!r}."

    @property
    def _example(self) -> str:
        return _JOINED.join(self._series[0])

    def _check_all_hold(self) -> None:
        """Raise StructureError where a total holds no series."""
        above: dict[tuple[str, ...], list[str]] = {}
        for parent, child in self._rows:
            above.setdefault(child, []).append(parent)
        todo = [parent for one in self._held for parent in above[one]]
        hold: set[str] = set()
        while todo:
            parent = todo.pop()
            if parent not in hold:
                hold.add(parent)
                todo += above.get((parent,), [])
        for parent, number in self._first_row.items():
            if parent not in hold:
                raise StructureError(f"Row {number}: {parent!r} holds no series; name what lies below it.")

    def done(self) -> Drawn:
        self._check_all_hold()
        rest = [one for one in self._series if one not in self._held]
        top = REST
        while top in self._totals:
            top += "_"
        for one in rest:
            self._row(top, one, REST)
        pairs = list(self._rows)
        edges = Edges(
            NAME,
            tuple(parent for parent, _ in pairs),
            tuple(child for _, child in pairs),
            ("",) * len(pairs),
            tuple(self._rows.values()),
            len(self._panel.key_names) > 1,
        )
        return Drawn(edges, len(rest), tuple(_JOINED.join(one) for one in rest[:3]))
