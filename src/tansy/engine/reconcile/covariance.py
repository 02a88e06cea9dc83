"""W: how large the errors of base forecasts are, and how they go together, as far as a reconciliation believes it.

Always a diagonal and, where correlations count, a factor: W = diag(d) + F F'. With T errors a factor has T columns, so
that W is never formed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.graph.constraints import Summation

Floats = NDArray[np.float64]

DIAGONAL = ("ols", "structural", "variance")
CORRELATED = ("shrinkage", "sample")
"""These take the errors themselves, not their variances alone."""

_LEAST_INTENSITY = 1e-6  # what keeps W from being singular where all errors are one


@dataclass(frozen=True, eq=False)
class Covariance:
    """W = diag(diagonal) + factor factor'.

    diagonal: [nodes]. factor: [nodes, T]; None where errors are taken for uncorrelated. intensity: of the shrinkage, 1
    where nothing is believed of correlations.
    """

    diagonal: Floats
    factor: Floats | None = None
    intensity: float = 1.0

    @property
    def variances(self) -> Floats:
        """The diagonal of W, [nodes]."""
        if self.factor is None:
            return self.diagonal
        return np.asarray(self.diagonal + np.einsum("it,it->i", self.factor, self.factor))

    def held(self, n_aggregates: int, zero: NDArray[np.bool_]) -> Covariance:
        """With finest nodes that do not move ([finest] of bool)."""
        diagonal = self.diagonal.copy()
        diagonal[n_aggregates:][zero] = 0.0
        factor = None
        if self.factor is not None:
            factor = self.factor.copy()
            factor[n_aggregates:][zero] = 0.0
        return Covariance(diagonal, factor, self.intensity)


def weights(name: str, summation: Summation, error_variance: Floats) -> Floats:
    """Diagonal of W, [nodes], of the methods in DIAGONAL.

    error_variance: mean squared one-step error of each node, floored at 1e-6 of the median of the positive ones. Where
    it is unknown (NaN) it is taken for a typical one: the median of those known of the finest nodes and, for an
    aggregate, the sum of those of its finest nodes, as if these were independent. Raises RecipeError for an unknown
    name.
    """
    n_nodes = summation.n_aggregates + summation.n_finest
    if name == "ols":
        return np.ones(n_nodes)
    if name == "structural":
        return np.concatenate([summation.matrix.sum(axis=1), np.ones(summation.n_finest)])
    if name == "variance":
        n = summation.n_aggregates
        positive = error_variance[np.nan_to_num(error_variance) > 0.0]
        floor = 1e-6 * float(np.median(positive)) if len(positive) else 1.0
        finest = error_variance[n:]
        known = finest[~np.isnan(finest)]
        typical = np.where(np.isnan(finest), np.median(known) if len(known) else floor, finest)
        above = np.where(np.isnan(error_variance[:n]), summation.matrix @ typical, error_variance[:n])
        return np.maximum(np.concatenate([above, typical]), floor)
    raise RecipeError(f"There is no reconciliation {name!r} by weights; choose one of {', '.join(DIAGONAL)}.")


def mean_squares(errors: Floats) -> Floats:
    """Of each node's errors [nodes, T], over those that are known, [nodes]; NaN where none is."""
    known = ~np.isnan(errors)
    total = np.einsum("it,it->i", *(2 * [np.where(known, errors, 0.0)]))
    return np.divide(total, known.sum(axis=1), out=np.full(len(errors), np.nan), where=known.any(axis=1))


def shrinkage(summation: Summation, errors: Floats, error_variance: Floats | None = None) -> Covariance:
    """Correlations of errors shrunk to none.

    W = lambda diag(W1) + (1 - lambda) W1 with the uncentred W1 = mean e e', lambda = sum Var(r_ij) / sum r_ij^2 over
    i != j, cut to [0, 1] (Schaefer, Strimmer 2005). Sums over pairs of nodes are sums over pairs of periods:
    sum r_ij^2 = |X'X|^2 / T^2, and sum_t of (x_i x_j)^2 over all pairs is the sum over t of (sum_i x_i^2)^2.

    Parameters
    ----------
    errors : [nodes, T], NaN where one is missing; it counts as none at all, 0.
    error_variance : [nodes], instead of the mean squares of the errors.
    """
    n_errors = errors.shape[1]
    squares = mean_squares(errors)
    variance = weights("variance", summation, squares if error_variance is None else error_variance)
    scale = np.sqrt(np.where(squares > 0.0, squares, np.inf))
    x = np.nan_to_num(errors / scale[:, None])
    gram = x.T @ x
    own = np.einsum("it,it->i", x, x) / n_errors  # r_ii, 1 where nothing is missing
    fourth = np.square(x)
    all_pairs = float(np.square(gram).sum()) / n_errors**2
    r_squared = all_pairs - float(np.square(own).sum())
    products = float(np.square(fourth.sum(axis=0)).sum()) - float(np.square(fourth).sum())
    if n_errors > 1 and r_squared > 0.0:
        of_r = (products - n_errors * r_squared) / (n_errors * (n_errors - 1))
        intensity = float(np.clip(of_r / r_squared, _LEAST_INTENSITY, 1.0))
    else:
        intensity = 1.0
    believed = np.sqrt(variance * (1.0 - intensity) / n_errors)[:, None]
    return Covariance(variance * (1.0 - (1.0 - intensity) * own), x * believed, intensity)


def sample(errors: Floats) -> Covariance:
    """The covariance of the errors as it is. errors: [nodes, T], a missing one counts 0.

    Raises RecipeError where there are fewer errors than nodes: W would be singular.
    """
    n_nodes, n_errors = errors.shape
    if n_errors < n_nodes:
        raise RecipeError(
            f"sample needs as many errors as there are nodes: there are {n_errors:,} for {n_nodes:,} nodes; choose "
            "shrinkage."
        )
    return Covariance(np.zeros(n_nodes), np.nan_to_num(errors) / np.sqrt(n_errors), 0.0)
