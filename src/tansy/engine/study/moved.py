"""Which nodes reconciliation moved most, and whose evidence pulled them; how far levels were from adding up before.

With a diagonal W a series moves by its variance times the sum of what its totals pull, and what a total pulls comes
from the gaps between totals and their series (`reconcile.projection`). So the move of a node is told total by total:
what those above it made of it, and for a total what its own series say instead of it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Graph
from tansy.engine.reconcile.covariance import DIAGONAL
from tansy.engine.reconcile.methods import Evidence, covariance
from tansy.engine.reconcile.system import Factor, System
from tansy.engine.study.coherent import nothing_below

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

_PULLED_BY = 3
_DIAGONAL_OF = {"combined": "variance", "shrinkage": "variance", "sample": "variance"}


@dataclass(frozen=True)
class Moved:
    """One node: its forecast over all leads before and after; by how many of its usual errors it moved. of_series: what
    its series say instead of it, 0 of a series. pulls: (node, amount), totals that moved it most, the most first."""

    node: int
    base: float
    reconciled: float
    errors: float
    of_series: float
    pulls: tuple[tuple[int, float], ...]


def moved_most(
    graph: Graph, base: Floats, reconciled: Floats, sigma: Floats, alike: Integers, zero: Booleans, method: str,
    n: int = 40,
) -> list[Moved]:  # fmt: skip
    """The nodes that moved most, in their usual errors over all leads.

    base, reconciled: [nodes, H]. sigma: [nodes], one-step errors. alike: [nodes], see
    `Evidence`. zero: [finest, H], what is zero by decision.
    """
    first = graph.n_aggregates
    before, after = np.nan_to_num(base).sum(axis=1), reconciled.sum(axis=1)
    usual = np.nan_to_num(sigma) * np.sqrt(base.shape[1])
    errors = np.divide(after - before, usual, out=np.zeros_like(after), where=usual > 0.0)
    errors[nothing_below(graph, zero).all(axis=1)] = 0.0  # zero by decision, whatever its own forecast says
    most = np.argsort(-np.abs(errors), kind="stable")[:n]
    most = most[errors[most] != 0.0]
    finest = np.where(zero.all(axis=1), 0.0, before[first:])
    own = graph.summation.matrix @ finest
    of_series = np.concatenate([own - before[:first], np.zeros(graph.n_series)])
    pulls = _pulls(graph, before, finest, Evidence(sigma * sigma, alike=alike), zero, method, most)
    return [
        Moved(node, float(before[node]), float(after[node]), float(errors[node]), float(of_series[node]), pulls[k])
        for k, node in enumerate(most.tolist())
    ]


def _pulls(
    graph: Graph, before: Floats, finest: Floats, given: Evidence, zero: Booleans, method: str, nodes: Integers
) -> list[tuple[tuple[int, float], ...]]:
    """Totals that moved each of some nodes most; none where a method does not go by weights."""
    name = _DIAGONAL_OF.get(method, method)
    if name not in DIAGONAL or not graph.n_aggregates:
        return [()] * len(nodes)
    first, s = graph.n_aggregates, graph.summation.matrix
    never: Booleans = np.asarray(zero.all(axis=1))
    w = covariance(name, graph.summation, given).held(first, never)
    own = w.diagonal[first:] * (0.5 if method == "combined" else 1.0)
    system = System.of(graph.summation)
    factor = Factor(system, w.diagonal[:first], w.diagonal[first:])
    pull = np.empty(first)
    pull[system.order] = factor.pull(factor.gap(finest[:, None], before[:first, None]))[:, 0]
    found = []
    for node in nodes.tolist():
        below = s.indices[s.indptr[node] : s.indptr[node + 1]] if node < first else np.array([node - first])
        amounts = (s[:, below] @ own[below]) * pull
        most = np.argsort(-np.abs(amounts), kind="stable")[:_PULLED_BY]
        found.append(tuple((int(i), float(amounts[i])) for i in most.tolist() if amounts[i] != 0.0))
    return found


def gaps(graph: Graph, base: Floats, zero: Booleans) -> Floats:
    """Per level above the series the largest abs(parent - sum of its series) / max(1, abs(parent)) of forecasts over
    all leads that need not add up, [levels - 1]; base: [nodes, H]. What is zero by decision has none."""
    first = graph.n_aggregates
    total = np.nan_to_num(base).sum(axis=1)
    series = np.where(zero, 0.0, np.nan_to_num(base[first:])).sum(axis=1)
    off = np.abs(total[:first] - graph.summation.matrix @ series) / np.maximum(1.0, np.abs(total[:first]))
    off[nothing_below(graph, zero)[:first].all(axis=1)] = 0.0
    return np.array([off[one.first : one.first + one.n_nodes].max() for one in graph.levels[:-1]])
