"""Quantiles of draws, many nodes side by side.

A sorting network (Batcher 1968) compares the same places whatever the values, so that a block of nodes is sorted in
lockstep, by the machine's least and greatest of several numbers at once.
"""

import numpy as np
from numba import njit

from tansy.engine.kernels.options import AS_WRITTEN, KERNEL, PART

_LANES = 64


@njit(**PART | AS_WRITTEN)
def comparisons(n, at):
    """Pairs [k, 2] of places whose exchanges, one after the other, bring the order statistics `at` of n values to their
    places: Batcher's merges of odds and evens, without those that no such place hears of."""
    pairs = np.empty((n * 64, 2), dtype=np.int32)
    count = 0
    p = 1
    while p < n:
        k = p
        while k >= 1:
            for j in range(k % p, n - k, 2 * k):
                for i in range(min(k, n - j - k)):
                    a, b = i + j, i + j + k
                    if a // (2 * p) == b // (2 * p):
                        if count == len(pairs):
                            larger = np.empty((2 * count, 2), dtype=np.int32)
                            larger[:count] = pairs
                            pairs = larger
                        pairs[count, 0], pairs[count, 1] = a, b
                        count += 1
            k //= 2
        p *= 2
    heard = np.zeros(n, dtype=np.bool_)
    heard[at] = True
    kept = count
    for i in range(count - 1, -1, -1):
        a, b = pairs[i]
        if heard[a] or heard[b]:
            heard[a] = heard[b] = True
            kept -= 1
            pairs[kept, 0], pairs[kept, 1] = a, b
    return pairs[kept:count].copy()


@njit(**KERNEL | AS_WRITTEN)
def quantiles(draws, at, share, out):
    """out [nodes, Q]: of draws [nodes, n] the order statistics `at` [Q] and the ones after, that far (`share` [Q])
    from the first to the second."""
    n_nodes, n = draws.shape
    after = np.minimum(at + 1, n - 1)
    pairs = comparisons(n, np.concatenate((at, after)))
    block = np.empty((n, _LANES), dtype=draws.dtype)
    for first in range(0, n_nodes, _LANES):
        here = min(_LANES, n_nodes - first)
        for c in range(here):
            for i in range(n):
                block[i, c] = draws[first + c, i]
        for c in range(here, _LANES):
            for i in range(n):
                block[i, c] = block[i, 0]
        _exchange(block, pairs)
        for q in range(len(at)):
            for c in range(here):
                a, b = block[at[q], c], block[after[q], c]
                out[first + c, q] = a + share[q] * (b - a)


@njit(**PART | AS_WRITTEN)
def _exchange(block, pairs):
    """The lesser of each pair of rows of block [n, lanes] first."""
    for i in range(len(pairs)):
        a, b = pairs[i, 0], pairs[i, 1]
        for c in range(_LANES):
            x, y = block[a, c], block[b, c]
            block[a, c] = min(x, y)
            block[b, c] = max(x, y)


@njit(**KERNEL | AS_WRITTEN)
def cut_and_rescale(draws, mean):
    """Draws [finest, n] below zero are nothing, and the others are drawn to the mean [finest] again, in place."""
    for f in range(draws.shape[0]):
        total = 0.0
        for i in range(draws.shape[1]):
            if draws[f, i] < 0.0:
                draws[f, i] = 0.0
            total += draws[f, i]
        wanted = mean[f] * draws.shape[1]
        if total > 0.0:
            by = wanted / total
            for i in range(draws.shape[1]):
                draws[f, i] *= by
        else:
            for i in range(draws.shape[1]):
                draws[f, i] = mean[f]


@njit(**KERNEL | AS_WRITTEN)
def around_base(base, spread, errors, out):
    """out [nodes, n]: base [nodes] + spread [nodes] times errors [nodes, n]."""
    for i in range(out.shape[0]):
        for t in range(out.shape[1]):
            out[i, t] = base[i] + spread[i] * errors[i, t]
