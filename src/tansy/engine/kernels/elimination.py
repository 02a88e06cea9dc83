"""The sparse system of reconciliation, A = diag(w_totals) + S diag(w_finest) S', factored as L L'.

S [totals, finest] is all ones where it is not zero, so that no matrix product is formed: column b of A is gathered,
when its turn comes, from the finest nodes of total b and the totals of each of these. S is given twice, by rows
(`below`) and by columns (`above`), the totals in the order in which they are eliminated, the smallest first. Which
entries of L are not zero hangs on S alone and is found once; the numbers, where other nodes are held at zero, again and
again. Columns of L lie one after the other, the diagonal first, rows ascending. Most columns of a grouped structure end
in the same few coarse totals; what such columns take from these is added up first and taken once.

Gilbert, Ng, Peyton 1994 (structure, factor); Takahashi, Fagan, Chen 1973 (inverse on the structure of L).
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import AS_WRITTEN, KERNEL, PART


@njit(**KERNEL | AS_WRITTEN)
def structure(below_start, below, above_start, above):
    """Where L is not zero: column starts [n + 1] and rows.

    Column j holds what A's column holds, and what columns hold whose first row below the diagonal is j.
    """
    n = len(below_start) - 1
    start = np.zeros(n + 1, dtype=np.int64)
    rows = np.empty(max(16, 4 * len(below)), dtype=np.int32)
    seen = np.full(n, -1, dtype=np.int64)
    child = np.full(n, -1, dtype=np.int64)
    sibling = np.full(n, -1, dtype=np.int64)
    column = np.empty(n, dtype=np.int32)
    for j in range(n):
        seen[j] = j
        count = 0
        for p in range(below_start[j], below_start[j + 1]):
            f = below[p]
            for q in range(above_start[f], above_start[f + 1]):
                i = above[q]
                if i > j and seen[i] != j:
                    seen[i] = j
                    column[count] = i
                    count += 1
        c = child[j]
        while c >= 0:
            for q in range(start[c] + 1, start[c + 1]):
                i = rows[q]
                if i > j and seen[i] != j:
                    seen[i] = j
                    column[count] = i
                    count += 1
            c = sibling[c]
        first = start[j]
        if first + count + 1 > len(rows):
            larger = np.empty(2 * (first + count + 1), dtype=np.int32)
            larger[:first] = rows[:first]
            rows = larger
        rows[first] = j
        rows[first + 1 : first + 1 + count] = np.sort(column[:count])
        start[j + 1] = first + 1 + count
        if count > 0:
            parent = rows[first + 1]
            sibling[j] = child[parent]
            child[parent] = j
    return start, rows[: start[n]].copy()


_MOST_PLACES = 50_000_000  # 200 MB


@njit(**KERNEL | AS_WRITTEN)
def places(above_start, above, start, rows):
    """Where in L's values each finest node adds to, for every pair of the places above it, one node after the other;
    empty where they are too many to keep."""
    count = 0
    for f in range(len(above_start) - 1):
        n_above = above_start[f + 1] - above_start[f]
        count += n_above * (n_above + 1) // 2
    if count > _MOST_PLACES:
        return np.empty(0, dtype=np.int32)
    found = np.empty(count, dtype=np.int32)
    count = 0
    for f in range(len(above_start) - 1):
        for p in range(above_start[f], above_start[f + 1]):
            at = start[above[p]]
            for q in range(p, above_start[f + 1]):
                while rows[at] != above[q]:
                    at += 1
                found[count] = at
                count += 1
    return found


_LAST = 256  # columns: those of the coarsest totals


@njit(**KERNEL | AS_WRITTEN)
def alike(start, rows):
    """Columns that end alike, below which L takes from the last columns the same outer product over and over.

    Returns which kind of end each column has [n], -1 where it shares none; where that end begins [n], after the column
    where it shares none; and one column of each kind. Kinds that have fewer columns than their end has rows are
    dropped, so that a square for each kind is no more than what L itself holds.
    """
    n = len(start) - 1
    first = max(0, n - _LAST)
    kind = np.full(n, -1, dtype=np.int32)
    begin = start[1:].copy()
    columns = np.empty(first, dtype=np.int32)
    members = np.zeros(first, dtype=np.int64)
    slots = np.full(2 * first + 1, -1, dtype=np.int32)
    count = 0
    for j in range(first):
        end = start[j + 1]
        while rows[begin[j] - 1] >= first:
            begin[j] -= 1
        code = np.uint64(14695981039346656037)  # Fowler, Noll, Vo
        for q in range(begin[j], end):
            code = (code ^ np.uint64(rows[q])) * np.uint64(1099511628211)
        at = np.int64(code % np.uint64(len(slots)))
        while slots[at] >= 0:
            other = columns[slots[at]]
            if np.array_equal(rows[begin[other] : start[other + 1]], rows[begin[j] : end]):
                break
            at = (at + 1) % len(slots)
        if slots[at] < 0:
            slots[at] = count
            columns[count] = j
            count += 1
        kind[j] = slots[at]
        members[slots[at]] += 1
    kept = np.full(count, -1, dtype=np.int32)
    n_kept = 0
    for a in range(count):
        j = columns[a]
        if members[a] >= max(2, start[j + 1] - begin[j]) and begin[j] < start[j + 1]:
            kept[a] = n_kept
            columns[n_kept] = j
            n_kept += 1
    for j in range(first):
        kind[j] = kept[kind[j]]
        if kind[j] < 0:
            begin[j] = start[j + 1]
    return kind, begin, columns[:n_kept].copy()


@njit(**KERNEL | AS_WRITTEN)
def factor(above_start, above, places, start, rows, kind, begin, columns, w_totals, w_finest, values):
    """Fill in L's values. places: see `places`; kind, begin, columns: see `alike`. Returns -1, or the first column at
    which A is not positive definite."""
    n = len(start) - 1
    values[:] = 0.0
    for j in range(n):
        values[start[j]] = w_totals[j]
    _gather(above_start, above, places, start, rows, w_finest, values)
    square = np.zeros(len(columns) + 1, dtype=np.int64)
    for a in range(len(columns)):
        j = columns[a]
        square[a + 1] = square[a] + (start[j + 1] - begin[j]) ** 2
    together = np.zeros(square[-1])
    for j in range(n):
        if j == max(0, n - _LAST):
            _take_together(start, rows, begin, columns, square, together, values)
        if not values[start[j]] > 0.0:
            return j
        root = math.sqrt(values[start[j]])
        values[start[j]] = root
        for q in range(start[j] + 1, start[j + 1]):
            values[q] /= root
        for q in range(start[j] + 1, begin[j]):
            at = start[rows[q]]
            for r in range(q, start[j + 1]):
                while rows[at] != rows[r]:
                    at += 1
                values[at] -= values[q] * values[r]
        if kind[j] >= 0:
            own = values[begin[j] : start[j + 1]]
            m = len(own)
            for q in range(m):
                line = together[square[kind[j]] + q * m : square[kind[j]] + (q + 1) * m]
                pull = own[q]
                for r in range(m):  # the whole square: it is faster than half of it
                    line[r] += pull * own[r]
    return -1


@njit(**PART | AS_WRITTEN)
def _gather(above_start, above, places, start, rows, w_finest, values):
    """Add S diag(w_finest) S' to values."""
    first = 0
    for f in range(len(above_start) - 1):
        n_above = above_start[f + 1] - above_start[f]
        last = first + n_above * (n_above + 1) // 2
        w = w_finest[f]
        if w != 0.0 and len(places) > 0:
            for q in range(first, last):
                values[places[q]] += w
        elif w != 0.0:
            for p in range(above_start[f], above_start[f + 1]):
                place = start[above[p]]
                for q in range(p, above_start[f + 1]):
                    while rows[place] != above[q]:
                        place += 1
                    values[place] += w
        first = last


