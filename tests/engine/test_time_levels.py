"""Levels of time: against the projection in both directions at once, closed forms, and in studies."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError, StructureError
from tansy.engine.graph.pruning import PruningRule
from tansy.engine.graph.time_levels import LEVELS, Blocks, TimeLevel, gathered
from tansy.engine.methods import registry
from tansy.engine.methods.notation import parse
from tansy.engine.reconcile.methods import Evidence, reconcile
from tansy.engine.reconcile.over_time import over_time
from tansy.engine.study.defaults import stands_for
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe, read_recipe
from tansy.engine.study.reconciling import OVER_TIME
from tansy.engine.study.run import run_study
from tansy.engine.study.shared_out import LONGER
from tansy.engine.study.store import Store
from tests.engine.test_projection import case, shrunk
from tests.engine.test_structure import panel

Floats = NDArray[np.float64]
TWELVE = (TimeLevel("three", 3, "N"), TimeLevel("five", 5, "N"), TimeLevel("twelve", 12, "N"))
"""That do not nest, as four weeks and thirteen do not, and leave leads over."""
RECIPE = Recipe(
    "time", {}, ("naive", "ets(A,N,N)", "mean"), origins=3, step=4, leads=8, reconciliation="variance",
    formula="(department > group > product) * (region > store)", time_levels=("4 weeks",),
)  # fmt: skip


@pytest.mark.parametrize("name", ["variance", "shrinkage"])
@pytest.mark.parametrize("kind", ["tree", "grouping", "graph"])
def test_time_then_nodes_is_the_projection_of_both_at_once(kind: str, name: str) -> None:
    """For a covariance that is one across nodes times one over time, whatever the one across nodes."""
    rng = np.random.default_rng(5)
    summation, _, errors = case(kind, 4)
    few = rng.choice(summation.n_finest, 8, replace=False)  # so that the dense form stays small
    rows = np.unique(summation.matrix[:, few].toarray(), axis=0)
    small = type(summation)(type(summation.matrix)(rows[rows.sum(axis=1) > 1.0]))
    errors = rng.normal(0, 1, (small.n_aggregates + 8, 60)) * rng.lognormal(0, 1, (small.n_aggregates + 8, 1))
    across = np.diag((errors**2).mean(axis=1)) if name == "variance" else shrunk(errors)[0]
    blocks = Blocks.of(TWELVE, 13)
    over = rng.lognormal(0, 1, 13 + len(blocks.level))
    base = rng.normal(30, 10, (len(across), len(over)))

    nodes = np.r_[small.matrix.toarray(), np.eye(8)]
    times = np.r_[np.eye(13), blocks.holds]
    s = np.kron(nodes, times)
    inverse = np.kron(np.linalg.inv(across), np.diag(1.0 / over))
    expected = s @ np.linalg.solve(s.T @ inverse @ s, s.T @ inverse @ base.ravel())

    leads = over_time(base[:, :13], base[:, 13:], blocks.holds, over[:13], over[13:])
    given = Evidence((errors**2).mean(axis=1), errors, None, None)
    found = reconcile(small, leads, name, given, nonnegative=False) @ times.T
    np.testing.assert_allclose(found, expected.reshape(found.shape), rtol=1e-8, atol=1e-8)


def test_what_says_nothing_moves_nothing_and_what_is_certain_stays() -> None:
    rng = np.random.default_rng(6)
    blocks = Blocks.of(TWELVE, 13)
    leads, of_leads = rng.normal(20, 5, (40, 13)), rng.lognormal(0, 1, (40, 13))
    longer, of_blocks = rng.normal(60, 20, (40, len(blocks.level))), rng.lognormal(2, 1, len(blocks.level))
    says = blocks.level != 1
    found = over_time(leads, np.where(says, longer, np.nan), blocks.holds, of_leads, of_blocks)
    only = over_time(leads, longer[:, says], blocks.holds[says], of_leads, of_blocks[says])
    np.testing.assert_allclose(found, only, rtol=1e-12)
    np.testing.assert_array_equal(found[:, 12], leads[:, 12])  # in no block but that of five, which it has none of
    of_leads[:, 4] = 0.0
    found = over_time(leads, longer, blocks.holds, of_leads, of_blocks)
    np.testing.assert_array_equal(found[:, 4], leads[:, 4])
    agreeing = over_time(leads, leads @ blocks.holds.T, blocks.holds, of_leads, of_blocks)
    np.testing.assert_allclose(agreeing, leads, rtol=1e-12)


def test_errors_are_as_small_as_the_closed_form_says() -> None:
    """Of k leads with variance w and their block with v, independent: the sum has 1 / (1 / (k w) + 1 / v)."""
    rng = np.random.default_rng(7)
    n, k, w, v = 40_000, 4, 2.0, 3.0
    leads, block = rng.normal(0.0, w**0.5, (n, k)), rng.normal(0.0, v**0.5, (n, 1))
    found = over_time(leads, block, np.ones((1, k)), np.full(k, w), np.array([v])).sum(axis=1)
    expected = 1.0 / (1.0 / (k * w) + 1.0 / v)
    assert abs(found.var() / expected - 1.0) < 4.0 * np.sqrt(2.0 / n)


def test_longer_periods_end_where_the_history_does() -> None:
    assert gathered(np.arange(10.0), 4).tolist() == [2 + 3 + 4 + 5, 6 + 7 + 8 + 9]
    assert np.isnan(gathered(np.array([1.0, np.nan, 3.0, 4.0]), 2)).tolist() == [True, False]
    for frequency, levels in LEVELS.items():
        assert [one.periods for one in levels] == sorted(one.periods for one in levels), frequency
    blocks = Blocks.of(LEVELS["W"][:2], 13)
    assert blocks.n_of == (3, 1) and blocks.holds.sum(axis=1).tolist() == [4.0, 4.0, 4.0, 13.0]


def test_a_study_fits_longer_periods_and_adds_up(tmp_path: Path) -> None:
    own, store = panel(3), Store(tmp_path)
    plain = run_study(own, replace(RECIPE, time_levels=()), store=store)
    found = run_study(own, RECIPE, store=store)
    np.testing.assert_array_equal(found.base, plain.base)  # what methods say is told as it is
    assert found.graph.summation.largest_gap(found.forecast) < 1e-12
    assert np.abs(found.forecast - plain.forecast).max() > 0.01
    assert OVER_TIME in found.tables.reconciliation_names and OVER_TIME not in plain.tables.reconciliation_names
    # nothing after an origin is known at it: what is published for it stays when all that came later is another
    origin = found.seen_at[0]
    changed = own.values.copy()
    changed[:, origin:] = np.random.default_rng(1).poisson(5.0, changed[:, origin:].shape)
    other = run_study(replace(own, values=changed), RECIPE, store=store)
    np.testing.assert_array_equal(other.tested[:, 0], found.tested[:, 0])
    assert read_recipe(RECIPE.to_toml()) == RECIPE


@pytest.mark.parametrize(
    ("names", "leads", "said"),
    [
        (("4 weeks", "fortnight"), 8, "no time level 'fortnight' above a week; there are: '4 weeks', 'quarter'"),
        (("quarter",), 8, "'quarter' takes 13 weeks, and the forecast has 8 leads"),
    ],
)
def test_a_level_that_cannot_be_had_is_named(names: tuple[str, ...], leads: int, said: str) -> None:
    with pytest.raises(RecipeError, match=said):
        _ = prepare(panel(1), replace(RECIPE, time_levels=names, leads=leads)).time_levels


def test_pruning_walks_down_in_time_as_far_as_nodes_qualify(tmp_path: Path) -> None:
    """Nodes are split by how they sell in four weeks; of those kept, the ones that sell too little in a week are
    forecast in four weeks alone, and shared out."""
    own = panel(2)
    recipe = replace(RECIPE, pruning=PruningRule({"mean": 6.0}, 0.3))
    prepared = prepare(own, recipe)
    left = prepared.pruned
    assert left is not None
    weeks = prepared.graph.summation.sum_up(own.values)
    often = weeks.mean(axis=1) >= 6.0
    np.testing.assert_array_equal(left.finest[left.own] == 0, often[left.own])
    weekly = prepare(own, replace(recipe, time_levels=())).pruned
    assert weekly is not None and left.own.sum() > weekly.own.sum()
    longer = np.nonzero(left.own & (left.finest == 1))[0]
    assert len(longer) > 5

    found = run_study(own, recipe, store=Store(tmp_path))
    assert found.graph.summation.largest_gap(found.forecast) < 1e-12
    assert {found.methods[j] for j in found.chosen[longer] if j >= 0} == {LONGER}
    assert LONGER not in {found.methods[j] for j in found.chosen[left.own & (left.finest == 0)] if j >= 0}
    assert all("Forecast over 4 weeks at a time" in found.reasons[i] for i in longer.tolist())
    # four leads are what the block is forecast as by what stands at four weeks, here fitted by itself
    over = prepared.known_over(prepared.time_levels[0], own.timeline.n_periods)
    assert over.values.shape == (left.graph.n_nodes, 15)
    form = parse(stands_for(over.timeline)[0])
    blocks = registry.fit(form, over.batch(form, longer), 2).forecast
    np.testing.assert_allclose(found.base[longer].reshape(-1, 2, 4).sum(axis=2), blocks, rtol=1e-9)
    newest = found.seen_at[-1]
    came, bands = found.received[longer, newest : newest + 8], found.tested_quantiles[longer, -1]
    assert ((came >= bands[:, 0]) & (came <= bands[:, -1])).mean() > 0.9  # 95 % bands of counts


def test_pruning_by_less_than_one_longer_period_is_refused_in_words() -> None:
    rule = PruningRule({"mean": 6.0, "empty": 0.9}, 0.3)
    early = panel(1).timeline.labels[2]
    with pytest.raises(StructureError, match="'4 weeks' takes 4 periods, and pruning is judged by 3"):
        prepare(panel(1), replace(RECIPE, pruning=rule, pruned_until=early))
