"""Nothing looks ahead: what a study does at an origin depends on what was known then."""

from __future__ import annotations

import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from numpy.testing import assert_array_equal

from tansy.engine.panel import Panel
from tansy.engine.study.export import save_backtest
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline, label
from tests.engine.test_store import RECIPE as STORED
from tests.engine.test_store import garden

N, AHEAD, LEADS = 150, 8, 8
FIRST = 2800
RECIPE = """
name = "scrambled"
[data]
file = "sales.csv"
driver_columns = ["price", "promotion", "stock", "footfall"]
gaps = "unknown"
[data.attribute_columns]
group = "sku"
[structure]
sku = ["group"]
[cleaning]
accept_above = 4.5
[methods]
candidates = [
    "seasonal-naive", "ets(A,N,N)", "ets(A,N,N) + shared-season", "arima(1,0,0) + x(log price, promotion)",
    "ets(A,N,N) + pooled(log price, promotion)", "ets(best)", "boxcox(best) ets(A,Ad,N)", "tsb",
    "blend(weights; ets(A,N,N); seasonal-naive; learner)", "blend(median; ets(A,N,N); tsb; learner)",
]
fallback = ["ets(A,N,N) + shared-season"]
ended_after = 30
kept = [{kind = "seasonal", method = "ets(A,N,N)", reason = "to see which nodes are of that kind then"}]
[backtest]
origins = 4
step = 7
leads = 8
anchor = "ANCHOR"
[reconciliation]
method = "best"
[intervals]
levels = [80]
""".replace("ANCHOR", label(FIRST + 125 - 1, "W"))


def table(seed: int, upset_from: int) -> pl.DataFrame:
    """Nine series with a season, prices, promotions, stock, wild values, stock-outs and gaps, one of them new, one
    ended, one sold in summer only. From the period `upset_from` on everything but the plans is another matter."""
    rng, upset = np.random.default_rng(3), np.random.default_rng(seed)
    t = np.arange(N + AHEAD)
    n = 9
    season = 1.0 + 0.5 * np.sin(2.0 * np.pi * t / 52.18)
    promotion = rng.random((n, len(t))) < 0.1
    price = 10.0 * np.where(promotion, 0.8, 1.0) * rng.choice([1.0, 1.1], (n, len(t)))
    level = rng.uniform(5.0, 60.0, n)[:, None]
    sold = rng.poisson(level * season * np.where(promotion, 1.6, 1.0)).astype(float)
    sold[0] = rng.poisson(40.0 * np.maximum(np.sin(2.0 * np.pi * t / 52.18), 0.0))
    sold[1, :118] = np.nan
    sold[2, 90:] = 0.0
    sold[3, 60] = 900.0
    sold[4, 124:128] = np.nan  # a gap across two origins' windows, and across one origin
    sold[5, 127] = 700.0  # wild, and seen as such only by those who know what follows
    stock = rng.integers(5, 60, (n, len(t))).astype(float)
    stock[6, 100:103] = 0.0
    sold[6, 100:103] = 0.0
    footfall = sold * rng.uniform(3.0, 5.0, (n, len(t)))  # no plan: it tells of what is sold, and is told afterwards
    late = t >= upset_from
    if seed:
        footfall[:, late] = upset.choice([-5.0, 2.0, 9e4], (n, late.sum()))
        sold[:, late] = upset.choice([0.0, 3.0, 50.0, 4000.0, np.nan], (n, late.sum()))
        stock[:, late] = upset.choice([0.0, 7.5, 1e6], (n, late.sum()))
    sold[:, N:] = np.nan
    stock[:, N:] = footfall[:, N:] = np.nan
    rows = np.arange(n).repeat(len(t))
    frame = pl.DataFrame(
        {
            "week": [label(FIRST + k, "W") for k in t.tolist()] * n,
            "sku": [f"s{i}" for i in rows.tolist()],
            "group": [f"g{i % 2}" for i in rows.tolist()],
            "sold": sold.ravel(),
            "price": price.ravel(),
            "promotion": promotion.ravel().astype(int),
            "stock": stock.ravel(),
            "footfall": footfall.ravel(),
        }
    ).with_columns(pl.col("sold", "stock", "footfall").fill_nan(None))
    # the series ends where it ends: its last week is said, whatever was sold in it
    return frame.filter(pl.col("sold").is_not_null() | pl.col("price").is_not_null())