@njit(**PART | AS_WRITTEN)
def _take_together(start, rows, begin, columns, square, together, values):
    """Take from the last columns what the columns of each kind have in common."""
    for a in range(len(columns)):
        first, last = begin[columns[a]], start[columns[a] + 1]
        for q in range(first, last):
            at = start[rows[q]]
            for r in range(q, last):
                while rows[at] != rows[r]:
                    at += 1
                values[at] -= together[square[a] + (q - first) * (last - first) + r - first]


@njit(**KERNEL | AS_WRITTEN)
def solve(start, rows, values, b):
    """Overwrite b [n, columns] with A^-1 b. Each column is what it would be alone, to the bit."""
    n, k = b.shape
    if k == 1:
        _solve_one(start, rows, values, b[:, 0])
        return
    for j in range(n):
        back = 1.0 / values[start[j]]
        for c in range(k):
            b[j, c] *= back
        for q in range(start[j] + 1, start[j + 1]):
            i, v = rows[q], values[q]
            for c in range(k):
                b[i, c] -= v * b[j, c]
    for j in range(n - 1, -1, -1):
        for q in range(start[j] + 1, start[j + 1]):
            i, v = rows[q], values[q]
            for c in range(k):
                b[j, c] -= v * b[i, c]
        back = 1.0 / values[start[j]]
        for c in range(k):
            b[j, c] *= back


@njit(**PART | AS_WRITTEN)
def _solve_one(start, rows, values, b):
    """The same for b [n], what is worked on kept at hand: twice as fast."""
    n = len(b)
    for j in range(n):
        x = b[j] * (1.0 / values[start[j]])
        b[j] = x
        for q in range(start[j] + 1, start[j + 1]):
            b[rows[q]] -= values[q] * x
    for j in range(n - 1, -1, -1):
        x = b[j]
        for q in range(start[j] + 1, start[j + 1]):
            x -= values[q] * b[rows[q]]
        b[j] = x * (1.0 / values[start[j]])


