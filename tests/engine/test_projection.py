"""Reconciliation of random trees, groupings and graphs against dense textbook formulas, with and without correlations,
around fixed nodes and without negatives."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import sparse
from scipy.optimize import LinearConstraint, lsq_linear, minimize

from tansy.engine.errors import RecipeError
from tansy.engine.graph.constraints import Summation
from tansy.engine.reconcile.around import Clash, around_fixed, rows_of
from tansy.engine.reconcile.covariance import Covariance, mean_squares, weights
from tansy.engine.reconcile.methods import Evidence, covariance, reconcile
from tansy.engine.reconcile.projection import projection
from tansy.engine.reconcile.system import System

Floats = NDArray[np.float64]
KINDS = ("tree", "grouping", "graph")
NAMES = ("ols", "structural", "variance", "shrinkage", "sample")


def structure(kind: str, rng: np.random.Generator) -> Summation:
    """A tree of any depth, a crossed grouping, or a graph whose totals overlap as they like."""
    n = int(rng.integers(20, 200))
    if kind == "graph":
        size = rng.integers(1, n, 12)
        rows = [np.isin(np.arange(n), rng.choice(n, k, replace=False)) for k in size]
    else:
        splits = 1 if kind == "tree" else 3
        columns = []
        for _ in range(splits):
            part = rng.integers(0, 24, n)
            columns += [part, part // 3, part // 12]
        if kind == "grouping":
            columns += [columns[0] * 24 + columns[3], columns[1] * 24 + columns[6]]
        rows = [own == value for own in columns for value in np.unique(own)] + [np.ones(n, dtype=bool)]
    return Summation(sparse.csr_array(np.array(rows, dtype=np.float64)))


def dense_constraints(summation: Summation) -> Floats:
    return np.c_[np.eye(summation.n_aggregates), -summation.matrix.toarray()]


def case(kind: str, seed: int) -> tuple[Summation, Floats, Floats]:
    """A structure, base forecasts and errors that go together: 1,500 of them, more than nodes."""
    rng = np.random.default_rng(seed)
    summation = structure(kind, rng)
    n, finest = summation.n_aggregates, summation.n_finest
    below = rng.normal(0, 1, (finest, 1500)) * rng.lognormal(0, 1, (finest, 1)) + 0.5 * rng.normal(0, 1, 1500)
    errors = summation.sum_up(below)
    errors[:n] += rng.normal(0, 1, (n, 1500)) * rng.lognormal(0, 1, (n, 1))
    return summation, rng.normal(30, 10, (n + finest, 3)), errors


def shrunk(errors: Floats) -> tuple[Floats, float]:
    """W and its intensity, pair of nodes by pair of nodes."""
    n, t = errors.shape
    scale = np.sqrt((errors**2).mean(axis=1))
    x = errors / scale[:, None]
    r = x @ x.T / t
    of_r = np.array([((x[i] * x - r[i][:, None]) ** 2).sum(axis=1) for i in range(n)]) / (t * (t - 1))
    apart = ~np.eye(n, dtype=bool)
    intensity = min(1.0, max(0.0, of_r[apart].sum() / (r[apart] ** 2).sum()))
    w1 = np.outer(scale, scale) * r
    return intensity * np.diag(np.diag(w1)) + (1.0 - intensity) * w1, intensity


def dense_w(name: str, summation: Summation, errors: Floats) -> Floats:
    if name == "shrinkage":
        return shrunk(errors)[0]
    if name == "sample":
        return errors @ errors.T / errors.shape[1]
    return np.diag(weights(name, summation, mean_squares(errors)))


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("seed", [1, 2])
def test_reconciled_forecasts_and_their_variances_are_the_dense_formula(kind: str, name: str, seed: int) -> None:
    summation, base, errors = case(kind, seed)
    given = Evidence(mean_squares(errors), errors)
    w, c = dense_w(name, summation, errors), dense_constraints(summation)
    close = np.linalg.solve(c @ w @ c.T, c @ w).T
    found = reconcile(summation, base, name, given)
    np.testing.assert_allclose(found, base - close @ c @ base, rtol=1e-8, atol=1e-8 * np.abs(found).max())
    own = projection(summation, covariance(name, summation, given))
    variances = np.diag(w - close @ c @ w)
    np.testing.assert_allclose(own.variances(), variances, rtol=1e-8, atol=1e-8 * np.diag(w).max())
    # it leaves what adds up alone, once is enough, and so it is unbiased
    coherent = summation.sum_up(base[summation.n_aggregates :])
    np.testing.assert_allclose(own.apply(coherent), coherent, rtol=1e-8)
    np.testing.assert_allclose(own.apply(found), found, rtol=1e-8, atol=1e-8)
    assert summation.largest_gap(found) <= 1e-12
    # if W is true, no node errs by more than before
    assert (own.variances() <= np.diag(w) * (1 + 1e-9)).all()


def test_the_intensity_of_shrinkage_is_that_of_all_pairs_of_nodes() -> None:
    summation, _, errors = case("tree", 3)
    found = covariance("shrinkage", summation, Evidence(mean_squares(errors), errors[:, :30]))
    assert found.intensity == pytest.approx(shrunk(errors[:, :30])[1], rel=1e-10)
    np.testing.assert_allclose(found.variances, mean_squares(errors), rtol=1e-12)  # those given stay
    missing = errors[:, :30].copy()
    missing[3, 5:] = np.nan
    own = covariance("shrinkage", summation, Evidence(mean_squares(missing), missing))
    np.testing.assert_allclose(own.variances, mean_squares(missing), rtol=1e-12)


def test_sample_is_refused_where_it_cannot_be_had() -> None:
    summation, base, errors = case("tree", 4)
    with pytest.raises(RecipeError, match="as many errors as there are nodes"):
        reconcile(summation, base, "sample", Evidence(mean_squares(errors), errors[:, :40]))
    adds_up = summation.sum_up(errors[summation.n_aggregates :])
    with pytest.raises(RecipeError, match="nothing says how to close a gap"):
        reconcile(summation, base, "sample", Evidence(mean_squares(adds_up), adds_up))
    with pytest.raises(RecipeError, match="needs errors of the past"):
        reconcile(summation, base, "shrinkage", Evidence(mean_squares(errors)))


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("kind", ["grouping", "graph"])
def test_without_negatives_it_is_what_a_general_solver_finds(kind: str, name: str) -> None:
    summation, base, errors = case(kind, 5)
    base = base - 26.0
    zero = np.arange(summation.n_finest) < 3
    found = reconcile(summation, base, name, Evidence(mean_squares(errors), errors), True, zero)
    finest = found[summation.n_aggregates :]
    s = np.r_[summation.matrix.toarray(), np.eye(summation.n_finest)]
    root = np.linalg.inv(np.linalg.cholesky(dense_w(name, summation, errors)))
    for lead in range(base.shape[1]):
        free = ~zero
        wanted = base[:, lead].copy()
        if name in ("shrinkage", "sample"):  # what is zero by decision does not err, and tells nothing of others
            w = dense_w(name, summation, errors)
            keep = np.r_[np.ones(summation.n_aggregates, dtype=bool), free]
            root = np.linalg.inv(np.linalg.cholesky(w[np.ix_(keep, keep)]))
            design, wanted = s[np.ix_(keep, np.nonzero(free)[0])], wanted[keep]
        else:
            design = s[:, free]
        best = lsq_linear(root @ design, root @ wanted, bounds=(0, np.inf), tol=1e-15, max_iter=2000).x
        np.testing.assert_allclose(finest[free, lead], best, atol=2e-5)
    assert (finest >= 0).all() and (finest[zero] == 0).all()
    assert (finest[~zero] == 0).any(), "the case is meant to have values held at zero"
    assert summation.largest_gap(found) <= 1e-12


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("kind", KINDS)
def test_fixed_nodes_are_kept_exactly_and_the_rest_moves_as_little_as_can_be(kind: str, name: str) -> None:
    summation, base, errors = case(kind, 6)
    own = covariance(name, summation, Evidence(mean_squares(errors), errors))
    fixed = np.array([1, summation.n_aggregates + 4])
    values = base[fixed] + 7.0
    still = np.zeros(summation.n_finest, dtype=bool)
    found = around_fixed(summation, base, own, fixed, values, still, False)
    s = np.r_[summation.matrix.toarray(), np.eye(summation.n_finest)]
    rows = rows_of(summation, fixed)
    inverse = np.linalg.inv(dense_w(name, summation, errors))
    k = len(fixed)
    system = np.block([[s.T @ inverse @ s, rows.T], [rows, np.zeros((k, k))]])
    expected = np.linalg.solve(system, np.r_[s.T @ inverse @ base, values])[: summation.n_finest]
    np.testing.assert_allclose(found, expected, rtol=1e-6, atol=1e-6)  # its dense system has a condition of 1e9
    np.testing.assert_allclose(rows @ found, values, rtol=1e-9)


@pytest.mark.parametrize("name", ["structural", "shrinkage"])
def test_fixed_nodes_without_negatives(name: str) -> None:
    summation, base, errors = case("grouping", 7)
    own = covariance(name, summation, Evidence(mean_squares(errors), errors))
    base = base[:, :1] - 20.0
    node = int(np.argmin(summation.matrix.sum(axis=1)))
    fixed = np.array([summation.n_aggregates - 1, node])
    values = np.array([[3.0 * summation.n_finest], [1.0]])
    still = np.zeros(summation.n_finest, dtype=bool)
    found = around_fixed(summation, base, own, fixed, values, still, True, negligible=0.0)[:, 0]
    rows = rows_of(summation, fixed)
    np.testing.assert_allclose(rows @ found, values[:, 0], rtol=1e-9)
    s = np.r_[summation.matrix.toarray(), np.eye(summation.n_finest)]
    inverse = np.linalg.inv(dense_w(name, summation, errors))

    def distance(x: Floats) -> float:
        off = s @ x - base[:, 0]
        return float(off @ inverse @ off)

    best = minimize(
        distance, np.full(summation.n_finest, 3.0), method="trust-constr",
        jac=lambda x: 2.0 * s.T @ inverse @ (s @ x - base[:, 0]), hess=lambda x: 2.0 * s.T @ inverse @ s,
        bounds=[(0.0, None)] * summation.n_finest, constraints=[LinearConstraint(rows, values[:, 0], values[:, 0])],
        options={"gtol": 1e-10, "xtol": 1e-12, "maxiter": 3000},
    )  # fmt: skip
    assert (found >= 0.0).all() and (found == 0.0).any()
    assert distance(found) <= distance(best.x) * (1.0 + 1e-6)
    impossible = np.array([summation.n_aggregates - 1, *(summation.n_aggregates + np.arange(3))])
    with pytest.raises(Clash):
        around_fixed(
            summation, base, own, impossible, np.array([[1.0], [2.0], [3.0], [4.0]]), still, True, negligible=0.0
        )


def test_top_down_and_middle_out_share_by_what_was_sold() -> None:
    rows = np.array([[1, 1, 1, 1, 1], [1, 1, 0, 0, 0], [0, 0, 1, 1, 1]], dtype=float)
    summation = Summation(sparse.csr_array(rows))
    base = np.array([[100.0], [30.0], [50.0], [1.0], [2.0], [3.0], [4.0], [5.0]])
    volume = np.array([1.0, 3.0, 0.0, 0.0, 0.0])
    none = np.full(8, np.nan)
    found = reconcile(summation, base, "top-down", Evidence(none, volume=volume))
    np.testing.assert_allclose(found[3:, 0], [25, 75, 0, 0, 0])
    middle = Evidence(none, volume=volume, middle=np.array([1, 2]))
    found = reconcile(summation, base, "middle-out(group)", middle, zero=np.array([False] * 4 + [True]))
    # where nothing was sold it is shared evenly among those that may sell
    np.testing.assert_allclose(found[:, 0], [80, 30, 50, 7.5, 22.5, 25, 25, 0])
    with pytest.raises(RecipeError, match="some lie below several"):
        reconcile(summation, base, "middle-out(group)", Evidence(none, volume=volume, middle=np.array([0, 1])))
    with pytest.raises(RecipeError, match="2 lie below none"):
        reconcile(summation, base, "middle-out(group)", Evidence(none, volume=volume, middle=np.array([2])))
    with pytest.raises(RecipeError, match="names the level"):
        reconcile(summation, base, "middle-out", middle)


def test_shrinkage_is_better_than_bottom_up_and_base_at_every_level() -> None:
    """200 simulated hierarchies whose series share a common error, with unbiased base forecasts made level by level.
    Errors of W's estimate are the past of the same hierarchy."""
    rng = np.random.default_rng(8)
    parts = np.arange(24)
    rows = [np.ones(24, dtype=bool), *(parts // 12 == k for k in range(2)), *(parts // 4 == k for k in range(6))]
    summation = Summation(sparse.csr_array(np.array(rows, dtype=np.float64)))
    levels = np.repeat(np.arange(4), [1, 2, 6, 24])
    lost = np.zeros((3, 4))
    for _ in range(200):
        scale = rng.lognormal(0, 0.5, 24)
        cov = np.diag(scale**2) + 0.3 * np.outer(scale, scale) * (parts[:, None] // 12 == parts // 12)
        errors = summation.sum_up(rng.multivariate_normal(np.zeros(24), cov, 101).T)
        missed = rng.normal(0, 1, errors.shape) * np.r_[np.sqrt(summation.matrix @ scale**2) * 0.8, scale][:, None]
        errors = errors + missed  # what nobody knows adds up, what each node's forecast misses of the rest does not
        past, base = errors[:, :100], errors[:, 100:]  # what comes is nothing, so that a forecast is its error
        given = Evidence(mean_squares(past), past)
        for k, name in enumerate(("none", "bottom-up", "shrinkage")):
            found = reconcile(summation, base, name, given)[:, 0]
            lost[k] += np.bincount(levels, found**2) / np.bincount(levels)
    print("mean squared errors of base, bottom-up and shrinkage by level:", (lost / 200).round(3).tolist())
    assert (lost[2] < lost[0]).all() and (lost[2] < lost[1]).all()


def test_a_factor_of_many_totals_is_the_same_with_any_number_of_columns() -> None:
    summation, base, errors = case("grouping", 9)
    own = projection(summation, Covariance(mean_squares(errors)))
    wide = np.tile(base[:, :1], (1, 40))
    found = own.apply(wide)
    np.testing.assert_array_equal(found, np.tile(own.apply(base[:, :1]), (1, 40)))


@pytest.mark.parametrize("name", ["variance", "ols", "shrinkage"])
def test_what_many_totals_end_in_alike_is_taken_from_these_once(name: str) -> None:
    """Articles by region: more totals than the last columns of the factor, which many of the others end in."""
    rng = np.random.default_rng(31)
    article, store = np.repeat(np.arange(300), 4), np.tile(np.arange(4), 300)
    group, region = article % 6, store // 2
    splits = [article, article * 2 + region, group, region, group * 2 + region, store, np.zeros_like(article)]
    rows = [(split[:, None] == np.unique(split)).T for split in splits]
    summation = Summation(sparse.csr_array(np.concatenate(rows).astype(float)))
    kind, _, columns = System.of(summation).alike
    assert len(columns) > 3 and (kind >= 0).sum() > 150 and summation.n_aggregates > 900
    nodes = summation.n_aggregates + summation.n_finest
    errors = rng.normal(0, 1, (nodes, 40)) * rng.lognormal(0, 1, (nodes, 1))
    base = rng.normal(50, 10, (nodes, 3))
    own = projection(summation, covariance(name, summation, Evidence(mean_squares(errors), errors)))
    w, c = dense_w(name, summation, errors), dense_constraints(summation)
    expected = base - w @ c.T @ np.linalg.solve(c @ w @ c.T, c @ base)
    np.testing.assert_allclose(own.apply(base), expected, rtol=1e-8, atol=1e-8)
    zero = rng.random(summation.n_finest) < 0.3
    held = projection(summation, covariance(name, summation, Evidence(mean_squares(errors), errors)), zero)
    assert (held.finest(base)[zero] == 0.0).all()
