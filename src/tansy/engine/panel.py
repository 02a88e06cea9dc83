"""Many series on one timeline."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import FileError, StructureError
from tansy.engine.timeline import Timeline


@dataclass(frozen=True)
class Edges:
    """Which node or series lies below which parent, one entry an edge.

    name: of the file. children: the name of a node, or the key values of a series. splits: tell apart the ways in which
    a parent is divided. levels: what the parent's level is called, may be empty. several_keys: series have several key
    values, so that a child of one part is a node.
    """

    name: str
    parents: tuple[str, ...]
    children: tuple[tuple[str, ...], ...]
    splits: tuple[str, ...]
    levels: tuple[str, ...]
    several_keys: bool

    def child(self, e: int) -> str | tuple[str, ...]:
        """What edge e leads to: a node by its name, a series by its key values."""
        child = self.children[e]
        return child[0] if len(child) == 1 and (self.several_keys or child[0] in self._totals) else child

    @cached_property
    def _totals(self) -> frozenset[str]:
        return frozenset(self.parents)


@dataclass(frozen=True)
class Panel:
    """Values of many series, all on the same timeline.

    key_names: the columns that name a series, such as ("product", "store").
    keys: per key column, the value of each series, [n_series] each.
    values: float64 [n_series, n_periods]; NaN is missing.
    attributes: per key column, then per attribute, the value for each key: {"product": {"group": {"P1": "Hostas"}}}.
    drivers: per name, float64 [n_series, n_periods + n_ahead], known ahead; NaN is not known. A driver that holds only
    0 and 1 is a switch: promotion, holiday.
    edges: how the series add up, where a file says so.
    """

    timeline: Timeline
    key_names: tuple[str, ...]
    keys: dict[str, list[str]]
    values: NDArray[np.float64]
    attributes: dict[str, dict[str, dict[str, str]]] = field(default_factory=dict)
    drivers: dict[str, NDArray[np.float64]] = field(default_factory=dict)
    edges: Edges | None = None

    def __post_init__(self) -> None:
        if self.values.shape != (self.n_series, self.timeline.n_periods):
            raise FileError(
                f"The values have shape {self.values.shape}, but there are {self.n_series} series "
                f"and {self.timeline.n_periods} periods."
            )

    @property
    def n_series(self) -> int:
        return len(self.keys[self.key_names[0]]) if self.key_names else len(self.values)

    @property
    def n_ahead(self) -> int:
        """Periods after the last one for which drivers are known."""
        return (
            max((d.shape[1] for d in self.drivers.values()), default=self.timeline.n_periods) - self.timeline.n_periods
        )

    def until(self, n_periods: int, n_ahead: int) -> Panel:
        """As it was when `n_periods` periods had been seen, with drivers as they were planned for `n_ahead` more."""
        return replace(
            self,
            timeline=self.timeline.until(n_periods),
            values=self.values[:, :n_periods],
            drivers={name: one[:, : n_periods + n_ahead] for name, one in self.drivers.items()},
        )

    def past_driver(self, name: str) -> NDArray[np.float64]:
        return self.drivers[name][:, : self.timeline.n_periods]

    def switches(self) -> list[str]:
        """Drivers that hold only 0 and 1 and are on somewhere."""
        return [n for n, d in self.drivers.items() if n != "stock" and is_switch(d)]

    def column(self, name: str) -> list[str] | None:
        """What every series is on a key or an attribute, None where there is no such name."""
        if name in self.keys:
            return self.keys[name]
        for key, known in self.attributes.items():
            if name in known:
                return [known[name].get(value, "") for value in self.keys[key]]
        return None

    def where(self, wanted: dict[str, str]) -> NDArray[np.bool_]:
        """Which series have these values of keys or attributes. Raises StructureError on a name that is neither."""
        chosen = np.ones(self.n_series, dtype=bool)
        for name, value in wanted.items():
            column = self.column(name)
            if column is None:
                raise StructureError(f"There is no key or attribute {name!r}.")
            chosen &= np.array([text == value for text in column], dtype=bool)
        return chosen

    def series_key(self, i: int) -> dict[str, str]:
        return {name: self.keys[name][i] for name in self.key_names}

    def fingerprint(self) -> str:
        """Hash of everything a study reads from a panel."""
        h = hashlib.sha256(np.ascontiguousarray(self.values).tobytes())
        h.update(
            repr((self.timeline, self.key_names, self.keys, self.attributes, sorted(self.drivers), self.edges)).encode()
        )
        for name in sorted(self.drivers):
            h.update(np.ascontiguousarray(self.drivers[name]).tobytes())
        return h.hexdigest()


def is_switch(driver: NDArray[np.float64]) -> bool:
    known = driver[~np.isnan(driver)]
    return bool(len(known) and ((known == 0.0) | (known == 1.0)).all() and known.any())


def filled_inside(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Straight lines across gaps between known values; what lies before the first or after the last stays missing."""
    _n, length = values.shape
    t = np.arange(length)
    seen = ~np.isnan(values)
    if seen.all():
        return values
    before = np.maximum.accumulate(np.where(seen, t, -1), axis=1)
    after = np.minimum.accumulate(np.where(seen, t, length)[:, ::-1], axis=1)[:, ::-1]
    inside = ~seen & (before >= 0) & (after < length)
    row, column = np.nonzero(inside)
    left, right = before[row, column], after[row, column]
    share = (column - left) / (right - left)
    filled = values.copy()
    filled[row, column] = values[row, left] * (1.0 - share) + values[row, right] * share
    return filled
