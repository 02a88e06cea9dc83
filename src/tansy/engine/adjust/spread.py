"""How a change of a total comes to the series below it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]

_ROUNDS = 50


class TooLittle(Exception):
    """What may move cannot fall by so much without going below zero. least: what it would leave at least."""

    def __init__(self, least: float) -> None:
        super().__init__(f"not below {least}")
        self.least = least


def spread(values: Floats, change: Floats, weights: Floats, free: Booleans, nonnegative: bool) -> Floats:
    """`values` [k, leads] with `change` [leads] added to those that are `free` [k], by `weights` [k, leads].

    Weights that are all zero at a lead are taken as equal. Where a series would fall below zero, it is zero and the
    rest goes to the others. Raises TooLittle where all of them together hold less than they are to lose.
    """
    held = values[~free].sum(axis=0)
    own = values[free].copy()
    if nonnegative and (own.sum(axis=0) + change < -1e-9 * np.maximum(np.abs(change), 1.0)).any():
        raise TooLittle(float(held[np.argmin(own.sum(axis=0) + change)]))
    share = np.maximum(weights[free], 0.0)
    share = np.where(share.sum(axis=0) > 0.0, share, 1.0)
    left = change.copy()
    for _ in range(_ROUNDS):
        total = share.sum(axis=0)
        share = np.where(total > 0.0, share, np.where(own > 0.0, own, 0.0))  # those with a weight have run out
        total = np.where(share.sum(axis=0) > 0.0, share.sum(axis=0), 1.0)
        moved = own + share * (left / total)
        if not nonnegative or (moved >= 0.0).all():
            own = moved
            break
        left = np.minimum(moved, 0.0).sum(axis=0)
        own = np.maximum(moved, 0.0)
        share = np.where(own > 0.0, share, 0.0)
    found = values.copy()
    found[free] = np.maximum(own, 0.0) if nonnegative else own
    return found


def whole(values: Floats, total: float) -> Floats:
    """Whole numbers [k] near `values` that add up to the whole number `total`: whole parts, and what is then missing
    one by one to the largest remainders, ties to the first; what is too much from the smallest, none below zero."""
    floor = np.floor(values + 1e-9)
    missing = round(total - floor.sum())
    order = np.argsort(-(values - floor), kind="stable")
    while missing > 0:
        step = order[: min(missing, len(order))]
        floor[step] += 1.0
        missing -= len(step)
    for i in order[::-1]:
        if missing >= 0:
            break
        taken = min(floor[i], -missing) if len(order) > 1 else -missing
        floor[i] -= taken
        missing += int(taken)
    return np.asarray(floor)
