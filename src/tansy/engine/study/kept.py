"""Methods that a planner keeps for one node or for all series of a kind, over what the backtest would choose."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import get_type_hints

import numpy as np
from numpy.typing import NDArray

from tansy.engine.entries import misfit
from tansy.engine.errors import RecipeError
from tansy.engine.graph.graph import Graph, node_id
from tansy.engine.methods.notation import parse
from tansy.engine.profile.kinds import Kinds

Integers = NDArray[np.int64]


@dataclass(frozen=True)
class KeptMethod:
    """node: as `Graph.ids` has it, such as '{"group": "Herbs", "store": "S1"}'; or kind: one of the
    groups of `Kinds.groups`, of the finest series."""

    method: str
    reason: str
    node: str = ""
    kind: str = ""

    def words(self) -> str:
        return f"kept by hand{' for all ' + self.kind + ' series' if self.kind else ''}: {self.reason}"


def read_kept(entries: dict[str, str]) -> KeptMethod:
    """One [[methods.kept]] of a recipe. Raises RecipeError or NotationError where it is not sound."""
    wrong = misfit(entries, get_type_hints(KeptMethod))
    if wrong:
        raise RecipeError(f"[[methods.kept]] {wrong[1]}.")
    if not entries.get("method") or not entries.get("reason", "").strip():
        raise RecipeError("[[methods.kept]] needs a method and a reason.")
    if bool(entries.get("node")) == bool(entries.get("kind")):
        raise RecipeError("[[methods.kept]] is for one node or for a kind; give one of them.")
    return KeptMethod(
        str(parse(entries["method"])), entries["reason"].strip(), _id(entries.get("node", "")), entries.get("kind", "")
    )


def _id(written: str) -> str:
    """A node's id, in whatever order it was written. What is none is left as it is, and is the id of no node."""
    try:
        where = json.loads(written)
    except ValueError:
        return written
    return node_id(where) if isinstance(where, dict) else written


def kept_methods(
    kept: Sequence[KeptMethod], methods: Sequence[str], graph: Graph, kinds: Kinds
) -> tuple[Integers, dict[int, str]]:
    """Position of the method kept for each node, [nodes], -1 for none, and the words for each node that has one.

    A method kept for a node goes before one kept for its kind, the later before the earlier. kinds: of all nodes.
    Raises RecipeError where there is no such kind.
    """
    found = np.full(graph.n_nodes, -1, dtype=np.int64)
    words: dict[int, str] = {}
    if not kept:
        return found, words
    at = graph.position
    groups = kinds.groups()
    finest = np.arange(graph.n_nodes) >= graph.n_aggregates
    for one in sorted(kept, key=lambda one: bool(one.node)):
        if one.node:
            nodes = np.array([at[one.node]] if one.node in at else [], dtype=np.int64)
        elif one.kind in groups:
            nodes = np.nonzero(groups[one.kind] & finest)[0]
        else:
            raise RecipeError(f"There is no kind {one.kind!r}; kinds are {', '.join(groups)}.")
        found[nodes] = list(methods).index(one.method)
        words.update(dict.fromkeys(nodes.tolist(), one.words()))
    return found, words
