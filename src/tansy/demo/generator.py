"""Hollowmere's data, made from a seed: what a company would have, and the truth behind it in a file of its own.

Demand of a product in a centre is a product of factors, each of which a planner would recognise: usual volume, size of
the centre, taste of the region, season of the group (shifted by region), a trend that flattens, the weather of that
week, bank holidays, price and promotion. Sales are negative-binomial counts around it. On top come the troubles of real
data: stock-outs, till errors, returns, a refit, late openings, launches, renamed and delisted products. As tills do,
the sales file has no row for a week without a sale.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from pathlib import Path

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.demo.catalogue import GROUPS, REGIONS
from tansy.engine.timeline import first_day, label, ordinal

Floats = NDArray[np.float64]

N_WEEKS = 182
N_UPDATE = 4
N_AHEAD = 26
LAST_WEEK = ordinal(date(2026, 10, 19), "W")  # 2026-W43
SEED = 20261


@dataclass(frozen=True)
class Demo:
    """Tables to be written: sales, products, stores, drivers, update, truth."""

    sales: pl.DataFrame
    products: pl.DataFrame
    stores: pl.DataFrame
    drivers: pl.DataFrame
    update: pl.DataFrame
    truth: pl.DataFrame

    def write(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        names = {"update": "sales-update"}
        for name in ("products", "stores", "drivers", "update", "truth", "sales"):
            getattr(self, name).write_csv(folder / f"{names.get(name, name)}.csv")


def _season(week: Floats, peaks: tuple[tuple[float, float, float], ...], base: float) -> Floats:
    """Seasonal factor of fractional weeks of the year, around the circle of the year."""
    factor = np.full(week.shape, base)
    for centre, width, height in peaks:
        distance = np.abs(week - centre)
        distance = np.minimum(distance, 52.18 - distance)
        factor = factor + height * np.exp(-0.5 * (distance / width) ** 2)
    return factor


def _holidays(weeks: list[date]) -> NDArray[np.bool_]:
    """Weeks with a bank holiday: Easter, two in May, one in late August, Christmas and New Year."""
    marked = []
    for monday in weeks:
        year, week, _ = monday.isocalendar()
        easter = ordinal(_easter(year), "W")
        marked.append(week in (1, 19, 22, 35, 52) or ordinal(monday, "W") in (easter, easter + 1))
    return np.array(marked)


def _easter(year: int) -> date:
    """Easter Sunday by the anonymous Gregorian computus."""
    a, b, c = year % 19, year // 100, year % 100
    d, e, f = b // 4, b % 4, (b + 8) // 25
    g = (b - f + 1) // 3
    h = (19 * a + b - d - g + 15) % 30
    i, k = c // 4, c % 4
    m = (32 + 2 * e + 2 * i - h - k) % 7
    n = (a + 11 * h + 22 * m) // 451
    month, day = divmod(h + m - 7 * n + 114, 31)
    return date(year, month, day + 1)


def generate(seed: int = SEED) -> Demo:
    """Make the data. The same seed gives the same tables."""
    rng = np.random.default_rng(seed)
    total = N_WEEKS + N_UPDATE + N_AHEAD
    first = LAST_WEEK - N_WEEKS + 1
    mondays = [first_day(first + t, "W") for t in range(total)]
    labels = np.array([label(first + t, "W") for t in range(total)])
    week_of_year = np.array([monday.timetuple().tm_yday / 7.0 for monday in mondays])
    t = np.arange(total, dtype=np.float64)
    holiday = _holidays(mondays)

    # Centres
    regions = list(REGIONS)
    store_region = np.array([r for r, name in enumerate(regions) for _ in REGIONS[name][1]])
    store_names = [name for region in regions for name in REGIONS[region][1]]
    n_stores = len(store_names)
    store_codes = np.array([f"HC{i + 1:02d}" for i in range(n_stores)])
    store_size = rng.lognormal(0.0, 0.45, n_stores)
    shift = np.array([REGIONS[region][0] for region in regions], dtype=float)
    opened = np.zeros(n_stores, dtype=int)
    opened[int(rng.integers(n_stores))] = 71
    refit = np.zeros((n_stores, total), dtype=bool)
    refit_store = int(rng.choice(np.nonzero(opened == 0)[0]))
    refit[refit_store, 118:127] = True

    # Products
    group_of = np.array([g for g, group in enumerate(GROUPS) for _ in group.variants])
    n_products = len(group_of)
    names = [f"{group.name}, {variant}" for group in GROUPS for variant in group.variants]
    codes = np.array([f"P{1001 + i}" for i in range(n_products)])
    popularity = rng.lognormal(-0.35, 0.8, n_products)
    volume = np.array([GROUPS[g].volume for g in group_of]) * popularity
    price_level = np.array([GROUPS[g].price for g in group_of]) * rng.lognormal(0.0, 0.35, n_products)
    fate = rng.permutation(n_products)
    launched = np.zeros(n_products, dtype=int)
    launched[fate[:9]] = rng.integers(40, 168, 9)
    delisted = np.full(n_products, total)
    delisted[fate[9:15]] = rng.integers(60, 176, 6)
    renamed = fate[15:18]
    renamed_at = rng.integers(70, 150, 3)

    # Pairs on sale: small centres carry fewer lines
    carried = rng.random((n_products, n_stores)) < np.clip(0.72 + 0.12 * np.log(store_size), 0.5, 0.97)[None, :] + 0.08
    product, store = np.nonzero(carried)
    n_pairs = len(product)
    group = group_of[product]
    region = store_region[store]

    # Season of group and region, the weather of the year in it
    season = np.empty((len(GROUPS), len(regions), total))
    weather = np.empty((len(regions), total))
    common = _autoregressive(rng, total, 0.75)
    for r in range(len(regions)):
        weather[r] = 0.8 * common + 0.6 * _autoregressive(rng, total, 0.6)
        for g, item in enumerate(GROUPS):
            season[g, r] = _season((week_of_year - shift[r]) % 52.18, item.peaks, item.base)
    sensitivity = np.array([item.weather for item in GROUPS])
    lift = np.exp(sensitivity[:, None, None] * weather[None, :, :] * 0.6)
    taste = rng.lognormal(0.0, 0.25, (len(GROUPS), len(regions)))

    # Trend of a product, flattening; trend of a centre
    slope = rng.normal(0.0, 0.25, n_products)
    half = rng.uniform(25, 90, n_products)
    growth = np.exp(slope[:, None] * (1.0 - np.exp(-np.maximum(t[None, :] - 20.0, 0.0) / half[:, None])))
    store_growth = np.exp(rng.normal(0.0, 0.1, n_stores)[:, None] * t[None, :] / total)

    # Price steps once a year, promotions with a price cut: chain-wide by product, about five a year
    steps = np.cumsum((t % 52 == 30)[None, :] * rng.uniform(0.0, 0.06, (n_products, total)), axis=1)
    price = np.round(price_level[:, None] * np.exp(steps), 2)
    promotion = np.zeros((n_products, total), dtype=bool)
    cut = np.zeros((n_products, total))
    for p in range(n_products):
        for start in rng.choice(total - 3, size=int(rng.poisson(5 * total / 52)), replace=False):
            span = slice(int(start), int(start) + int(rng.integers(1, 4)))
            promotion[p, span] = True
            cut[p, span] = rng.choice([0.1, 0.15, 0.2, 0.25, 0.3])
    elasticity = np.array([GROUPS[g].elasticity for g in group_of])
    shelf_effect = rng.uniform(0.1, 0.45, n_products)
    promotion_effect = np.where(promotion, np.exp(elasticity[:, None] * np.log(1.0 - cut) + shelf_effect[:, None]), 1.0)
    selling_price = np.round(price * (1.0 - cut), 2)
    price_effect = np.exp(elasticity[:, None] * 0.6 * (np.log(price) - np.log(price_level)[:, None]))
    holiday_effect = np.where(holiday, np.exp(0.22), 1.0)

    # True mean of every pair and week
    own = rng.lognormal(0.0, 0.35, n_pairs)
    mean = (
        (volume[product] * store_size[store] * own * taste[group, region])[:, None]
        * season[group, region]
        * lift[group, region]
        * growth[product]
        * store_growth[store]
        * promotion_effect[product]
        * price_effect[product]
        * holiday_effect[None, :]
    )
    on_sale = (t[None, :] >= np.maximum(launched[product], opened[store])[:, None]) & (
        t[None, :] < delisted[product][:, None]
    )
    mean *= on_sale & ~refit[store]
    mean[mean < 0.004] = 0.0
    dispersion = rng.uniform(4.0, 18.0, n_pairs)[:, None]
    demand = rng.poisson(rng.gamma(np.broadcast_to(dispersion, mean.shape), mean / dispersion)).astype(float)

    # Stock-outs: a few weeks without a sale
    out = np.zeros_like(mean, dtype=bool)
    for pair in np.nonzero(rng.random(n_pairs) < 0.16)[0]:
        start = int(rng.integers(0, total))
        out[pair, start : start + int(rng.integers(1, 4))] = True
    sold = np.where(out, 0.0, demand)

    # Till errors, 3 to 30 times the noise; returns in weeks of few sales
    wild = (rng.random(mean.shape) < 0.00035) & (mean > 0)
    noise = np.sqrt(mean + mean * mean / dispersion)
    sold = np.where(wild, np.round(sold + rng.uniform(3.0, 30.0, mean.shape) * np.maximum(noise, 1.0)), sold)
    returned = (rng.random(mean.shape) < 0.0006) & on_sale & (mean < 3.0)
    sold = np.where(returned, -rng.integers(1, 4, mean.shape), sold)

    code = np.broadcast_to(codes[product][:, None], mean.shape).copy()
    for p, at in zip(renamed, renamed_at, strict=True):
        code[np.ix_(product == p, np.arange(total) >= at)] = f"P{2001 + int(p)}"

    past = np.arange(total) < N_WEEKS
    new = (np.arange(total) >= N_WEEKS) & (np.arange(total) < N_WEEKS + N_UPDATE)
    # The update also revises a few values of the last weeks, as late bookings do
    late = (rng.random(mean.shape) < 0.01) & (np.arange(total) >= N_WEEKS - 4)[None, :] & past[None, :] & (sold > 0)
    revised = np.where(late, sold + rng.integers(1, 4, mean.shape), sold)

    def rows(which: NDArray[np.bool_], units: Floats) -> pl.DataFrame:
        i, at = np.nonzero(which)
        return pl.DataFrame(
            {
                "product": code[i, at],
                "store": store_codes[store[i]],
                "week": labels[at],
                "units": units[i, at].astype(np.int64),
            }
        )

    def product_table() -> pl.DataFrame:
        order = [*range(n_products), *(int(p) for p in renamed)]
        all_codes = [*codes, *(f"P{2001 + int(p)}" for p in renamed)]
        return pl.DataFrame(
            {
                "product": all_codes,
                "product_name": [names[p] + (" (new code)" if i >= n_products else "") for i, p in enumerate(order)],
                "department": [GROUPS[group_of[p]].department for p in order],
                "group": [GROUPS[group_of[p]].name for p in order],
            }
        )

    sold_by, at = np.nonzero(on_sale)
    drivers = pl.DataFrame(
        {
            "product": code[sold_by, at],
            "store": store_codes[store[sold_by]],
            "week": labels[at],
            "price": selling_price[product[sold_by], at],
            "promotion": promotion[product[sold_by], at].astype(np.int8),
            "holiday": holiday[at].astype(np.int8),
        }
    )
    truth_at = on_sale & (np.arange(total) < N_WEEKS + N_UPDATE)[None, :]
    j, when = np.nonzero(truth_at)
    truth = pl.DataFrame(
        {
            "product": code[j, when],
            "store": store_codes[store[j]],
            "week": labels[when],
            "mean": np.round(mean[j, when], 5),
            "wild": wild[j, when].astype(np.int8),
            "stock_out": out[j, when].astype(np.int8),
            "promotion_effect": np.round(promotion_effect[product[j], when], 5),
        }
    )
    stores = pl.DataFrame(
        {"store": store_codes, "store_name": store_names, "region": [regions[r] for r in store_region]}
    )
    return Demo(
        sales=rows((sold != 0) & past[None, :], sold),
        products=product_table(),
        stores=stores,
        drivers=drivers,
        update=rows(((revised != 0) & new[None, :]) | late, revised),
        truth=truth,
    )


def _autoregressive(rng: np.random.Generator, n: int, memory: float) -> Floats:
    """A stationary first-order series of variance 1."""
    shocks = rng.normal(0.0, np.sqrt(1.0 - memory * memory), n)
    series = np.empty(n)
    series[0] = rng.normal()
    for t in range(1, n):
        series[t] = memory * series[t - 1] + shocks[t]
    return series
