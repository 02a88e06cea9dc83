"""Small dense least squares inside kernels: normal matrices, their Cholesky factor, and what follows from it.

A matrix that is factored has k rows of unknowns and below them any number of others, such as the series itself, which
the factor carries along.
"""

import math

import numpy as np
from numba import njit

from tansy.engine.kernels.options import BORROWING, PART


@njit(**BORROWING)
def dots(a, b, n):
    """Sum of a[t] b[t] over the first n."""
    total = 0.0
    for t in range(n):
        total += a[t] * b[t]
    return total


@njit(**BORROWING)
def copy_into(target, source):
    """target[:] = source, without the thought that they might overlap."""
    for i in range(len(source)):
        target[i] = source[i]


@njit(**BORROWING)
def less(target, factor, row):
    """target -= factor row."""
    for i in range(len(row)):
        target[i] -= factor * row[i]


@njit(**BORROWING)
def normal_matrix(rows, n, gram):
    """Lower triangle of rows rows' over the first n columns, four products at a time."""
    for i in range(len(rows)):
        a = rows[i]
        j = 0
        while j + 3 <= i:
            r0, r1, r2, r3 = rows[j], rows[j + 1], rows[j + 2], rows[j + 3]
            s0 = s1 = s2 = s3 = 0.0
            for t in range(n):
                s0 += a[t] * r0[t]
                s1 += a[t] * r1[t]
                s2 += a[t] * r2[t]
                s3 += a[t] * r3[t]
            gram[i, j], gram[i, j + 1], gram[i, j + 2], gram[i, j + 3] = s0, s1, s2, s3
            j += 4
        while j <= i:
            gram[i, j] = dots(a, rows[j], n)
            j += 1


@njit(**BORROWING)
def normal_matrix_of_columns(errors, gram):
    """Lower triangle of errors' errors, errors [n, columns]."""
    n, columns = errors.shape
    for i in range(columns):
        for j in range(i + 1):
            gram[i, j] = 0.0
    for t in range(n):
        for i in range(columns):
            e = errors[t, i]
            for j in range(i + 1):
                gram[i, j] += e * errors[t, j]


@njit(**BORROWING)
def cholesky(gram, k, dropped):
    """Factor the first k rows of a symmetric matrix in place (lower), and carry the rows below along.

    A column that the ones before it explain to 1e-11 of its size is dropped; its coefficient is then zero.
    """
    rows = gram.shape[0]
    for i in range(rows):  # row by row: inner products run along rows, which lie in one piece
        for j in range(min(i, k)):
            value = gram[i, j]
            for c in range(j):
                value -= gram[i, c] * gram[j, c]
            gram[i, j] = 0.0 if dropped[j] else value / gram[j, j]
        if i >= k:
            continue
        own = gram[i, i]
        pivot = own
        for c in range(i):
            pivot -= gram[i, c] * gram[i, c]
        dropped[i] = pivot <= 1e-11 * own or own <= 0.0
        gram[i, i] = 1.0 if dropped[i] else math.sqrt(pivot)


@njit(**BORROWING)
def back_substitute(gram, k, row, dropped, solution):
    """Solve L' x = (row `row` of the factored matrix), written to solution [k]."""
    for j in range(k - 1, -1, -1):
        if dropped[j]:
            solution[j] = 0.0
            continue
        value = gram[row, j]
        for i in range(j + 1, k):
            value -= gram[i, j] * solution[i]
        solution[j] = value / gram[j, j]


@njit(**BORROWING)
def quadratic_form(gram, k, dropped, x, z):
    """x' (X'X)^-1 x from the factor that `cholesky` left; z: scratch [k]."""
    total = 0.0
    for j in range(k):
        if dropped[j]:
            z[j] = 0.0
            continue
        value = x[j]
        for i in range(j):
            value -= gram[j, i] * z[i]
        z[j] = value / gram[j, j]
        total += z[j] * z[j]
    return total


@njit(**PART)
def inverse_of_normal(factor, rows, inverse):
    """Inverse of a normal matrix [K, K], its lower triangle read and overwritten; False where there is none.

    rows: [K, at least K], scratch.
    """
    k = len(factor)
    for i in range(k):
        factor[i, i] = factor[i, i] * (1.0 + 1e-9) + 1e-12  # a direction that changes nothing keeps a length
    dropped = np.zeros(k, dtype=np.bool_)
    cholesky(factor, k, dropped)
    if dropped.any():
        return False
    # rows of L^-1, then L^-T L^-1
    inverse[:] = 0.0
    for i in range(k):
        row = rows[i]
        row[: i + 1] = 0.0
        row[i] = 1.0
        for c in range(i):
            less(row[: c + 1], factor[i, c], rows[c, : c + 1])
        scale = 1.0 / factor[i, i]
        for c in range(i + 1):
            row[c] *= scale
        for j in range(i + 1):
            less(inverse[j, : j + 1], -row[j], row[: j + 1])
    for i in range(k):
        for j in range(i):
            inverse[j, i] = inverse[i, j]
    return True
