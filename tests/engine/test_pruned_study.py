"""Studies of pruned structures: what is kept is forecast as it would be without pruning, the rest gets its share, and
everything adds up at every node and path."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.graph.pruning import PruningRule
from tansy.engine.panel import Panel
from tansy.engine.study import export
from tansy.engine.study.kin import kin_of
from tansy.engine.study.paths import joint_paths
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe, read_recipe
from tansy.engine.study.run import run_study
from tansy.engine.study.shared_out import SHARE
from tansy.engine.study.store import Store
from tests.engine.test_structure import panel

Floats = NDArray[np.float64]
FORMULA = "(department > group > product) * (region > store)"
RULE = PruningRule({"mean": 3.0, "empty": 0.4}, 0.3)
RECIPE = Recipe(
    "pruned", {}, ("naive", "ets(A,N,N)", "mean"), origins=3, step=4, leads=4, reconciliation="variance",
    formula=FORMULA, pruning=RULE,
)  # fmt: skip


def whole() -> Panel:
    """Every product in every store, so that no two nodes are the same."""
    own = panel(3)
    rng = np.random.default_rng(3)
    keys = {"product": [p for p in sorted(set(own.keys["product"])) for _ in range(8)],
            "store": sorted(set(own.keys["store"])) * len(set(own.keys["product"]))}  # fmt: skip
    mean = rng.lognormal(-0.5, 1.6, (len(keys["product"]), 1))
    return Panel(own.timeline, own.key_names, keys, rng.poisson(mean, (len(mean), 60)).astype(float), own.attributes)


def test_where_all_qualifies_it_is_the_study_without_pruning() -> None:
    own = whole()
    unpruned = run_study(own, replace(RECIPE, pruning=None))
    found = run_study(own, replace(RECIPE, pruning=PruningRule({}, 0.0)))
    assert found.graph.ids == unpruned.graph.ids
    np.testing.assert_array_equal(found.forecast, unpruned.forecast)
    np.testing.assert_array_equal(found.quantiles, unpruned.quantiles)


@pytest.mark.parametrize("method", ["variance", "bottom-up", "shrinkage", "best"])
def test_what_is_left_adds_up_and_what_is_not_gets_its_share(method: str, tmp_path: Path) -> None:
    own = panel(2)
    recipe = replace(RECIPE, reconciliation=method)
    found = run_study(own, recipe, store=Store(tmp_path))
    graph = found.graph
    left = prepare(own, recipe).pruned
    assert left is not None and left.graph.ids == graph.ids and len(set(graph.ids)) == graph.n_nodes
    lumps = [level for level in graph.levels if level.name == "other"]
    assert lumps and lumps[0].first + lumps[0].n_nodes == graph.n_aggregates
    assert graph.summation.largest_gap(found.forecast) < 1e-12
    first = graph.n_aggregates
    shared = np.nonzero(~left.own)[0]
    assert 0 < len(shared) < graph.n_series and (shared >= first).all()
    assert {found.methods[j] for j in found.chosen[shared] if j >= 0} == {SHARE}
    assert SHARE not in {found.methods[j] for j in found.chosen[left.own] if j >= 0}
    node = left.leaf[shared - first]
    volume = graph.summation.sum_up(np.nansum(found.history[first:, -52:], axis=1))
    expected = found.base[node] * (volume[shared] / volume[node])[:, None]
    held = (found.chosen[shared] >= 0) & (volume[node] > 0)
    np.testing.assert_allclose(found.base[shared][held], expected[held], rtol=1e-9, atol=1e-9)
    assert all("Gathers " in found.reasons[i] for i in range(lumps[0].first, lumps[0].first + lumps[0].n_nodes))
    assert all("its share of the last season" in found.reasons[i] for i in shared.tolist())
    # bands and paths of what was never fitted are there like all others
    newest = found.seen_at[-1]
    came, bands = found.received[shared, newest : newest + 4], found.tested_quantiles[shared, -1]
    inside = (came >= bands[:, 0]) & (came <= bands[:, -1])
    assert inside.mean() > 0.9, "95 % bands of counts hold no less than they say, give or take chance"
    known = prepare(own, recipe).known()
    paths = np.concatenate([one for _, one in joint_paths(found.published, known, 20)])
    np.testing.assert_allclose(paths.mean(axis=2), found.forecast[first:], atol=0.5 / 20 + 1e-5)
    # nodes that are kept are forecast as they would be if nothing was pruned
    unpruned = run_study(own, replace(recipe, pruning=None), store=Store(tmp_path))
    both = [(i, unpruned.graph.position[name]) for i, name in enumerate(graph.ids) if name in unpruned.graph.position]
    own_nodes = [(i, j) for i, j in both if left.own[i]]
    naive = found.methods.index("naive")
    for i, j in own_nodes:
        np.testing.assert_array_equal(found.method_scores[i, naive, :3], unpruned.method_scores[j, naive, :3])
    assert len(own_nodes) > 20 and found.tasks.computed + found.tasks.reused < 1.01 * (
        unpruned.tasks.computed + unpruned.tasks.reused
    )
    export.write(found, own, tmp_path / "out")


def test_nodes_stand_still_while_history_grows() -> None:
    own = panel(5)
    free = replace(RECIPE, pruning=PruningRule({"mean": 1.0}, 0.5))
    recipe = replace(free, pruned_until=own.timeline.labels[29])
    then, now = prepare(own.until(30, 0), recipe), prepare(own, recipe)
    assert then.graph.ids == now.graph.ids
    assert prepare(own, free).graph.n_nodes != now.graph.n_nodes, "the case is meant to have nodes that would change"
    with pytest.raises(RecipeError, match="is no period such as"):
        prepare(own, replace(RECIPE, pruned_until="soon"))


def test_a_pruning_is_written_as_it_is_read() -> None:
    recipe = replace(RECIPE, pruned_until="2023-W20")
    assert read_recipe(recipe.to_toml()) == recipe
    for wrong, says in (
        ("mean = 3.0", "colour = 3.0"), ('by = "parts"', 'by = "sales"'), ("share = 30.0", "share = 100.0"),
    ):  # fmt: skip
        assert wrong in recipe.to_toml()
        with pytest.raises(RecipeError, match=r"\[pruning\]"):
            read_recipe(recipe.to_toml().replace(wrong, says))
    with pytest.raises(RecipeError, match=r"\[structure\] formula: .* lacks a name"):
        replace(RECIPE, formula="department >")


def test_what_lies_next_above_and_below_a_node_of_a_pruned_structure() -> None:
    """By sets of series: parents are the least that hold a node, lumps lie below the least that hold them, and down
    every way of splitting a node nothing is lost."""
    own = panel(2)
    prepared = prepare(own, RECIPE)
    graph, left = prepared.graph, prepared.pruned
    assert left is not None and len(left.lumps) > 3
    matrix = graph.summation.matrix
    ends = zip(matrix.indptr[:-1], matrix.indptr[1:], strict=True)
    sets = [frozenset(matrix.indices[a:b].tolist()) for a, b in ends]
    sets += [frozenset({i}) for i in range(graph.n_series)]

    def least(node: int) -> set[int]:
        above = [j for j in range(graph.n_aggregates) if sets[j] > sets[node]]
        return {j for j in above if not any(sets[k] < sets[j] for k in above)}

    volume = own.values[:, -52:].sum(axis=1)
    for node in range(graph.n_aggregates):
        kin = kin_of(prepared, node)
        assert set(kin.parents.tolist()) == least(node)
        below = [i for nodes in kin.children.values() for i in nodes.tolist()]
        assert {i for i in below if i in left.lumps} == {i for i in left.lumps if node in least(i)}
        assert frozenset().union(*(sets[i] for i in below)) == sets[node]
        for nodes in kin.children.values():
            sold = [volume[sorted(sets[i])].sum() for i in nodes.tolist()]
            assert sold == sorted(sold, reverse=True)
