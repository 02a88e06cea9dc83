"""A trend whose slope may change, at dates found from the data and shrunk towards no change.

y = regressors + slope t + sum of delta_j max(0, t - c_j), c_j on a grid over the first nine tenths of the history. The
deltas have the least sum of squares plus a penalty on their absolute sum (Tibshirani 1996), which leaves most of them
zero; its weight is the one with the least BIC, at the number of values that count as independent.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.kernels.shrink import shrink_batch

Floats = NDArray[np.float64]

_MOST_DATES = 24
_LEAST_APART = 4  # periods
_UNTIL = 0.9
_PENALTIES = np.geomspace(1.0, 0.01, 16)


@dataclass(frozen=True)
class Bends:
    """dates: [J], the last period before each change. changes: [series, J], of the slope a period. line: [series, T +
    H], what they add. doubt, doubt_of_sum: [series, H], variance from changes still to come, as often and as large as
    those found: of lead h and of the sum of leads 1..h."""

    dates: NDArray[np.int64]
    changes: Floats
    line: Floats
    doubt: Floats
    doubt_of_sum: Floats


def find_bends(values: Floats, x: Floats, horizon: int) -> Bends:
    """values: [series, T], NaN missing. x: [series or 1, T or more, k], other regressors, the slope among them."""
    n, length = values.shape
    dates = _dates(length)
    hinges = np.maximum(np.arange(length + horizon)[:, None] - dates[None, :], 0.0)
    seen = ~np.isnan(values)
    count = seen.sum(axis=1).astype(np.float64)
    other = np.broadcast_to(x[:, :length], (n, length, x.shape[2]))
    own = np.concatenate([np.ones((n, length, 1)), other], axis=2) * seen[:, :, None]
    k = own.shape[2]
    columns = np.concatenate(
        [own, hinges[None, :length] * seen[:, :, None], np.where(seen, values, 0.0)[:, :, None]], axis=2
    )
    gram = columns.swapaxes(1, 2) @ columns
    # what the other regressors leave of hinges and values
    left = gram[:, k:, k:] - gram[:, k:, :k] @ np.linalg.pinv(gram[:, :k, :k], hermitian=True) @ gram[:, :k, k:]
    size = np.sqrt(np.maximum(np.einsum("njj->nj", left[:, :-1, :-1]), 1e-12 * gram[:, -1:, -1] + 1e-12))
    s = left[:, :-1, :-1] / size[:, :, None] / size[:, None, :]
    r = left[:, :-1, -1] / size
    total = np.maximum(left[:, -1, -1], 1e-12)
    independent = _independent(values, columns[:, :, :-1], gram, count)
    kept = np.empty_like(r)
    shrink_batch(s, r, total, count, independent, k, _PENALTIES, kept)
    changes = kept / size
    often = (changes != 0.0).sum(axis=1) / np.maximum(count, 1.0)
    usual = (changes**2).sum(axis=1) / np.maximum((changes != 0.0).sum(axis=1), 1)
    leads = np.arange(horizon, dtype=np.float64)  # a change at lead s moves lead h by h - s
    of_lead = np.cumsum(leads**2)
    of_sum = np.cumsum((leads * (leads + 1.0) / 2.0) ** 2)
    scale = (often * usual)[:, None]
    return Bends(dates, changes, changes @ hinges.T, scale * of_lead, scale * of_sum)


def _dates(length: int) -> NDArray[np.int64]:
    last = int(_UNTIL * length)
    apart = max(_LEAST_APART, -(-last // _MOST_DATES))
    return np.arange(apart, max(last, apart + 1), apart)


def _independent(values: Floats, columns: Floats, gram: Floats, count: Floats) -> Floats:
    """Number of values that say as much as the autocorrelated ones: n (1 - rho) / (1 + rho), rho of what is left by
    all the regressors and all the hinges."""
    size = np.einsum("nii->n", gram[:, :-1, :-1]) / gram.shape[1]
    ridge = (1e-8 * size + 1e-12)[:, None, None] * np.eye(gram.shape[1] - 1)  # a series without values has no size
    b = np.linalg.solve(gram[:, :-1, :-1] + ridge, gram[:, :-1, -1:])[:, :, 0]
    rest = np.where(np.isnan(values), 0.0, np.nan_to_num(values) - np.einsum("ntk,nk->nt", columns, b))
    squares = np.maximum((rest**2).sum(axis=1), 1e-300)
    rho = np.clip((rest[:, 1:] * rest[:, :-1]).sum(axis=1) / squares, 0.0, 0.9)
    found: Floats = count * (1.0 - rho) / (1.0 + rho)
    return found
