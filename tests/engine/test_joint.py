"""Joint paths, reconciled one by one: their moments against the closed form, their quantiles by definition, and how
much they hold at each level of a simulated hierarchy."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import sparse

from tansy.engine.graph.constraints import Summation
from tansy.engine.reconcile.covariance import Covariance, mean_squares
from tansy.engine.reconcile.joint import JointPaths
from tansy.engine.reconcile.methods import Evidence, covariance
from tansy.engine.reconcile.projection import projection
from tests.engine.test_projection import case, dense_constraints

Floats = NDArray[np.float64]
P = np.array([0.025, 0.1, 0.5, 0.9, 0.975])


@pytest.mark.parametrize("kind", ["tree", "grouping", "graph"])
def test_moments_of_paths_are_those_of_the_closed_form(kind: str) -> None:
    """With the errors' own covariance for W, which is what their paths have: to rounding, at every node."""
    summation, base, errors = case(kind, 11)
    spread = np.ones_like(base) * np.array([1.0, 1.5, 2.0])
    w = covariance("sample", summation, Evidence(mean_squares(errors), errors))
    own = projection(summation, w)
    paths = JointPaths(own, base, spread, errors)
    expected = np.sqrt(own.variances())[:, None] * spread[:1]
    np.testing.assert_allclose(paths.spreads(), expected, rtol=1e-5)  # singles
    for lead in range(3):
        drawn = paths.at(lead)
        assert summation.largest_gap(drawn) < 1e-10
        off = drawn - own.apply(base)[:, lead : lead + 1]
        np.testing.assert_allclose(np.sqrt(np.mean(off**2, axis=1)), expected[:, lead], rtol=1e-5)  # singles


def test_paths_with_a_spread_of_their_own_at_every_lead_are_the_dense_formula() -> None:
    summation, base, errors = case("grouping", 12)
    errors = errors[:, :50]
    rng = np.random.default_rng(1)
    spread = rng.uniform(1, 3, base.shape)
    variance = mean_squares(errors)
    own = projection(summation, Covariance(variance))
    c = dense_constraints(summation)
    matrix = np.eye(len(base)) - np.diag(variance) @ c.T @ np.linalg.solve(c @ np.diag(variance) @ c.T, c)
    drawn = [matrix @ (base[:, [h]] + spread[:, [h]] * errors) for h in range(3)]
    paths = JointPaths(own, base, spread, errors)
    for h in range(3):
        np.testing.assert_allclose(paths.at(h), drawn[h], atol=1e-5 * np.abs(drawn[h]).max())
    found = paths.quantiles(P)
    expected = np.stack([np.quantile(one, P, axis=1, method="weibull").T for one in drawn], axis=2)
    np.testing.assert_allclose(found, expected, atol=2e-5 * np.abs(expected).max())
    # each path takes one period for all nodes, and periods that follow one another
    before: list[int] = []
    for h, one in enumerate(paths.paths(100, 3)):
        assert one.shape == (len(base), 100) and summation.largest_gap(one) < 1e-10
        at = [int(np.argmin(np.abs(paths.at(h) - one[:, [i]]).sum(axis=0))) for i in range(100)]
        assert np.bincount(at, minlength=50).tolist() == [2] * 50
        assert h == 0 or at == [(i + 1) % 50 for i in before]
        before = at


def test_paths_without_negatives_keep_the_published_mean() -> None:
    summation, base, errors = case("tree", 13)
    w = Covariance(mean_squares(errors))
    own = projection(summation, w)
    published = np.maximum(own.finest(base), 0.0)
    paths = JointPaths(own, base, np.full_like(base, 20.0), errors[:, :80], published)
    for lead in range(3):
        drawn = paths.at(lead)
        assert drawn.min() >= 0.0 and summation.largest_gap(drawn) < 1e-10
        np.testing.assert_allclose(drawn[summation.n_aggregates :].mean(axis=1), published[:, lead], rtol=1e-6)
        np.testing.assert_allclose(
            drawn[: summation.n_aggregates].mean(axis=1), summation.matrix @ published[:, lead], rtol=1e-6
        )


def test_bands_from_paths_and_from_the_closed_form_hold_what_they_say_at_every_level() -> None:
    """400 simulated hierarchies whose errors go together. Independent errors would make the bands of the total hold
    half of what they say."""
    rng = np.random.default_rng(14)
    parts = np.arange(30)
    rows = [np.ones(30, dtype=bool), *(parts // 10 == k for k in range(3))]
    summation = Summation(sparse.csr_array(np.array(rows, dtype=np.float64)))
    levels = np.repeat(np.arange(3), [1, 3, 30])
    cov = 0.6 * np.eye(30) + 0.4
    inside, inside_normal = np.zeros(3), np.zeros(3)
    for _ in range(400):
        errors = summation.sum_up(rng.multivariate_normal(np.zeros(30), cov, 201).T)
        errors += rng.normal(0, 1, errors.shape) * np.r_[4.0, 2.0, 2.0, 2.0, np.full(30, 0.7)][:, None]
        past, base = errors[:, :200], errors[:, 200:]  # what comes is nothing, so that a forecast is its error
        given = Evidence(mean_squares(past), past)
        w = covariance("shrinkage", summation, given)
        own = projection(summation, w)
        spread = np.sqrt(given.error_variance)[:, None]
        band = JointPaths(own, base, spread, past / spread).quantiles(np.array([0.1, 0.9]))[:, :, 0]
        inside += np.bincount(levels, (band[:, 0] <= 0.0) & (band[:, 1] >= 0.0)) / np.bincount(levels)
        half = 1.2816 * np.sqrt(own.variances())
        inside_normal += np.bincount(levels, np.abs(own.apply(base)[:, 0]) <= half) / np.bincount(levels)
    print("80 % bands hold, by level: paths", inside / 4, "normal", inside_normal / 4)
    # standard errors of 400 draws: 2 points for the total
    assert (np.abs(inside / 400 - 0.8) < 0.06).all() and (np.abs(inside_normal / 400 - 0.8) < 0.06).all()
