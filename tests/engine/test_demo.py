"""The demo data is what a planner would expect of a chain of garden centres, and the same for the same seed."""

from __future__ import annotations

import polars as pl
import pytest

from tansy.demo.generator import Demo, generate


@pytest.fixture(scope="module")
def demo() -> Demo:
    return generate(7)


def test_size_and_shape(demo: Demo) -> None:
    pairs = demo.sales.select("product", "store").unique()
    assert pairs.height >= 2500
    assert demo.sales["week"].n_unique() == 182 and demo.stores.height == 24 and demo.stores["region"].n_unique() == 5
    assert demo.products.height >= 140
    assert demo.products["group"].n_unique() == 20 and demo.products["department"].n_unique() == 7
    assert demo.update.filter(pl.col("week") > demo.sales["week"].max())["week"].n_unique() == 4
    assert demo.drivers.filter(pl.col("week") > demo.sales["week"].max())["week"].n_unique() == 30


def test_the_same_seed_gives_the_same_data(demo: Demo) -> None:
    again = generate(7)
    assert again.sales.equals(demo.sales) and again.truth.equals(demo.truth)
    assert not generate(8).sales.equals(demo.sales)


def test_troubles_are_in_it_and_marked_in_the_truth(demo: Demo) -> None:
    sales, truth = demo.sales, demo.truth
    assert (sales["units"] < 0).any() and not (sales["units"] == 0).any()
    assert 20 < truth["wild"].sum() < 1000 and truth["stock_out"].sum() > 100
    assert demo.products.filter(pl.col("product_name").str.contains("new code")).height == 3
    joined = truth.join(sales, on=["product", "store", "week"], how="inner")
    plain = joined.filter((pl.col("wild") == 0) & (pl.col("mean") > 20))
    # negative-binomial sales around the true mean: the ratio of sums is 1 to a percent
    assert plain["units"].sum() / plain["mean"].sum() == pytest.approx(1.0, abs=0.02)


def test_seasons_differ_by_department_and_promotions_lift_sales(demo: Demo) -> None:
    sales = demo.sales.join(demo.products, on="product").with_columns(
        week_no=pl.col("week").str.slice(6).cast(pl.Int32)
    )
    by_week = sales.group_by("department", "week_no").agg(pl.col("units").sum())
    peak = {name: int(rows.sort("units")["week_no"][-1]) for (name,), rows in by_week.group_by("department")}
    assert 17 <= peak["Bedding"] <= 27 and peak["Winter & festive"] >= 44
    promoted = demo.truth.join(demo.drivers, on=["product", "store", "week"]).filter(pl.col("promotion") == 1)
    assert promoted["promotion_effect"].min() > 1.0
