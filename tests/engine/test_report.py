"""What a backtest says beyond pooled accuracy, by hand; and another choice tried on what the first one stood on."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose, assert_array_equal

from tansy.engine.backtest.choice import ChoiceRule
from tansy.engine.study.accuracy import PUBLISHED
from tansy.engine.study.bands_held import between_quantiles, interval_scores
from tansy.engine.study.evidence import Evidence
from tansy.engine.study.run import Study, run_study
from tests.engine.test_store import RECIPE, garden

P = np.array([0.1, 0.25, 0.75, 0.9])


@pytest.fixture(scope="module")
def study() -> Study:
    recipe = replace(RECIPE, methods=("theta", *RECIPE.methods), fallback=("ets(A,N,N) + shared-season",))
    return run_study(garden(), recipe)


def test_an_actual_falls_between_quantiles_and_one_that_equals_some_is_shared_out() -> None:
    """Quantiles 1, 2, 2, 5. 0 is below all, 1.5 in the second part, 7 above all. 2 equals the quantiles of 25 and 75 %:
    its transform lies from half way between 10 and 25 % to half way between 75 and 90 %, and 17.5 to 82.5 % is a length
    of 65, of which 7.5, 50 and 7.5 lie in the three parts."""
    quantiles = np.array([1.0, 2.0, 2.0, 5.0])[None, None, :, None].repeat(4, axis=3)
    actuals = np.array([0.0, 1.5, 7.0, np.nan])[None, None]
    assert_array_equal(between_quantiles(actuals, quantiles, P), [1.0, 1.0, 0.0, 0.0, 1.0])
    shared = between_quantiles(np.array([[[2.0]]]), quantiles[..., :1], P)
    assert_allclose(shared, [0.0, 7.5 / 65, 50 / 65, 7.5 / 65, 0.0], rtol=1e-12)
    none = between_quantiles(np.zeros((1, 1, 1)), np.zeros((1, 1, 4, 1)), P)
    # all quantiles are zero, and so is what came: from half way below 10 % to half way above 90 %
    assert_allclose(none, np.array([5.0, 15.0, 50.0, 15.0, 5.0]) / 90.0, rtol=1e-12)


def test_an_interval_score_is_width_and_what_was_missed() -> None:
    """Bands of 80 % and 50 %: 1 to 5 and 2 to 3. An actual of 6 costs 4 + 2 / 0.2 * 1, and 1 + 2 / 0.5 * 3; over a
    naive step of 2. A node without a step says nothing."""
    quantiles = np.array([1.0, 2.0, 3.0, 5.0])[None, None, :, None].repeat(2, axis=0)
    found = interval_scores(np.full((2, 1, 1), 6.0), quantiles, P, np.array([[4.0], [0.0]]))
    assert_allclose(found, [[14.0 / 2.0, 13.0 / 2.0], [1.0, 1.0]])


def test_kinds_and_levels_add_up_to_what_the_tables_say(study: Study) -> None:
    said, tables = study.report, study.tables
    groups = study.kinds.groups()
    finest = np.arange(study.graph.n_nodes) >= study.graph.n_aggregates
    assert said.kind_sizes.tolist() == [int((groups[name] & finest).sum()) for name in said.kind_names]
    published = tables.method_names.index(PUBLISHED)
    for k, name in enumerate(said.kind_names):
        scores = study.node_scores[groups[name] & finest]
        assert said.by_kind[k, published, 2] == pytest.approx(np.nanmean(scores[:, 2]), rel=1e-12)
        of_method = study.method_scores[groups[name] & finest, 0]
        assert said.by_kind[k, 0, 2] == pytest.approx(np.nanmean(of_method[:, 2]), rel=1e-12)
    gain = study.node_scores[finest, 3]
    assert said.gains.sum() == (~np.isnan(gain)).sum() and said.n_worse == (gain < 0.0).sum()
    assert_allclose(said.bands.between.sum(axis=1), 1.0, rtol=1e-12)
    assert (said.bands.coverage_error >= 0.0).all() and said.bands.coverage_error.shape == tables.coverage[:, 0].shape
    # between the outermost quantiles lies what the widest band holds; of whole numbers ties are shared out
    assert_allclose(1.0 - said.bands.between[:, 0] - said.bands.between[:, -1], tables.coverage[:, 0, 0], atol=0.03)


def test_what_the_choice_stood_on_gives_the_choice_again_and_others(study: Study) -> None:
    evidence = Evidence.unpacked(study.evidence.packed())
    had = evidence.methods(study.recipe.choice)
    could = study.chosen_at >= 0
    assert_array_equal(had[:, :-1][could], study.chosen_at[could])
    assert_array_equal(had[:, -1][study.chosen >= 0], study.chosen[study.chosen >= 0])
    for o in range(len(study.seen_at) + 1):
        for measure in ("squared", "absolute"):
            assert_array_equal(evidence.losses_at(o, measure), study.evidence.losses_at(o, measure))
    squared, absolute = evidence.errors(had)
    assert (absolute <= squared * 1.001).all(), "no mean is beyond the root of the mean square"
    theta = study.methods.index("theta")
    first = evidence.with_fallback(np.array([theta])).methods(ChoiceRule(margin=10.0, own=0.99))
    assert (first == theta).all(), "what stands first stays where nothing is let in"
    free = evidence.with_fallback(np.empty(0, dtype=np.int64)).methods(ChoiceRule())
    assert (free != had).any()


def test_errors_of_a_choice_are_those_of_the_tables_where_all_windows_are_whole() -> None:
    """Then the root of the mean over windows is that over cells. At the end the newest window has four of six leads."""
    study = run_study(garden(76), RECIPE)
    had = study.evidence.methods(study.recipe.choice)
    choice = study.tables.by_method[: len(study.graph.levels), -2, 0, 2]
    assert_allclose(study.evidence.by_level(study.evidence.errors(had))[0], choice, rtol=1e-6)
