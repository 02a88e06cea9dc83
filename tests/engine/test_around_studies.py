"""What stands around a study: threads, checks, kept methods, the sheet, and its files."""

from __future__ import annotations

import base64
import json
import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from numpy.typing import NDArray

from tansy.engine.compute.threads import n_workers, run_chunks
from tansy.engine.errors import NotationError, RecipeError
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.simpler import fit_or_simpler, simpler
from tansy.engine.panel import Panel
from tansy.engine.study import export
from tansy.engine.study.checks import check_forecast
from tansy.engine.study.field import MISSING, sheet, sparks, trails
from tansy.engine.study.forecast import Layer
from tansy.engine.study.kept import KeptMethod, read_kept
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.run import Study, run_study
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
RECIPE = Recipe(
    name="small", structure={"product": ["group"], "store": ["region"]},
    methods=("seasonal-naive", "mean", "ets(A,N,N)"), origins=3, step=4, leads=4,
)  # fmt: skip


@pytest.fixture(scope="module")
def panel() -> Panel:
    """Three products of two groups in three stores of two regions."""
    rng = np.random.default_rng(2)
    products, stores = np.repeat(["P0", "P1", "P2"], 3), np.tile(["S0", "S1", "S2"], 3)
    values = rng.poisson(20.0, (9, 80)).astype(float)
    values[8, :30] = np.nan
    return Panel(
        Timeline("W", 2800, 80, 52), ("product", "store"), {"product": products.tolist(), "store": stores.tolist()},
        values,
        attributes={
            "product": {"group": {"P0": "Ferns", "P1": "Ferns", "P2": "Herbs"}, "name": {"P1": "Lady fern"}},
            "store": {"region": {"S0": "Coast", "S1": "Coast", "S2": "Hills"}},
        },
    )  # fmt: skip


@pytest.fixture(scope="module")
def study(panel: Panel) -> Study:
    return run_study(panel, RECIPE)


# --- threads


@pytest.mark.parametrize("workers", [1, 2, 7])
def test_every_chunk_is_worked_on_once_by_as_many_threads_as_asked_for(workers: int) -> None:
    names: set[str] = set()

    def work(chunk: int) -> int:
        names.add(threading.current_thread().name)
        time.sleep(0.002)
        return chunk * chunk

    assert sorted(run_chunks(work, list(range(40)), workers)) == [i * i for i in range(40)]
    assert len(names) <= workers
    assert n_workers() >= 1 and not list(run_chunks(work, [], workers))


def test_what_goes_wrong_in_a_chunk_comes_out_and_ends_the_rest() -> None:
    begun: list[int] = []

    def work(chunk: int) -> int:
        begun.append(chunk)
        time.sleep(0.005)
        if chunk == 3:
            raise ValueError("chunk 3 has no water")
        return chunk

    with pytest.raises(ValueError, match="no water"):
        list(run_chunks(work, list(range(2000)), 2))
    assert len(begun) < 500  # a handful, unless the machine is very busy


def test_chunks_not_yet_begun_are_dropped_when_nobody_listens_any_more() -> None:
    begun: list[int] = []

    def work(chunk: int) -> int:
        begun.append(chunk)
        time.sleep(0.005)
        return chunk

    results = run_chunks(work, list(range(2000)), 2)
    next(results)
    results.close()  # type: ignore[attr-defined]
    assert len(begun) < 500


# --- checks before publishing


def test_each_check_finds_what_is_broken_and_nothing_else(study: Study) -> None:
    n_finest = study.graph.n_aggregates

    def broken(change: str) -> set[str]:
        forecast, quantiles = study.forecast.copy(), study.quantiles.copy()
        if change == "gap":
            forecast[0, 2] += 0.01
        if change == "negative":
            quantiles[n_finest, 0, -1] = -1.0
        if change == "crossing":
            quantiles[n_finest, [0, 1]] = quantiles[n_finest, [1, 0]] + np.array([[0.5], [0.0]])
        if change == "missing":
            quantiles[n_finest + 1, 0, 0] = np.nan
        made = replace(study.published, layers=(Layer("slip", forecast),), quantiles=quantiles)
        return {one.name for one in check_forecast(made, True) if not one.holds}

    assert broken("nothing") == set()
    assert broken("gap") == {"adds up"}
    assert broken("negative") == {"no negatives"}
    assert broken("crossing") == {"bands ordered and plausible"}
    assert broken("missing") == {"every series covered"}
    below = replace(study.published, layers=(Layer("slip", study.forecast - 1e6),))
    allowed = check_forecast(below, False)
    assert {one.name: one.holds for one in allowed}["no negatives"]


