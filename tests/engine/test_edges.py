"""Graphs that a file of edges describes: built, reconciled, rounded, run from recipe to files."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.testing import assert_allclose, assert_array_equal
from typer.testing import CliRunner

from tansy.cli import app
from tansy.engine.errors import FileError, RecipeError, StructureError
from tansy.engine.graph.edges import along_edges
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.histories import aggregate_history
from tansy.engine.panel import Edges, Panel
from tansy.engine.plans.kinds import read_plan
from tansy.engine.reading.append import append
from tansy.engine.reading.edges import read_edges
from tansy.engine.reconcile.covariance import weights
from tansy.engine.reconcile.methods import Evidence, reconcile
from tansy.engine.reconcile.whole import whole_numbers
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.field import sheet, trails
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe, read_recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline

# Two tops, sales by region and by range; fern lies under both, moss stands three steps below one top and one below the
# other; tulip and rose stop at different depths.
EDGES = """parent,child,split,level
Company,North,region,
Company,South,region,
Company,Shade,range,
Company,Sun,range,
North,fern,,region
North,moss,,region
South,tulip,,region
South,rose,,region
Shade,fern,,range
Shade,Wet,,range
Wet,moss,,
Sun,tulip,,range
Sun,rose,,range
Watched,moss,,
Watched,rose,,
"""
SERIES = ["fern", "moss", "rose", "tulip"]


def panel_of(keys: dict[str, list[str]], text: str, n_periods: int = 60) -> Panel:
    n = len(next(iter(keys.values())))
    season = 10 + 3 * np.sin(np.arange(n_periods) / 12 * 2 * np.pi)
    values = np.random.default_rng(1).poisson(season * (1 + np.arange(n))[:, None]).astype(float)
    edges, findings = read_edges(pl.read_csv(text.encode(), infer_schema=False).fill_null(""), "edges.csv", keys)
    assert findings == []
    return Panel(Timeline("M", 24_000, n_periods, 12), tuple(keys), keys, values, edges=edges)


@pytest.fixture(scope="module")
def panel() -> Panel:
    return panel_of({"product": SERIES}, EDGES)


@pytest.fixture(scope="module")
def graph(panel: Panel) -> Graph:
    assert panel.edges is not None
    return along_edges(panel, panel.edges)


def named(graph: Graph) -> dict[str, int]:
    return {graph.name(i): i for i in range(graph.n_nodes)}


def test_every_node_holds_the_series_below_it(graph: Graph, panel: Panel) -> None:
    held = {name: [SERIES[s] for s in graph.below(np.array([i])).series] for name, i in named(graph).items()}
    assert held == {
        "Company": SERIES, "Watched": ["moss", "rose"], "North": ["fern", "moss"], "South": ["rose", "tulip"],
        "Shade": ["fern", "moss"], "Sun": ["rose", "tulip"], "Wet": ["moss"], **{name: [name] for name in SERIES},
    }  # fmt: skip
    assert [(level.name, level.n_nodes) for level in graph.levels] == [
        ("top", 2), ("region", 2), ("range", 2), ("2 below the top", 1), ("product", 4),
    ]  # fmt: skip
    assert [json.loads(name) for name in graph.ids[:2]] == [{"node": "Company"}, {"node": "Watched"}]
    assert json.loads(graph.ids[-1]) == {"product": "tulip"} and len(set(graph.refs)) == graph.n_nodes
    history = aggregate_history(graph, panel.values)
    assert_array_equal(history[named(graph)["Watched"]], panel.values[1] + panel.values[2])


def test_it_stands_as_a_forest_under_the_parents_named_first(graph: Graph) -> None:
    axis = graph.axes[0]
    lines = [("  " * depth + name) for name, depth in zip(axis.names, axis.depths.tolist(), strict=True)]
    assert lines == [
        "Company", "  North", "    fern", "    moss", "  South", "    rose", "    tulip", "  Shade", "    Wet", "  Sun",
        "Watched",
    ]  # fmt: skip
    assert graph.everywhere is not None
    whole, at = graph.everywhere  # and below all of their parents, for a sheet of all nodes
    lines = [("  " * depth + name) for name, depth in zip(whole.names, whole.depths.tolist(), strict=True)]
    assert lines == [
        "Company", "  North", "    fern", "    moss", "  South", "    tulip", "    rose", "  Shade", "    fern",
        "    Wet", "      moss", "  Sun", "    tulip", "    rose", "Watched", "  moss", "  rose",
    ]  # fmt: skip
    assert [graph.name(node) for node in at.tolist()] == list(whole.names)
    ways = trails(graph)
    assert [step["name"] for step in ways[named(graph)["moss"]][0]] == ["Company", "North", "moss"]
    assert [step["name"] for step in ways[named(graph)["Wet"]][0]] == ["Company", "Shade", "Wet"]


@pytest.mark.parametrize("name", ["ols", "structural", "variance"])
def test_reconciling_is_the_dense_formula(graph: Graph, name: str) -> None:
    """The projection onto what adds up, in the metric of the weights: y - W C' (C W C')^-1 C y."""
    rng = np.random.default_rng(3)
    base, variance = rng.normal(50, 10, (graph.n_nodes, 4)), rng.lognormal(0, 1.5, graph.n_nodes)
    w = np.diag(weights(name, graph.summation, variance))
    c = np.c_[np.eye(graph.n_aggregates), -graph.summation.matrix.toarray()]
    dense = base - w @ c.T @ np.linalg.solve(c @ w @ c.T, c @ base)
    assert_allclose(reconcile(graph.summation, base, name, Evidence(variance)), dense, rtol=1e-10)


@given(st.data())
@settings(max_examples=60, deadline=None)
def test_any_forest_adds_up_rounds_and_finds_its_nodes(data: st.DataObject) -> None:
    """Random graphs: each total is a random set of totals made before it or of series, in one or two splits."""
    n_series = data.draw(st.integers(2, 9))
    series = [f"s{i}" for i in range(n_series)]
    holds: dict[str, frozenset[str]] = {name: frozenset([name]) for name in series}
    rows: list[tuple[str, str, str]] = []
    for t in range(data.draw(st.integers(1, 6))):
        pool = data.draw(st.permutations(sorted(holds)))
        parts: list[str] = []
        for part in pool[: data.draw(st.integers(1, 4))]:
            if not any(holds[part] & holds[other] for other in parts):
                parts.append(part)
        rows += [(f"T{t}", part, "a") for part in parts]
        holds[f"T{t}"] = frozenset().union(*(holds[part] for part in parts))
    rows += [("All", name, "") for name in series]
    panel = panel_of({"sku": series}, "parent,child,split\n" + "\n".join(map(",".join, rows)), 4)
    assert panel.edges is not None
    graph = along_edges(panel, panel.edges)
    for i in range(graph.n_nodes):
        assert {series[s] for s in graph.below(np.array([i])).series} == (holds | {"All": set(series)})[graph.name(i)]
        way = trails(graph)[i][0]
        assert way[-1]["node"] == graph.refs[i]
        assert all(graph.place[graph.refs.index(step["node"]), 0] <= graph.place[i, 0] for step in way)
    exact = np.random.default_rng(0).gamma(0.7, 3.0, (n_series, 5))
    whole = whole_numbers(exact, graph.tree)
    assert_array_equal(whole, np.round(whole))
    assert (np.abs(whole - exact) < 1).all()
    # a node on the one way down that holds just what stands under it there is less than one off
    depths, parents = graph.axes[0].depths, graph.axes[0].parents
    nodes, rounded = graph.summation.sum_up(exact), graph.summation.sum_up(whole)
    at = {int(place): i for i, place in enumerate(graph.place[:, 0].tolist())}
    finest = {i: {i - graph.n_aggregates} for i in range(graph.n_aggregates, graph.n_nodes)}
    under: dict[int, set[int]] = {}
    for place in np.argsort(-depths, kind="stable").tolist():
        own = finest.get(at[place], under.get(at[place], set()))
        if parents[place] >= 0:
            under.setdefault(at[int(parents[place])], set()).update(own)
    for i, below in under.items():
        if below == set(graph.below(np.array([i])).series.tolist()):
            assert (np.abs(rounded[i] - nodes[i]) < 1).all()


def test_what_is_wrong_with_edges_is_said(panel: Panel) -> None:
    def built(text: str) -> Graph:
        edges, _ = read_edges(pl.read_csv(text.encode(), infer_schema=False).fill_null(""), "e.csv", panel.keys)
        return along_edges(panel, edges)

    whole = "".join(f"All,{name}\n" for name in SERIES)
    with pytest.raises(StructureError, match=r"2 series are in no row of e\.csv, such as rose; give each a parent"):
        built("parent,child\nAll,fern\nAll,moss\n")
    with pytest.raises(StructureError, match="own ancestor"):
        built("parent,child\n" + whole + "A,B\nB,A\nB,fern\n")
    with pytest.raises(StructureError, match="counted twice"):
        built("parent,child\n" + whole + "Top,All\nTop,fern\n")
    with pytest.raises(StructureError, match="same finest nodes: moss is in 'a' and not in 'b'"):
        built("parent,child,split\n" + "".join(f"All,{name},a\n" for name in SERIES) + "All,fern,b\n")
    with pytest.raises(StructureError, match="'fern' as a parent, which is a series"):
        built("parent,child\n" + whole + "fern,moss\n")
    for text, says in (
        ("parent,child\n,fern\n", "row 2: there is no parent"), ("parent,child\nA,\n", "row 2: there is no child")
    ):  # fmt: skip
        with pytest.raises(FileError, match=says):
            built(text)
    # what has no sales yet is left out, and said; so is what is said twice
    text = "parent,child\n" + whole + "All,fern\nAll,lily\nNew range,lily\n"
    edges, findings = read_edges(pl.read_csv(text.encode(), infer_schema=False), "e.csv", panel.keys)
    assert {one.kind: one.count for one in findings} == {"copy": 1, "unknown-child": 1}
    assert set(named(along_edges(panel, edges))) == {"All", *SERIES}


def test_series_of_several_keys_are_named_by_them() -> None:
    keys = {"sku": ["a", "a", "b"], "store": ["x", "y", "x"]}
    text = "parent,child,sku,store\nTop,East,,\nTop,West,,\nEast,,a,x\nEast,,b,x\nWest,,a,y\n"
    panel = panel_of(keys, text)
    assert panel.edges is not None
    graph = along_edges(panel, panel.edges)
    assert [graph.name(i) for i in range(graph.n_nodes)] == ["Top", "East", "West", "a × x", "a × y", "b × x"]
    assert graph.key_codes == {
        "sku": ["every sku", "every sku", "a", "a", "a", "b"], "store": ["every store", "x", "y", "x", "y", "x"]
    }  # fmt: skip
    assert json.loads(graph.ids[3]) == {"sku": "a", "store": "x"}
    with pytest.raises(FileError, match="row 2: 'East' and a series are both named"):
        read_edges(pl.DataFrame({"parent": ["T"], "child": ["East"], "sku": ["a"], "store": ["x"]}), "e.csv", keys)


def test_a_study_on_edges_publishes_what_adds_up_everywhere(panel: Panel) -> None:
    recipe = replace(default_recipe(panel, {}), methods=("ets(A,N,N)", "mean"), fallback=(), whole_units=True)
    assert recipe.edges == "edges.csv" and read_recipe(recipe.to_toml()) == recipe
    study = run_study(panel, recipe)
    assert study.largest_gap == 0.0
    at = named(study.graph)
    assert_array_equal(study.forecast[at["Watched"]], study.forecast[at["moss"]] + study.forecast[at["rose"]])
    assert_array_equal(study.forecast[at["North"]], study.forecast[at["Shade"]])
    found = sheet(study)
    assert [row["name"] for row in found["rows"] if row["parent"] < 0] == ["Company", "Watched"]
    assert len(found["node"]) == len(found["rows"]) == 17 and found["node"].count(study.graph.refs[at["moss"]]) == 3
    with pytest.raises(StructureError, match="no such file was loaded"):
        prepare(replace(panel, edges=None), recipe)
    with pytest.raises(RecipeError, match="stands there alone"):
        read_recipe(recipe.to_toml().replace('edges = "edges.csv"', 'edges = "edges.csv"\nproduct = ["group"]'))


def test_planned_series_stand_where_those_do_that_they_are_like(panel: Panel) -> None:
    plans = (
        read_plan({"kind": "arrival", "keys": {"product": "lily"}, "start": "2005-01", "like": {"product": "rose"}}),
        read_plan({"kind": "succession", "key": "product", "old": "moss", "new": "liverwort"}),
    )
    graph = prepare(panel, replace(default_recipe(panel, {}), plans=plans)).graph
    held = {name: graph.below(np.array([i])).series.tolist() for name, i in named(graph).items()}
    names = [graph.name(i) for i in range(graph.n_aggregates, graph.n_nodes)]
    assert names == ["fern", "lily", "liverwort", "rose", "tulip"]
    assert held["Watched"] == [1, 2, 3] and held["Wet"] == [2] and held["South"] == held["Sun"] == [1, 3, 4]


def test_tansy_run_takes_edges_from_beside_the_recipe(tmp_path: Path, panel: Panel) -> None:
    periods = panel.timeline.labels
    rows = {"month": periods * 4, "product": np.repeat(SERIES, len(periods)), "units": panel.values.ravel()}
    pl.DataFrame(rows).write_csv(tmp_path / "sales.csv")
    (tmp_path / "edges.csv").write_text(EDGES)
    recipe = Recipe("edges", {}, ("ets(A,N,N)", "mean"), origins=2, step=6, leads=6, edges="edges.csv")
    text = recipe.to_toml() + '[data]\nfile = "sales.csv"\n'
    (tmp_path / "recipe.toml").write_text(text)
    done = CliRunner().invoke(app, ["run", str(tmp_path / "recipe.toml"), "--out", str(tmp_path / "out")])
    assert done.exit_code == 0, done.output
    found = pl.read_parquet(tmp_path / "out" / "forecasts.parquet")
    levels = found["level"].unique(maintain_order=True).to_list()
    assert levels == ["top", "region", "range", "2 below the top", "product"]
    mean = {node: own["forecast"].to_numpy() for (node,), own in found.group_by("node", maintain_order=True)}
    assert_allclose(mean["Company"], mean["North"] + mean["South"], rtol=1e-9)
    assert_allclose(mean["Watched"], mean["moss"] + mean["rose"], rtol=1e-9)
    assert found.filter(pl.col("node") == "Wet")["product"].unique().to_list() == ["moss"]


def test_edges_survive_later_actuals(panel: Panel) -> None:
    later = Panel(Timeline("M", 24_060, 2, 12), panel.key_names, panel.keys, np.full((4, 2), 5.0))
    assert append(panel, later, np.ones((4, 2), dtype=bool), "zero")[0].edges == panel.edges
    brought = replace(later, edges=Edges("new.csv", ("All",), (("fern",),), ("",), ("",), False))
    assert append(panel, brought, np.ones((4, 2), dtype=bool), "zero")[0].edges == brought.edges
