"""The demo's data as arrays, beside the truth that it was made from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.demo.generator import N_WEEKS, Demo
from tansy.engine.panel import Panel
from tansy.engine.timeline import Timeline, ordinal, read_date

Floats = NDArray[np.float64]
LEVELS = {"product": ["department", "group"], "store": ["region"]}


@dataclass(frozen=True)
class Planted:
    """mean, noise, promotion: [series, weeks], of the generator; 0 where a product is not on sale. wild, stock_out:
    where something was planted."""

    panel: Panel
    mean: Floats
    noise: Floats
    promotion: Floats
    wild: NDArray[np.bool_]
    stock_out: NDArray[np.bool_]


def planted(demo: Demo) -> Planted:
    weeks = demo.sales["week"].unique().sort().to_list()
    first = read_date(weeks[0], "week")
    assert first is not None and len(weeks) == N_WEEKS
    truth = demo.truth.filter(pl.col("week").is_in(weeks)).join(demo.sales, on=["product", "store", "week"], how="left")
    pairs = truth.select("product", "store").unique().sort("product", "store").with_row_index("series")
    place = {week: t for t, week in enumerate(weeks)}
    at = truth.join(pairs, on=["product", "store"], maintain_order="left")
    cell = (at["series"].to_numpy(), at["week"].replace_strict(place).to_numpy())

    def spread(column: pl.Series, empty: float) -> Floats:
        matrix = np.full((pairs.height, N_WEEKS), empty)
        matrix[cell] = column.to_numpy()
        return matrix

    values = spread(at["units"].fill_null(0), np.nan)
    mean, wild = spread(at["mean"], 0.0), spread(at["wild"], 0.0) > 0
    out = spread(at["stock_out"], 0.0) > 0
    innocent = ~np.isnan(values) & ~wild & ~out
    # dispersion of each pair by moments around the true mean, which the truth file does not hold
    excess = np.where(innocent, (values - mean) ** 2 - mean, 0.0).sum(axis=1)
    c = np.clip(excess / np.maximum(np.where(innocent, mean * mean, 0.0).sum(axis=1), 1e-9), 0.02, 1.0)
    products, stores = (
        {column: dict(zip(table[key].to_list(), table[column].to_list(), strict=True)) for column in LEVELS[key]}
        for key, table in (("product", demo.products), ("store", demo.stores))
    )
    panel = Panel(
        Timeline("W", ordinal(first, "W"), N_WEEKS, 52),
        ("product", "store"),
        {"product": pairs["product"].to_list(), "store": pairs["store"].to_list()},
        values,
        {"product": products, "store": stores},
    )
    noise = np.maximum(np.sqrt(mean + c[:, None] * mean * mean), 1.0)
    return Planted(panel, mean, noise, spread(at["promotion_effect"], 1.0), wild, out)
