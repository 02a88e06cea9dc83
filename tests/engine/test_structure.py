"""Structures as a line of text, what they would count, and what pruning leaves of them."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray

from tansy.engine.errors import StructureError
from tansy.engine.graph.counts import count_levels
from tansy.engine.graph.formula import Formula, named, parse
from tansy.engine.graph.grouping import group, laid_out, next_above
from tansy.engine.graph.judged import History
from tansy.engine.graph.pruned import Pruned
from tansy.engine.graph.pruned import pruned as build_pruned
from tansy.engine.graph.pruning import Kept, PruningRule, prune
from tansy.engine.panel import Panel
from tansy.engine.profile.worth import features, judge_of
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
WEEKS = Timeline("W", 2800, 60, 52)


def panel(seed: int = 0, n_products: int = 24, n_stores: int = 8) -> Panel:
    """Most pairs sell next to nothing."""
    rng = np.random.default_rng(seed)
    products, stores = [f"P{i:02d}" for i in range(n_products)], [f"S{i}" for i in range(n_stores)]
    pairs = [(p, s) for p in products for s in stores if rng.random() < 0.8]
    keys = {"product": [p for p, _ in pairs], "store": [s for _, s in pairs]}

    def table(names: list[str], prefix: str, n: int) -> dict[str, str]:
        return {name: f"{prefix}{i * n // len(names)}" for i, name in enumerate(names)}

    attributes = {
        "product": {"department": table(products, "D", 3), "group": table(products, "G", 9)},
        "store": {
            "region": table(stores, "R", 3),
            "format": {s: f"F{rng.integers(0, 2)}" for s in stores},
        },
    }
    mean = rng.lognormal(-1.0, 1.6, (len(pairs), 1))
    return Panel(WEEKS, ("product", "store"), keys, rng.poisson(mean, (len(pairs), 60)).astype(float), attributes)


def sets_of(panel: Panel, names: tuple[str, ...]) -> dict[tuple[str, ...], frozenset[int]]:
    """The series of every combination of some attributes and keys that occurs."""

    def value(name: str, i: int) -> str:
        for key in panel.key_names:
            if name == key:
                return panel.keys[key][i]
            if name in panel.attributes[key]:
                return panel.attributes[key][name][panel.keys[key][i]]
        raise AssertionError(name)

    found: dict[tuple[str, ...], set[int]] = {}
    for i in range(panel.n_series):
        found.setdefault(tuple(value(name, i) for name in names), set()).add(i)
    return {where: frozenset(one) for where, one in found.items()}


@pytest.mark.parametrize(
    ("text", "levels"),
    [
        ("department", [(), ("department",)]),
        ("department > group", [(), ("department",), ("department", "group")]),
        ("department * region", [(), ("department",), ("region",), ("department", "region")]),
        (
            "department > group * region",
            [(), ("department",), ("department", "group"), ("region",), ("department", "region"),
             ("department", "group", "region")],
        ),
        ("region > store + format > store", [(), ("region",), ("format",), ("store",)]),
        ("(region + format) * department", [(), ("region",), ("format",), ("department",), ("region", "department"),
                                            ("format", "department")]),
    ],
)  # fmt: skip
def test_a_formula_has_the_levels_that_it_says(text: str, levels: list[tuple[str, ...]]) -> None:
    own = panel()
    graph = group(own, parse(text))
    matrix = graph.summation.matrix
    nodes = {
        frozenset(matrix.indices[matrix.indptr[i] : matrix.indptr[i + 1]].tolist()) for i in range(graph.n_aggregates)
    }
    assert nodes == {one for names in levels for one in sets_of(own, names).values()}
    assert len(graph.levels) == len(levels) + 1 and graph.levels[-1].n_nodes == own.n_series
    assert len(set(graph.ids)) == graph.n_nodes
    # a series is called by its keys, and by no more, whatever it is grouped by
    assert (
        graph.ids[graph.n_aggregates] == f'{{"product": "{own.keys["product"][0]}", "store": "{own.keys["store"][0]}"}}'
    )
    values = np.random.default_rng(1).random((own.n_series, 2))
    counted = count_levels(own, parse(text))
    assert [one.occurring for one in counted] == [level.n_nodes for level in graph.levels]
    assert graph.summation.largest_gap(graph.summation.sum_up(values)) == 0.0
    parents = [int(parent.max()) + 1 for parent in graph.tree[1:]]
    assert parents == sorted(parents) and len(graph.tree[-1]) == own.n_series


def test_crossed_key_columns_are_the_same_as_a_formula() -> None:
    own = panel()
    one = group(own, {"product": ["department", "group"], "store": ["region"]})
    other = group(own, parse("(department > group > product) * (region > store)"))
    assert one.ids == other.ids and [a.labels for a in one.levels] == [b.labels for b in other.levels]
    np.testing.assert_array_equal(one.season_source, other.season_source)


def test_keys_may_have_attributes_of_one_name_and_names_may_have_signs_in_them() -> None:
    own = panel()
    of_products, of_stores = own.attributes["product"].pop("group"), own.attributes["store"].pop("format")
    own.attributes["product"]["type"], own.attributes["store"]["type"] = of_products, of_stores
    own.attributes["store"]["size (m2)"] = of_stores
    graph = group(own, {"product": ["type"], "store": ["type"]})
    sizes = {level.labels: level.n_nodes for level in graph.levels}
    assert sizes["type", "all"] == 9 and sizes["all", "type"] == 2
    for chain in (("type", "store"), ("size (m2)", "store"), ("type", "product")):
        formula = parse(named(chain))
        assert formula.chains == (chain,)
        assert group(own, formula).levels[1].n_nodes == (9 if "product" in chain else 2)
    with pytest.raises(StructureError, match="cannot stand in a formula"):
        named(('12" pots',))
    with pytest.raises(StructureError, match="nests 'region' below the key 'store'; a key ends its chain"):
        group(own, parse("store > region"))


def test_the_next_coarser_levels_are_those_with_none_between() -> None:
    levels = np.array(parse("(a > b) * (c > d) * e + f").levels)
    for i, own in enumerate(next_above(levels)):
        coarser = [j for j, one in enumerate(levels) if (one <= levels[i]).all() and (one != levels[i]).any()]
        between = [j for j in coarser if any(k != j and (levels[j] <= levels[k]).all() for k in coarser)]
        assert own == [j for j in coarser if j not in between]


def test_a_structure_with_an_attribute_called_other_tells_lumps_from_it() -> None:
    own = panel(2)
    own.attributes["product"]["other"] = own.attributes["product"].pop("group")
    found = pruned_graph(own, parse("other > product * store"), PruningRule({"mean": 4.0}, 0.2))
    assert len(found.lumps) and len(set(found.graph.ids)) == found.graph.n_nodes
    assert all('"other_": ' in found.graph.ids[node] for node in found.lumps)


def pruned_graph(own: Panel, formula: Formula, rule: PruningRule) -> Pruned:
    return build_pruned(own, formula, [History(own.values, judge_of(own.timeline))], rule)


def test_what_a_structure_would_count_is_told_with_what_is_empty_or_the_same() -> None:
    found = {one.labels: one for one in count_levels(panel(), parse("(department > group) * region > store + format"))}
    pairs = found["group", "store", "all"]
    assert pairs.possible == 9 * 8 and pairs.empty == pairs.possible - pairs.occurring
    level = found["department", "all", "all"]
    assert level.occurring == 3 and level.empty == 0 and level.same_as is None
    constant = panel()
    constant.attributes["store"]["format"].update(dict.fromkeys(constant.attributes["store"]["format"], "F"))
    again = {one.labels: one for one in count_levels(constant, parse("region * format"))}
    assert (
        next(one.same_as for labels, one in again.items() if labels[1] == "format" and labels[0] == "all")
        == again[next(iter(again))].labels
    )


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "is empty"),
        ("department >", "lacks a name at position 13"),
        ("(department", "lacks a closing parenthesis"),
        ("department ) region", "position 12 too many"),
        ("department * department", "crosses 'department' with itself"),
        ("colour", "no attribute 'colour'"),
        (" * ".join(f"a{i}" for i in range(14)), "16,384 levels"),
    ],
)
def test_what_is_wrong_with_a_formula_is_said_with_its_place(text: str, says: str) -> None:
    with pytest.raises(StructureError, match=says.replace("(", r"\(").replace(")", r"\)")):
        group(panel(), parse(text))


def walk(own: Panel, formula: Formula, rule: PruningRule) -> tuple[set[frozenset[int]], set[frozenset[int]]]:
    """Kept nodes and lumped ones by the definition: node by node, with sets."""
    dimensions, levels = laid_out(own, formula)
    names = [
        tuple(name for d, depth in zip(dimensions, level, strict=True) for name in d.levels[1 : depth + 1])
        for level in levels
    ]

    def qualifies(series: frozenset[int]) -> bool:
        history = own.values[sorted(series)].sum(axis=0, keepdims=True)
        found = features(history, tuple(rule.limits), WEEKS)
        return bool(rule.qualify(found)[0])

    volume = own.values.sum(axis=1)
    kept, lumped = {frozenset(range(own.n_series))}, set()
    open_at = {levels[0]: {frozenset(range(own.n_series))}}
    for level, of_level in zip(levels[1:], names[1:], strict=True):
        coarser = [one for one in levels if one != level and all(a <= b for a, b in zip(one, level, strict=True))]
        next_above = [
            one for one in coarser
            if not any(one != other and all(a <= b for a, b in zip(one, other, strict=True)) for other in coarser)
        ]  # fmt: skip
        parts = set(sets_of(own, of_level).values())
        open_at[level] = set()
        for node in set().union(*(open_at[one] for one in next_above)):
            own_parts = [part for part in parts if part <= node]
            if own_parts == [node]:
                if qualifies(node):
                    open_at[level].add(node)
                continue
            good = [part for part in own_parts if qualifies(part)]
            sold = sum(volume[sorted(part)].sum() for part in good) / max(volume[sorted(node)].sum(), 1e-300)
            share = len(good) / len(own_parts) if rule.by == "parts" else sold
            if share <= rule.share:
                continue
            poor = [part for part in own_parts if part not in good]
            kept |= set(good)
            open_at[level] |= set(good)
            if rule.lump and len(poor) > 1:
                lumped.add(frozenset().union(*poor))
            else:
                kept |= set(poor)
    return kept, lumped


def pruned(own: Panel, formula: Formula, rule: PruningRule) -> Kept:
    dimensions, levels = laid_out(own, formula)
    return prune(dimensions, levels, History(own.values, judge_of(own.timeline)), rule)


@pytest.mark.parametrize("text", ["(department > group > product) * (region > store)", "region * format * department",
                                  "department > group > product"])  # fmt: skip
@pytest.mark.parametrize(("by", "share"), [("parts", 0.5), ("volume", 0.7), ("parts", 0.0)])
@pytest.mark.parametrize("lump", [True, False])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_pruning_is_a_walk_by_the_definition(text: str, by: str, share: float, lump: bool, seed: int) -> None:
    own, formula = panel(seed), parse(text)
    rule = PruningRule({"mean": 3.0, "empty": 0.3, "length": 20.0}, share, by, lump)
    found = pruned(own, formula, rule)
    kept, lumped = walk(own, formula, rule)
    sets = [frozenset(found.series(i).tolist()) for i in range(found.n_nodes)]
    assert {one for one, is_lump in zip(sets, found.lumped.tolist(), strict=True) if not is_lump} == kept
    assert {one for one, is_lump in zip(sets, found.lumped.tolist(), strict=True) if is_lump} == lumped
    plain = [one for one, is_lump in zip(sets, found.lumped.tolist(), strict=True) if not is_lump]
    assert len(set(plain)) == len(plain), "what is all of another node is kept once"
    assert share or not lump or lumped, "the case is meant to lump something"
    # every taken split adds up: each part is a node, or lies in the lump of the split
    dimensions, levels = laid_out(own, formula)
    splits = found.splits
    for node, level in zip(splits.node[splits.taken].tolist(), splits.level[splits.taken].tolist(), strict=True):
        pairs = zip(dimensions, levels[level], strict=True)
        names = tuple(name for d, depth in pairs for name in d.levels[1 : depth + 1])
        parts = [part for part in sets_of(own, names).values() if part <= sets[node]]
        lumps = [sets[i] for i in np.nonzero((found.parent == node) & (found.level == level) & found.lumped)[0]]
        assert len(lumps) <= 1
        gathered = [part for part in parts if lumps and part <= lumps[0]]
        assert frozenset().union(*gathered) == frozenset().union(*lumps)
        assert all(part in sets for part in parts if part not in gathered)
    # each series' leaf is the smallest kept node that it lies in
    for i, leaf in enumerate(found.leaf.tolist()):
        assert len(sets[leaf]) == min(len(one) for one in sets if i in one)


def test_strengths_and_entropy_can_be_asked_for() -> None:
    own = panel(4)
    rule = PruningRule({"trend": 0.05, "entropy": 0.95}, 0.3)
    kept, lumped = walk(own, parse("department > group"), rule)
    found = pruned(own, parse("department > group"), rule)
    assert {frozenset(found.series(i).tolist()) for i in range(found.n_nodes)} == kept | lumped
    with pytest.raises(StructureError, match="no feature 'colour'"):
        PruningRule({"colour": 1.0})


def test_a_structure_of_a_billion_combinations_is_counted_and_pruned_without_being_written_out() -> None:
    """Eight attributes, all crossed: 257 levels. Only what lies below a taken split is looked at."""
    rng = np.random.default_rng(5)
    n, sizes = 4_000, (5, 8, 12, 20, 9, 15, 30, 11)
    items = [f"I{i}" for i in range(n)]
    attributes = {
        "item": {
            f"a{k}": {item: f"v{v}" for item, v in zip(items, rng.integers(0, size, n).tolist(), strict=True)}
            for k, size in enumerate(sizes)
        }
    }
    values = rng.poisson(rng.lognormal(-0.5, 1.0, (n, 1)), (n, 60)).astype(float)
    own = Panel(WEEKS, ("item",), {"item": items}, values, attributes)
    formula = parse(" * ".join(attributes["item"]))
    counted = count_levels(own, formula)
    assert len(counted) == 257 and sum(one.possible for one in counted) > 1_000_000_000
    assert counted[-2].possible == np.prod(sizes) and sum(one.occurring for one in counted) > 500_000
    found = pruned(own, formula, PruningRule({"mean": 40.0, "empty": 0.1}, 0.6))
    print(f"{found.n_nodes:,} nodes kept of {sum(one.occurring for one in counted):,}, {found.n_judged:,} looked at")
    assert 100 < found.n_nodes < 10_000 and found.n_judged < 100_000
    totals = found.matrix @ values
    np.testing.assert_allclose(totals[0], values.sum(axis=0))
