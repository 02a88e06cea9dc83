"""Structures drawn by hand, and graphs of edges pruned along the splits that they have."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tansy.engine.errors import RecipeError, StructureError
from tansy.engine.graph.by_hand import REST, drawn
from tansy.engine.graph.edges import along_edges
from tansy.engine.graph.judged import History
from tansy.engine.graph.pruned import OTHER
from tansy.engine.graph.pruned_edges import pruned_edges
from tansy.engine.graph.pruning import BY, PruningRule
from tansy.engine.panel import Edges, Panel
from tansy.engine.profile.worth import features, judge_of
from tansy.engine.study.paths import joint_paths
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe, read_recipe
from tansy.engine.study.run import run_study
from tansy.engine.study.shared_out import SHARE
from tansy.engine.study.store import Store
from tests.engine.test_structure import panel

ROWS = (
    ("Chain", "City shops", "chain"),
    ("Chain", "region: R2"),
    ("City shops", "region: R0", "shops"),
    ("City shops", "region: R1"),
    ("Best sellers", "P00 × S0"),
    ("Best sellers", "product: P03"),
)
RECIPE = Recipe(
    "hand", {}, ("naive", "ets(A,N,N)", "mean"), origins=3, step=4, leads=4, reconciliation="variance", rows=ROWS,
)  # fmt: skip


def pair(own: Panel) -> Panel:
    """With a series P00 × S0 in any case."""
    keys = {name: list(column) for name, column in own.keys.items()}
    keys["product"][0], keys["store"][0] = "P00", "S0"
    return replace(own, keys=keys)


def test_rows_name_totals_values_and_series() -> None:
    own = pair(panel(1))
    graph = along_edges(own, drawn(own, ROWS).edges)
    nodes = {graph.name(i): i for i in range(graph.n_aggregates)}
    assert set(nodes) == {
        "Chain",
        "City shops",
        "Best sellers",
        "region: R0",
        "region: R1",
        "region: R2",
        "product: P03",
    }
    region = np.array(own.column("region"))
    held = graph.summation.matrix.toarray() > 0.0
    np.testing.assert_array_equal(held[nodes["City shops"]], region != "R2")
    assert held[nodes["Chain"]].all()
    best = np.array(own.keys["product"]) == "P03"
    best[0] = True
    np.testing.assert_array_equal(held[nodes["Best sellers"]], best)
    assert [level.name for level in graph.levels][:1] == ["chain"]


def test_what_no_row_holds_is_told_and_kept() -> None:
    own = pair(panel(1))
    found = drawn(own, ROWS[1:2])
    assert found.n_rest == sum(one != "R2" for one in own.column("region") or []) and len(found.rest) == 3
    graph = along_edges(own, found.edges)
    assert graph.n_series == own.n_series and REST in {graph.name(i) for i in range(graph.n_aggregates)}


@pytest.mark.parametrize(
    ("rows", "says"),
    [
        ((("Chain", "regoin: R0"),), "Row 1: there is no key or attribute 'regoin'; neither a total of these rows nor"),
        ((("Chain", "region: R9"),), "Row 1: no series has the region 'R9'"),
        ((("Chain", "region: R0"), ("Chain", "City")), "Row 2: 'City' below 'Chain' is neither a total"),
        ((("", "region: R0"),), "Row 1: there is no total"),
        ((("A", "region: R0"), ("C", "D"), ("D", "C")), "Row 2: 'C' holds no series"),
        ((("A", "B"), ("B", "A"), ("B", "region: R0")), "its own ancestor: 'A' > 'B' > 'A'|'B' > 'A' > 'B'"),
        ((("A", "region: R0"), ("A", "department: D0")), "Node 'A': P.. × S. is counted twice"),
        ((), "There are no rows"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_rows_is_said_with_its_place(rows: tuple[tuple[str, ...], ...], says: str) -> None:
    own = panel(1)
    with pytest.raises(StructureError, match=says):
        along_edges(own, drawn(own, rows).edges)


def graph_of_edges(own: Panel, seed: int) -> Edges:
    """Departments and groups by range, regions by place, some groups under a second parent too."""
    rng = np.random.default_rng(seed)
    rows: dict[tuple[str, tuple[str, ...], str], None] = {}
    for i in range(own.n_series):
        key = (own.keys["product"][i], own.keys["store"][i])
        department, group = (own.attributes["product"][name][key[0]] for name in ("department", "group"))
        region = own.attributes["store"]["region"][key[1]]
        for parent, child, split in (
            ("All", (department,), "range"), ("All", (region,), "place"), (department, (group,), ""), (group, key, ""),
            (region, (f"{region} {department}",), ""), (f"{region} {department}", key, ""),
        ):  # fmt: skip
            rows.setdefault((parent, child, split))
    for group in sorted({parent for parent, _, _ in rows if parent.startswith("G")}):
        if rng.random() < 0.5:
            rows.setdefault(("Watched", (group,), ""))
    parents, children, splits = zip(*rows, strict=True)
    return Edges("edges.csv", parents, children, splits, ("",) * len(parents), True)


def by_the_definition(own: Panel, edges: Edges, rule: PruningRule) -> tuple[set[frozenset[int]], set[frozenset[int]]]:
    """The series of kept nodes, and of lumps, node by node from the tops down."""
    series = {key: i for i, key in enumerate(zip(*own.keys.values(), strict=True))}
    below: dict[str, dict[str, list[str | tuple[str, ...]]]] = {}
    for e, (parent, split) in enumerate(zip(edges.parents, edges.splits, strict=True)):
        below.setdefault(parent, {}).setdefault(split, []).append(edges.child(e))

    def held(node: str | tuple[str, ...]) -> frozenset[int]:
        if not isinstance(node, str):
            return frozenset({series[node]})
        return frozenset().union(*(held(child) for child in next(iter(below[node].values()))))

    def qualifies(node: str | tuple[str, ...]) -> bool:
        history = own.values[sorted(held(node))].sum(axis=0, keepdims=True)
        return bool(rule.qualify(features(history, tuple(rule.limits), own.timeline))[0])

    def volume(node: str | tuple[str, ...]) -> float:
        return float(own.values[sorted(held(node))].sum())

    children = {one for splits in below.values() for each in splits.values() for one in each}
    tops = [name for name in below if name not in children]
    kept, lumped, todo, seen = {held(top) for top in tops}, set(), [*tops], set()
    while todo:
        node = todo.pop()
        if node in seen or not isinstance(node, str):
            continue
        seen.add(node)
        for parts in below[node].values():
            good = [part for part in parts if qualifies(part)]
            if len(parts) == 1:
                todo += good
                continue
            sold = sum(map(volume, good)) / max(volume(node), 1e-300)
            if (len(good) / len(parts) if rule.by == "parts" else sold) <= rule.share:
                continue
            poor = [part for part in parts if part not in good]
            kept |= {held(part) for part in good}
            todo += good
            if rule.lump and len(poor) > 1:
                lumped.add(frozenset().union(*map(held, poor)))
            else:
                kept |= {held(part) for part in poor}
    return kept, lumped


@pytest.mark.parametrize("by", BY)
@pytest.mark.parametrize("lump", [True, False])
@pytest.mark.parametrize("seed", [1, 2, 3, 4])
def test_pruning_of_edges_is_a_walk_by_the_definition(by: str, lump: bool, seed: int) -> None:
    own = panel(seed)
    edges, rule = graph_of_edges(own, seed), PruningRule({"mean": 2.0, "empty": 0.6}, 0.15, by, lump)
    found = pruned_edges(own, edges, [History(own.values, judge_of(own.timeline))], rule)
    graph, first = found.graph, found.graph.n_aggregates
    matrix = graph.summation.matrix
    held = [frozenset(matrix.indices[matrix.indptr[i] : matrix.indptr[i + 1]].tolist()) for i in range(first)]
    held += [frozenset({i}) for i in range(graph.n_series)]
    kept, lumped = by_the_definition(own, edges, rule)
    ours = [held[i] for i in np.nonzero(found.own)[0].tolist() if i not in found.lumps]
    assert set(ours) == kept and len(ours) == len(kept), "each is kept once"
    assert {held[i] for i in found.lumps} == lumped and bool(lumped) == lump
    for i, leaf in enumerate(found.leaf.tolist()):
        assert i in held[leaf] and len(held[leaf]) == min(
            len(held[j]) for j in np.nonzero(found.own)[0] if i in held[j]
        )


def test_a_study_of_pruned_edges_adds_up(tmp_path: Path) -> None:
    own = panel(2)
    own = replace(own, edges=graph_of_edges(own, 2))
    recipe = replace(RECIPE, rows=(), edges="edges.csv", pruning=PruningRule({"mean": 3.0}, 0.1))
    found = run_study(own, recipe, store=Store(tmp_path))
    left = prepare(own, recipe).pruned
    assert left is not None and len(left.lumps) and found.graph.ids == left.graph.ids
    assert found.graph.summation.largest_gap(found.forecast) < 1e-12
    shared = np.nonzero(~left.own)[0]
    assert len(shared) and {found.methods[j] for j in found.chosen[shared] if j >= 0} == {SHARE}
    assert all(found.graph.name(i).split(":")[1].strip().startswith(OTHER) for i in left.lumps)
    known = prepare(own, recipe).known()
    paths = np.concatenate([one for _, one in joint_paths(found.published, known, 20)])
    mean = found.forecast[found.graph.n_aggregates :]
    np.testing.assert_allclose(paths.mean(axis=2), mean, rtol=1e-6, atol=0.5 / 20 + 1e-6)  # 20 whole numbers


def test_rows_stand_in_a_recipe(tmp_path: Path) -> None:
    assert read_recipe(RECIPE.to_toml()) == RECIPE
    found = run_study(pair(panel(1)), RECIPE, store=Store(tmp_path))
    assert found.graph.summation.largest_gap(found.forecast) < 1e-12 and found.graph.levels[0].name == "chain"
    with pytest.raises(RecipeError, match="a total and what lies below it"):
        read_recipe(RECIPE.to_toml().replace('"region: R2",', ""))