# --- methods kept by hand


@pytest.mark.parametrize(
    ("entry", "says"),
    [
        ({"method": "mean", "reason": "so", "node": "a", "kind": "smooth"}, "one node or for a kind"),
        ({"method": "mean", "reason": "so"}, "one node or for a kind"),
        ({"method": "mean", "reason": " ", "kind": "smooth"}, "needs a method and a reason"),
        ({"method": "mean", "reason": "so", "kinds": "smooth"}, "unknown entry 'kinds'"),
    ],
)
def test_a_kept_method_that_is_not_sound_is_refused_in_words(entry: dict[str, str], says: str) -> None:
    with pytest.raises(RecipeError, match=says):
        read_kept(entry)
    with pytest.raises(NotationError):
        read_kept({"method": "average", "reason": "so", "kind": "smooth"})


def test_a_method_kept_for_a_node_goes_before_one_for_its_kind_and_the_later_before_the_earlier(panel: Panel) -> None:
    graph = run_study(panel, RECIPE).graph
    own = graph.ids[20]
    kept = (
        KeptMethod("naive", "first thought", node=own),
        KeptMethod("drift", "second thought", node=own),
        KeptMethod("mean", "all alike", kind="smooth"),
        KeptMethod("moving-average(5)", "of no node", node="gone"),
        KeptMethod("seasonal-naive", "too short for it", node=graph.ids[35]),  # sold for 50 weeks of 52
    )
    study = run_study(panel, replace(RECIPE, kept=kept))
    assert study.methods[study.chosen[20]] == "drift" and "second thought" in study.kept[20]
    assert study.methods[study.chosen[35]] != "seasonal-naive" and 35 not in study.kept
    finest = np.arange(study.graph.n_aggregates, study.graph.n_nodes)
    smooth = [i for i in finest.tolist() if i != 35 and study.kinds.groups()["smooth"][i]]
    assert smooth and all(study.methods[study.chosen[i]] == "mean" for i in smooth)
    assert all("for all smooth series" in study.kept[i] for i in smooth)
    with pytest.raises(RecipeError, match="no kind 'odd'"):
        run_study(panel, replace(RECIPE, kept=(KeptMethod("mean", "so", kind="odd"),)))


# --- the sheet of all nodes


def test_the_sheet_has_every_node_at_its_row_and_column(study: Study) -> None:
    found = sheet(study)
    rows, columns = found["rows"], found["columns"]
    assert [(row["name"], row["depth"], row["parent"]) for row in rows[:4]] == [
        ("every product", 0, -1), ("Ferns", 1, 0), ("P0", 2, 1), ("Lady fern", 2, 1),
    ]  # fmt: skip
    assert [row.get("code") for row in rows[:4]] == [None, None, None, "P1"]  # said where it is not the name
    assert [row["series"] for row in rows] == [9, 6, 3, 3, 3, 3] and len(columns) == 6
    assert sorted(found["node"]) == sorted(study.graph.refs) and len(set(found["node"])) == study.graph.n_nodes
    for node, row, column in zip(found["node"], found["row"], found["column"], strict=True):
        ways = trails(study.graph)[study.graph.refs.index(node)]
        assert [(step["name"], step.get("code")) for step in ways[0]][-1] == (rows[row]["name"], rows[row].get("code"))
        assert [step["name"] for step in ways[1]][-1] == columns[column]["name"]
        assert ways[0][-1]["node"] == ways[1][-1]["node"] == node  # both ways end at the node itself
    assert len(set(zip(found["row"], found["column"], strict=True))) == study.graph.n_nodes
    picture = np.frombuffer(base64.b64decode(found["spark"][0]), np.uint8)
    assert len(picture) == found["n_past"] + RECIPE.leads


def test_small_pictures_run_from_zero_to_their_own_most_and_break_at_gaps() -> None:
    history = np.array([[0.0, 5.0, 10.0, np.nan], [-5.0, 0.0, 5.0, 5.0], [0.0, 0.0, 0.0, 0.0], [np.nan] * 4])
    found = sparks(history, np.array([[10.0], [15.0], [0.0], [0.0]]), 4)
    assert found.tolist() == [
        [0, 127, 254, MISSING, 254], [0, 64, 127, 127, 254], [0, 0, 0, 0, 0], [MISSING] * 4 + [0],
    ]  # fmt: skip