@njit(**KERNEL | AS_WRITTEN)
def inverse_there(start, rows, values):
    """A^-1 where L is not zero, from the last column to the first: what it needs of later columns is there by then."""
    n = len(start) - 1
    inverse = np.empty_like(values)
    place = np.full(n, -1, dtype=np.int64)
    total = np.zeros(n)
    for j in range(n - 1, -1, -1):
        first, last = start[j] + 1, start[j + 1]
        for q in range(first, last):
            place[rows[q]] = q
            total[rows[q]] = 0.0
        for q in range(first, last):
            k = rows[q]
            for r in range(start[k], start[k + 1]):
                i = rows[r]
                if place[i] >= 0:
                    z = inverse[r]
                    total[i] += values[q] * z
                    if i != k:
                        total[k] += values[place[i]] * z
        root = values[start[j]]
        diagonal = 1.0 / (root * root)
        for q in range(first, last):
            inverse[q] = -total[rows[q]] / root
            diagonal -= values[q] * inverse[q] / root
            place[rows[q]] = -1
        inverse[start[j]] = diagonal
    return inverse


@njit(**KERNEL | AS_WRITTEN)
def around_finest(below_start, below, above_start, above, start, rows, inverse, out):
    """out [finest]: sum of A^-1 over all pairs of totals that a finest node lies below, s' A^-1 s."""
    n = len(start) - 1
    work = np.zeros(n)
    out[:] = 0.0
    for j in range(n):
        for q in range(start[j], start[j + 1]):
            work[rows[q]] = inverse[q]
        for p in range(below_start[j], below_start[j + 1]):
            f = below[p]
            for q in range(above_start[f + 1] - 1, above_start[f] - 1, -1):
                i = above[q]
                if i < j:
                    break
                out[f] += work[i] if i == j else 2.0 * work[i]
        for q in range(start[j], start[j + 1]):
            work[rows[q]] = 0.0


@njit(**KERNEL | AS_WRITTEN)
def parts(below_start, below, above_start, above):
    """Each total as a sum of smaller totals and, where none fits, of finest nodes: starts [n + 1] and parts, totals by
    their number, finest nodes by theirs after the totals'.

    A smaller total that lies whole in this one, and no finest node of which is taken, is taken; the largest first. With
    levels this adds each one up from the coarsest below it, a fifth of the work of adding up the finest every time.
    """
    n, n_finest = len(below_start) - 1, len(above_start) - 1
    start = np.zeros(n + 1, dtype=np.int64)
    found = np.empty(len(below), dtype=np.int32)
    inside = np.zeros(n, dtype=np.int64)
    taken = np.full(n_finest, -1, dtype=np.int64)
    for j in range(n):
        for p in range(below_start[j], below_start[j + 1]):
            f = below[p]
            for q in range(above_start[f], above_start[f + 1]):
                inside[above[q]] += 1
        count = start[j]
        for p in range(below_start[j], below_start[j + 1]):
            f = below[p]
            if taken[f] == j:
                continue
            part = n + f
            for q in range(above_start[f + 1] - 1, above_start[f] - 1, -1):
                i = above[q]
                if i >= j or inside[i] < below_start[i + 1] - below_start[i]:
                    continue
                free = True
                for r in range(below_start[i], below_start[i + 1]):
                    if taken[below[r]] == j:
                        free = False
                        break
                if free:
                    part = i
                    break
            if part < n:
                for r in range(below_start[part], below_start[part + 1]):
                    taken[below[r]] = j
            else:
                taken[f] = j
            found[count] = part
            count += 1
        for p in range(below_start[j], below_start[j + 1]):
            f = below[p]
            for q in range(above_start[f], above_start[f + 1]):
                inside[above[q]] = 0
        start[j + 1] = count
    return start, found[: start[n]].copy()


@njit(**KERNEL | AS_WRITTEN)
def totals_of(part_start, part, finest, out):
    """out [totals, columns]: sums of the finest nodes [finest, columns], the smallest first, each from its parts."""
    n = len(part_start) - 1
    for j in range(n):
        for c in range(finest.shape[1]):
            out[j, c] = 0.0
        for p in range(part_start[j], part_start[j + 1]):
            i = part[p]
            if i < n:
                for c in range(finest.shape[1]):
                    out[j, c] += out[i, c]
            else:
                for c in range(finest.shape[1]):
                    out[j, c] += finest[i - n, c]


@njit(**KERNEL | AS_WRITTEN)
def spread_down(part_start, part, totals, weight, finest, out):
    """out [finest, columns]: finest + weight times the sum of what its totals [totals, columns] say. Overwrites totals:
    each hands what it says to its parts, the largest first."""
    n, k = len(part_start) - 1, totals.shape[1]
    out[:] = 0.0
    for j in range(n - 1, -1, -1):
        for p in range(part_start[j], part_start[j + 1]):
            i = part[p]
            if i < n:
                for c in range(k):
                    totals[i, c] += totals[j, c]
            else:
                for c in range(k):
                    out[i - n, c] += totals[j, c]
    for f in range(len(out)):
        for c in range(k):
            out[f, c] = finest[f, c] + weight[f] * out[f, c]
