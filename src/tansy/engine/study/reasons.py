"""Why each node has its method, as a planner reads it."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.choice import Choices, Ground
from tansy.engine.graph.graph import Graph
from tansy.engine.methods.notation import parse

Integers = NDArray[np.int64]

_MOST = 0.995  # "100 % lower" is not said of an error that is not zero
_OF_KIND = ("other ", "slow-moving ", "in-season ")
"""What groups of a kind are called, see `Seen.kind`."""


def reasons(choices: Choices, methods: tuple[str, ...], graph: Graph, kind: Integers, group: Integers) -> list[str]:
    """A sentence for each node; empty where it has no method. kind, group: [nodes], see `Seen` and `Evidence`."""
    short = [parse(text).brief for text in methods]
    called = _called(graph, kind, group)
    columns = (choices.method, choices.ground, choices.stood, choices.ahead, choices.doubt, choices.windows, group)
    return [
        _sentence(method, Ground(ground), short[stood], called[own], ahead, doubt, windows)
        for method, ground, stood, ahead, doubt, windows, own in zip(*(one.tolist() for one in columns), strict=True)
    ]


def _called(graph: Graph, kind: Integers, group: Integers) -> dict[int, str]:
    """What each group is called: by its kind where all of it are of one, and as a whole where it is the level."""
    found = {}
    present, first, sizes = np.unique(group, return_index=True, return_counts=True)
    low = np.full(int(group.max(initial=0)) + 1, len(_OF_KIND))
    high = np.full(len(low), -1)
    np.minimum.at(low, group, kind)
    np.maximum.at(high, group, kind)
    for own, i, n in zip(present.tolist(), first.tolist(), sizes.tolist(), strict=True):
        level = graph.levels[int(graph.level_of[i])]
        word = _OF_KIND[low[own] if low[own] == high[own] else 0] if n < level.n_nodes else ""
        found[own] = f"the {n:,} {word}nodes of {level.name}" if n > 1 else "this node"
    return found


def _sentence(method: int, ground: Ground, stood: str, group: str, ahead: float, doubt: float, windows: int) -> str:
    if method < 0:
        return ""
    tested = f"{windows} window{'' if windows == 1 else 's'}"
    if ground == Ground.UNTESTED:
        return "Too new to be tested at any origin: what the recipe takes until there is evidence."
    if ground == Ground.STANDS:
        return (
            f"The recipe's first choice. Over {group} and {tested}, no other method was better by more than chance "
            "explains."
        )
    percent = f"{100.0 * min(max(ahead, 0.0), _MOST):.0f} %"
    sure = f" (± {100.0 * doubt:.0f})" if math.isfinite(doubt) else ""
    if ground == Ground.OWN:
        return f"Better here than {stood}, which its group has: {percent}{sure} less error, judged by its own {tested}."
    if ground == Ground.GROUP:
        return f"Better than {stood} over {group}: {percent}{sure} less error in {tested}."
    return f"The least error over {group}, in {tested}; the recipe prefers no method."
