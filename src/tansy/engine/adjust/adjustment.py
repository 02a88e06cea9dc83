"""One change of a forecast, as somebody wrote it, and where it lies in a study."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, asdict, dataclass, fields
from typing import Any, get_type_hints

import numpy as np
from numpy.typing import NDArray

from tansy.engine.entries import frozen, misfit
from tansy.engine.errors import AdjustmentError, StructureError
from tansy.engine.graph.graph import Graph, node_id
from tansy.engine.panel import Panel
from tansy.engine.timeline import Timeline, number_of

Integers = NDArray[np.int64]

CHANGES = ("set", "add", "percent", "cap", "floor", "shift")
SPREADS = ("forecast", "history", "even", "reconcile")
OVER = ("each", "sum")
_MOST_PERCENT = 10_000.0
_IN_FILES = {"first": "from", "last": "to"}
"""Entries whose names in recipes and files are no names in Python."""


@dataclass(frozen=True)
class Adjustment:
    """where: keys and attributes that name one node, {} for the total. first, last: periods. change: one of CHANGES, by
    `amount` (periods later of a shift). over: whether the amount is for `each` period or for their `sum`. spread: how
    it comes to the series below, one of SPREADS. locked: nodes that stay as they are, named like `where`."""

    where: dict[str, str]
    first: str
    last: str
    change: str
    amount: float
    over: str = "each"
    spread: str = "forecast"
    locked: tuple[dict[str, str], ...] = ()
    reason: str = ""
    author: str = ""

    def entries(self) -> dict[str, Any]:
        """As a recipe has it."""
        usual = {"over": "each", "spread": "forecast"}
        return {
            _IN_FILES.get(name, name): list(value) if isinstance(value, tuple) else value
            for name, value in asdict(self).items()
            if name == "where" or (value not in ((), "", [], None) and usual.get(name) != value)
        }

    def words(self) -> str:
        """ "+10 % from 2026-W45 to 2026-W48"."""
        amount = f"{abs(self.amount):,.10g}"
        sign = "+" if self.amount >= 0 else "−"
        what = {
            "set": f"set to {'−' if self.amount < 0 else ''}{amount}", "add": f"{sign}{amount}",
            "percent": f"{sign}{amount} %", "cap": f"at most {amount}", "floor": f"at least {amount}",
            "shift": f"{amount} {'later' if self.amount >= 0 else 'earlier'}",
        }[self.change]  # fmt: skip
        if self.over == "sum" and self.change in ("set", "add", "cap", "floor"):
            what += " in all"
        return f"{what}, {self.first}" if self.first == self.last else f"{what}, {self.first} to {self.last}"


def read_adjustment(entries: Mapping[str, Any]) -> Adjustment:
    """From a recipe, a file or the screen. Raises AdjustmentError that names the entry at fault."""
    in_python = {written: name for name, written in _IN_FILES.items()}
    wanted = {_IN_FILES.get(name, name): kind for name, kind in get_type_hints(Adjustment).items()}
    wrong = misfit(entries, wanted)
    if wrong:
        raise AdjustmentError(wrong[0], f"An adjustment {wrong[1]}.")
    for one in fields(Adjustment):
        written = _IN_FILES.get(one.name, one.name)
        if one.default is MISSING and one.default_factory is MISSING and written not in entries:
            raise AdjustmentError(written, f"An adjustment needs {written!r}.")
    found = Adjustment(**frozen({in_python.get(name, name): value for name, value in entries.items()}))
    for name, known in (("change", CHANGES), ("spread", SPREADS), ("over", OVER)):
        if getattr(found, name) not in known:
            raise AdjustmentError(name, f"{name} is one of {', '.join(known)}, not {getattr(found, name)!r}.")
    if found.change == "shift" and found.amount != round(found.amount):
        raise AdjustmentError("amount", "A shift is by whole periods.")
    if found.change == "percent" and not -100.0 <= found.amount <= _MOST_PERCENT:
        raise AdjustmentError("amount", f"A percentage lies between -100 and {_MOST_PERCENT:,.0f}.")
    return found


@dataclass(frozen=True)
class Placed:
    """An adjustment in a study. node: number. leads: positions, ascending; without any it has passed. locked: nodes.
    made: the sum that was forecast for its node and periods when it was made, and what it changed of it; None where
    that is not known, or where some of its periods have passed."""

    adjustment: Adjustment
    node: int
    leads: Integers
    locked: Integers
    made: tuple[float, float] | None = None


def place(
    adjustment: Adjustment, graph: Graph, panel: Panel, ahead: Timeline, made: tuple[float, float] | None = None
) -> Placed:
    """Where an adjustment lies. ahead: the leads. Raises AdjustmentError where there is no such node or period."""
    first, last = (_period(name, getattr(adjustment, name), ahead) for name in ("first", "last"))
    if first > last:
        raise AdjustmentError("to", f"It ends in {adjustment.last}, before it begins in {adjustment.first}.")
    numbers = np.arange(ahead.first, ahead.first + ahead.n_periods)
    leads = np.nonzero((numbers >= first) & (numbers <= last))[0]
    locked = [node_of(graph, panel, one, "locked") for one in adjustment.locked]
    return Placed(
        adjustment, node_of(graph, panel, adjustment.where, "where"), leads, np.array(sorted(set(locked)), np.int64),
        made if len(leads) == last - first + 1 else None,
    )  # fmt: skip


def _period(name: str, text: str, ahead: Timeline) -> int:
    number = number_of(text, ahead.frequency)
    if number is None:
        raise AdjustmentError(_IN_FILES[name], f"{text!r} is no period such as {ahead.labels[0]}.")
    return number


def node_of(graph: Graph, panel: Panel, where: Mapping[str, str], entry: str) -> int:
    """The node that is called so, or that holds just the series with these keys and attributes.

    Raises AdjustmentError where there is none.
    """
    known = graph.position.get(node_id(where))
    if known is not None:
        return known
    said = " × ".join(where.values()) or "the total"
    try:
        mask = panel.where(dict(where))
    except StructureError as error:
        raise AdjustmentError(entry, str(error)) from None
    inside = mask.sum()
    if inside == 1:
        return graph.n_aggregates + int(np.argmax(mask))
    matrix = graph.summation.matrix
    same = (matrix @ mask.astype(np.float64) == inside) & (np.diff(matrix.indptr) == inside)
    if not inside or not same.any():
        lacking = "there is no series there" if not inside else "no node of the structure holds just these series"
        raise AdjustmentError(entry, f"{said}: {lacking}.")
    return int(np.argmax(same))
