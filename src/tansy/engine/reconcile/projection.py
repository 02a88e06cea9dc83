"""Coherent forecasts by projection on the constraints C y = 0.

The closest coherent point in the metric of the error covariance W is f - W C' (C W C')^-1 C f (Wickramasuriya,
Athanasopoulos, Hyndman 2019, in the zero-constraint form of Di Fonzo, Girolimetto 2023). Here C = [I, -S] with S the
summation of the finest nodes, so that for a diagonal W = D the system is A = D_totals + S D_finest S', a sparse matrix
of the size of the totals alone.

Where errors go together, W = D + F F' with a column of F for each error. With U = C F the system is A + U U', and by
Woodbury (1950) all that is needed beside A's factor is as small as the errors are many:

    R = F - D C' A^-1 U,  Omega = I + U' A^-1 U,  coherent = P_D f - R Omega^-1 U' A^-1 C f

where P_D projects with D alone. What the coherent forecasts err by, if W is true, has the covariance
P = P_D D + R Omega^-1 R'; its diagonal for D comes from the inverse of A where its factor is not zero.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import LinAlgError, cho_factor, cho_solve, solve_triangular

from tansy.engine.errors import RecipeError
from tansy.engine.graph.constraints import Summation
from tansy.engine.reconcile.covariance import Covariance
from tansy.engine.reconcile.system import Factor, Real, System

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]


class Projection:
    """Projection for one W; factored on creation, then applied to any number of columns.

    Parameters
    ----------
    w : errors of the base forecasts, over all nodes.
    zero : [finest] of bool, nodes that are zero by decision and stay so.
    """

    def __init__(self, summation: Summation, w: Covariance, zero: Booleans | None = None) -> None:
        self.summation, self._zero = summation, zero
        n = summation.n_aggregates
        self._w = w if zero is None else w.held(n, zero)
        self._d = self._w.diagonal[n:]
        self._system = System.of(summation)
        self._factor = Factor(self._system, self._w.diagonal[:n], self._d)
        if self._w.factor is None:
            return
        f = self._w.factor
        self._u = self._factor.gap(f[n:], f[:n])
        pull = self._factor.pull(self._u)
        self._r = self._factor.moved(f[n:], pull)
        self._omega = cho_factor(np.eye(f.shape[1]) + self._u.T @ pull, lower=True)

    def finest(self, base: NDArray[Real]) -> NDArray[Real]:
        """The finest nodes of the coherent forecasts, [finest, columns], from base forecasts [nodes, columns]."""
        n = self.summation.n_aggregates
        start = base[n:]
        if self._zero is not None:
            start = np.where(self._zero[:, None], start.dtype.type(0.0), start)
        pull = self._factor.pull(self._factor.gap(start, base[:n]))
        found = self._factor.moved(start, pull)
        if self._w.factor is not None:
            shared = cho_solve(self._omega, self._u.T.astype(base.dtype, copy=False) @ pull)
            found -= self._r.astype(base.dtype, copy=False) @ shared.astype(base.dtype, copy=False)
        return found

    def apply(self, base: Floats) -> Floats:
        """Coherent forecasts [nodes, columns] from base forecasts of the same shape."""
        return self.summation.sum_up(self.finest(base))

    def spread(self, finest: Floats) -> Floats:
        """P times `finest` [finest, columns], for the finest nodes: how all of them move where those are pulled."""
        own = self._d[:, None] * finest
        found = self._factor.moved(own, self._factor.pull(self._factor.gap(own)))
        if self._w.factor is not None:
            found += self._r @ cho_solve(self._omega, self._r.T @ finest)
        return found

    def variances(self) -> Floats:
        """The diagonal of P, [nodes]: the error variance of every coherent forecast, if W is true."""
        n = self.summation.n_aggregates
        diagonal, around = self._factor.inverse_diagonals()
        w = self._factor.w_totals
        found = np.concatenate([w - w * w * diagonal, self._d - self._d * self._d * around])
        if self._w.factor is not None:
            root = np.ascontiguousarray(solve_triangular(self._omega[0], self._r.T, lower=True).T)
            of_totals = self._system.totals(root)
            found[self._system.order] += np.einsum("it,it->i", of_totals, of_totals)
            found[n:] += np.einsum("it,it->i", root, root)
        return np.maximum(found, 0.0)


class DenseProjection:
    """The same for a W without a diagonal part, as `sample` has: no larger than the errors are many.

    Raises RecipeError where the errors of some nodes are sums of others', which leaves W singular.
    """

    def __init__(self, summation: Summation, w: Covariance, zero: Booleans | None = None) -> None:
        n = summation.n_aggregates
        self.summation, self._zero = summation, zero
        w = w if zero is None else w.held(n, zero)
        assert w.factor is not None
        of_gaps = w.factor[:n] - summation.matrix @ w.factor[n:]
        system = of_gaps @ of_gaps.T
        scale = np.sqrt(np.maximum(np.square(w.factor[:n]).sum(axis=1), np.finfo(np.float64).tiny))
        try:
            if np.linalg.eigvalsh(system / np.outer(scale, scale))[0] < 1e-10:
                raise LinAlgError
            self._system = cho_factor(system, lower=True)
        except LinAlgError:
            raise RecipeError(
                "sample cannot be had: errors of some totals are exactly those of what lies below them, so that "
                "nothing says how to close a gap; choose shrinkage."
            ) from None
        self._across = w.factor[n:] @ of_gaps.T  # W_finest C'
        self._own = w.factor[n:]
        self._f = w.factor

    def finest(self, base: NDArray[Real]) -> NDArray[Real]:
        n = self.summation.n_aggregates
        start = base[n:] if self._zero is None else np.where(self._zero[:, None], 0.0, base[n:])
        found = start - self._across @ cho_solve(self._system, base[:n] - self.summation.matrix @ start)
        return np.ascontiguousarray(found, dtype=base.dtype)

    def apply(self, base: Floats) -> Floats:
        return self.summation.sum_up(self.finest(base))

    def spread(self, finest: Floats) -> Floats:
        pulled = self._own @ (self._own.T @ finest)
        return np.asarray(pulled - self._across @ cho_solve(self._system, self._across.T @ finest))

    def variances(self) -> Floats:
        n = self.summation.n_aggregates
        across = np.concatenate([self._f[:n] @ (self._f[:n] - self.summation.matrix @ self._f[n:]).T, self._across])
        root = solve_triangular(self._system[0], across.T, lower=True)
        return np.maximum(np.square(self._f).sum(axis=1) - np.square(root).sum(axis=0), 0.0)


def projection(summation: Summation, w: Covariance, zero: Booleans | None = None) -> Projection | DenseProjection:
    """The projection for W, by the way that suits it."""
    return DenseProjection(summation, w, zero) if not w.diagonal.any() else Projection(summation, w, zero)