@pytest.mark.parametrize("upset_from", [125, 132])
def test_nothing_that_comes_after_an_origin_changes_a_byte_of_it(tmp_path: Path, upset_from: int) -> None:
    """Values, stock, a driver that nobody plans, corrections by rules and kinds are scrambled after an origin; what was
    forecast, chosen and promised there, and from the origins before, stays as it was. Prices and promotions stand."""
    found = []
    for seed in (0, 1):
        folder = tmp_path / f"{seed}"
        folder.mkdir()
        table(seed, upset_from).write_csv(folder / "sales.csv")
        (folder / "study.toml").write_text(RECIPE)
        command = [sys.executable, "-m", "tansy.cli", "run", folder / "study.toml", "--out", folder, "--save-backtest"]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
        found.append(pl.read_parquet(folder / "backtest.parquet"))
    before, after = found
    assert before.height == after.height
    origins = before["origin"].unique().sort().to_list()
    assert len(origins) == 4
    known = [origin for origin in origins if origin <= label(FIRST + upset_from - 1, "W")]
    assert (known and known != origins) or upset_from > 130
    for origin in origins:
        own = [one.filter(pl.col("origin") == origin).drop("actual") for one in (before, after)]
        if origin in known:
            for column in own[0].columns:
                assert_array_equal(own[0][column].to_numpy(), own[1][column].to_numpy(), err_msg=f"{origin} {column}")
        else:
            assert not own[0].equals(own[1])
    published = before.filter(pl.col("method") == "published")
    assert published["mean"].is_finite().all() and published.height == before["node"].n_unique() * 4 * LEADS


def test_a_node_alone_is_given_what_it_is_given_among_all_and_whatever_stands_beside_it() -> None:
    """The pages of a series take one node, a study all of them, and results are found again by what a node was given:
    so no sum may hang on how many others are summed beside it."""
    panel = garden()
    fewer = replace(panel, keys={k: v[:9] for k, v in panel.keys.items()}, values=panel.values[:9])
    fewer = replace(fewer, drivers={name: one[:9] for name, one in panel.drivers.items()})
    whole, without = prepare(panel, STORED), prepare(fewer, STORED)
    last = without.graph.n_nodes - 1
    there = next(i for i in range(whole.graph.n_nodes) if whole.graph.ids[i] == without.graph.ids[last])
    for n in (60, panel.timeline.n_periods):
        known = whole.known(n)
        for form in whole.forms:
            keys = known.keys(form)
            for node in range(whole.graph.n_nodes):
                assert_array_equal(whole.known(n, nodes=np.array([node])).keys(form)[0], keys[node], err_msg=str(form))
            if not form.pooled:  # whose effects are those of a group that lost a product
                assert_array_equal(without.known(n).keys(form)[last], keys[there], err_msg=str(form))


def test_the_backtest_keeps_keys_apart_from_its_own_columns(tmp_path: Path) -> None:
    values = np.random.default_rng(0).poisson(9.0, (2, 40)).astype(float)
    keys = {"origin": ["here", "there"], "method": ["by hand", "=1+1"]}
    panel = Panel(Timeline("M", 24_000, 40, 12), ("origin", "method"), keys, values)
    recipe = Recipe("apart", {}, ("mean",), origins=2, step=3, leads=3)
    run_study(panel, recipe, backtest=save_backtest(tmp_path / "backtest.parquet"))
    found = pl.read_parquet(tmp_path / "backtest.parquet")
    assert {"key origin", "key method", "origin", "method"} <= set(found.columns)
    finest = found.filter((pl.col("key origin") == "there") & (pl.col("key method") == "=1+1"))
    assert finest["method"].unique().sort().to_list() == ["choice", "mean", "published", "seasonal-naive"]
    assert finest["origin"].n_unique() == 2 and finest.height == 2 * 3 * 4
