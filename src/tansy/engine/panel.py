"""Many series on one timeline."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import FileError
from tansy.engine.timeline import Timeline


@dataclass(frozen=True)
class Panel:
    """Values of many series, all on the same timeline.

    key_names: the columns that name a series, such as ("product", "store").
    keys: per key column, the value of each series, [n_series] each.
    values: float64 [n_series, n_periods]; NaN is missing.
    attributes: per key column, then per attribute, the value for each key: {"product": {"group": {"P1": "Hostas"}}}.
    """

    timeline: Timeline
    key_names: tuple[str, ...]
    keys: dict[str, list[str]]
    values: NDArray[np.float64]
    attributes: dict[str, dict[str, dict[str, str]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if self.values.shape != (self.n_series, self.timeline.n_periods):
            raise FileError(
                f"The values have shape {self.values.shape}, but there are {self.n_series} series "
                f"and {self.timeline.n_periods} periods."
            )

    @property
    def n_series(self) -> int:
        return len(self.keys[self.key_names[0]]) if self.key_names else len(self.values)

    def series_key(self, i: int) -> dict[str, str]:
        return {name: self.keys[name][i] for name in self.key_names}

    def fingerprint(self) -> str:
        """Hash of everything a study reads from a panel."""
        h = hashlib.sha256(np.ascontiguousarray(self.values).tobytes())
        h.update(repr((self.timeline, self.key_names, self.keys, self.attributes)).encode())
        return h.hexdigest()
