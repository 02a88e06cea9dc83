"""Whole numbers that still add up: largest remainder down one tree of a grouped graph."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]


def whole_numbers(values: Floats, parents: list[Integers]) -> Floats:
    """Round the finest values so that, down a tree, every total is itself rounded.

    values: [finest, H], none below zero. parents: from the top down, for each level of the tree below the one total the
    parent of each of its nodes, [nodes of the level]; the last level holds the finest values in their order.
    Returns whole numbers [finest, H]. The total is rounded to the nearest; at every node the children get their whole
    parts, and what is then missing goes one by one to the largest remainders, ties to the first. So each node of the
    tree is less than one off, and what is zero stays zero.
    """
    below = [values]
    for parent in reversed(parents):
        above = np.zeros((int(parent.max()) + 1, values.shape[1]))
        np.add.at(above, parent, below[-1])
        below.append(above)
    rounded = np.floor(below.pop() + 0.5 + 1e-9)
    for parent in parents:
        exact = below.pop()
        # a sum of floats may lie a hair below the whole number that it means
        whole = np.floor(exact + 1e-9 * np.maximum(np.abs(exact), 1.0))
        remainder = exact - whole
        placed = np.zeros_like(rounded)
        np.add.at(placed, parent, whole)
        missing = rounded - placed
        for h in range(values.shape[1]):
            order = np.lexsort((-remainder[:, h], parent))
            groups = parent[order]
            first = np.r_[True, groups[1:] != groups[:-1]]
            rank = np.arange(len(order)) - np.maximum.accumulate(np.where(first, np.arange(len(order)), 0))
            whole[order, h] += rank < missing[groups, h]
        rounded = whole
    return rounded