# --- files of a study


@pytest.mark.parametrize("form", ["csv", "parquet"])
def test_the_files_of_a_study_hold_what_it_found(study: Study, panel: Panel, tmp_path: Path, form: str) -> None:
    summary = export.write(study, panel, tmp_path, form)
    table = (
        pl.read_csv(tmp_path / "forecasts.csv") if form == "csv" else pl.read_parquet(tmp_path / "forecasts.parquet")
    )
    names = ["q0.025", "q0.1", "q0.25", "q0.75", "q0.9", "q0.975"]
    of_period = ["statistical", "forecast", *names]
    of_sums = ["sum", *(f"sum_{name}" for name in names)]
    assert table.columns == ["product", "store", "node", "level", "period", "lead", *of_period, *of_sums]
    assert len(table) == study.graph.n_nodes * RECIPE.leads
    series = table.filter(pl.col("level") == study.graph.levels[-1].name)
    by_lead = series.group_by("lead").agg(pl.col("forecast").sum()).sort("lead")["forecast"].to_numpy()
    np.testing.assert_allclose(by_lead, study.forecast[0], rtol=1e-9)
    own = series.filter((pl.col("product") == "P1") & (pl.col("store") == "S2")).sort("lead")
    node = study.graph.n_aggregates + 5
    np.testing.assert_allclose(own["forecast"].to_numpy(), study.forecast[node], rtol=1e-9)
    np.testing.assert_allclose(own.select(names).to_numpy().T, study.quantiles[node], rtol=1e-9)
    assert own["period"].to_list() == study.timeline.after(RECIPE.leads).labels

    accuracy = pl.read_csv(tmp_path / "accuracy.csv")
    published = accuracy.filter(
        (pl.col("level") == "all nodes") & (pl.col("method") == "published") & (pl.col("lead") == 0)
    )
    by_name = dict(published.select("measure", "value").iter_rows())
    assert by_name["RMSSE"] == pytest.approx(summary["published"]["all nodes"]["RMSSE"])
    assert summary == json.loads((tmp_path / "summary.json").read_text())
    assert (summary["series"], summary["nodes"], summary["largest_gap"]) == (9, 36, 0.0)


# --- simpler methods for what is too short


@pytest.mark.parametrize(
    ("text", "ways"),
    [
        ("ets(M,A,M)", ["ets(A,A,N)", "ets(A,N,N)", "ets(A,N,N)", "naive", "mean"]),
        ("log ets(A,N,N) + harmonics(2)", ["log ets(A,N,N)", "ets(A,N,N)", "naive", "mean"]),
        ("arima(1,0,1)(0,1,1)12", ["ets(A,N,N)", "naive", "mean"]),
        ("arima(1,0,0) + x(price)", ["arima(1,0,0)", "ets(A,N,N)", "naive", "mean"]),
        ("theta", ["naive", "mean"]),
    ],
)
def test_ways_back_go_from_near_to_far(text: str, ways: list[str]) -> None:
    assert [str(way) for way in simpler(parse(text))] == ways


def test_every_series_gets_a_method_and_a_word_why() -> None:
    rng = np.random.default_rng(0)
    y = np.full((5, 40), np.nan)
    y[0] = rng.normal(50, 5, 40)
    y[1, -6:] = rng.normal(50, 5, 6)
    y[2, -2:] = [3.0, 4.0]
    y[3, -1] = 7.0
    settled: dict[int, tuple[str, tuple[str, ...], float]] = {}
    for rows, fits, done in fit_or_simpler(parse("ets(A,A,A)"), Batch(y, Timeline("M", 24000, 40, 12)), 2, "known"):
        for i in np.nonzero(done)[0].tolist():
            assert int(rows[i]) not in settled, "each is settled once"
            settled[int(rows[i])] = (str(fits.form(i)), fits.notes.get(i, ()), float(fits.forecast[i, 0]))
    assert [settled[i][0] for i in range(5)] == ["ets(A,A,A)", "ets(A,N,N)", "naive", "naive", "mean"]
    assert settled[3][2] == 7.0 and settled[2][2] == 4.0 and np.isnan(settled[4][2])
    for i in (1, 2, 3):
        assert any("instead of ets(A,A,A)" in note for note in settled[i][1]), settled[i]
        assert any("too few" in note for note in settled[i][1]), settled[i]
