"""What is published by default against methods that anybody could have taken, by kind of demand and by frequency.

    python -m bench.bases [--seed N] [--only NAME ...]

The demo by weeks and by four weeks, made-up days of sales with a week and a year, and the real series of `bench.real`
where they are to be had. Per kind: mean RMSSE over its series and all origins, on cells that all can forecast; a star
where what is published is worse than the seasonal naive, or than the best of the others by more than 1 %.
"""

from __future__ import annotations

import argparse
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bench.real import FOLDER, SETS, recipe_of
from tansy.demo.generator import generate
from tansy.engine.backtest.measures import mean_square_step, nan_mean
from tansy.engine.panel import Panel
from tansy.engine.plans.calendars import holidays_in
from tansy.engine.plans.kinds import Holidays
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.report import kinds_of
from tansy.engine.study.run import Backtest, Study, run_study
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

BASES = ("ets(best)", "arima(best)", "theta")
NAIVE = "seasonal-naive"
CALENDAR = "DE-BY"
_FEW = 5


def panels(seed: int) -> Iterator[tuple[str, Panel, Recipe]]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        generate(seed).write(folder)
        attributes = {"products.csv": "", "stores.csv": "", "drivers.csv": ""}
        for frequency in ("W", "4W"):
            options = ReadOptions(attribute_files=attributes, frequency=frequency if frequency != "W" else None)
            panel = read_panel(folder / "sales.csv", options).panel
            yield f"demo {frequency}", panel, default_recipe(panel, default_levels(panel))
    panel = days_of_sales(seed)
    yield "days of sales", panel, default_recipe(panel, default_levels(panel))
    panel = with_holidays_and_promotions(panel, seed)
    plans = (Holidays(CALENDAR),)
    yield "days with promotions, holidays planned", panel, default_recipe(panel, default_levels(panel), plans=plans)
    yield "the same, holidays not told", panel, default_recipe(panel, default_levels(panel))
    for name, asked in SETS.items():
        if (FOLDER / f"{name}.csv").exists():
            panel = read_panel(FOLDER / f"{name}.csv", ReadOptions()).panel
            yield name, panel, recipe_of(panel, asked)


def days_of_sales(seed: int) -> Panel:
    """200 products of eight groups over 1,000 days: week and year of the group, a level that wanders, counts."""
    rng = np.random.default_rng(seed)
    n, day = 200, np.arange(1000)
    group = np.arange(n) % 8
    year = np.exp(0.5 * np.sin(2.0 * np.pi * day / 365.25 + rng.uniform(0.0, 2.0 * np.pi, 8)[group][:, None]))
    week = rng.gamma(6.0, 1.0 / 6.0, (8, 7))[group][:, (day + 18_000) % 7]
    level = rng.lognormal(2.0, 1.0, n)[:, None] * np.exp(np.cumsum(rng.normal(0.0, 0.01, (n, len(day))), axis=1))
    values = rng.poisson(rng.gamma(6.0, level * year * week / 6.0)).astype(float)
    names = [f"A{i:03}" for i in range(n)]
    groups = {name: f"G{of}" for name, of in zip(names, group.tolist(), strict=True)}
    return Panel(
        Timeline("D", 18_000, len(day), 7), ("sku",), {"sku": names}, values, attributes={"sku": {"group": groups}}
    )


def with_holidays_and_promotions(panel: Panel, seed: int) -> Panel:
    """A tenth is sold on public holidays and 1.4 times as much on the day before; promotions of a week, known ahead,
    lift sales by a half or so."""
    rng = np.random.default_rng(seed + 1)
    n, length, ahead = panel.n_series, panel.timeline.n_periods, 28
    off = holidays_in(CALENDAR, "D", panel.timeline.first, length + 1)
    lift = np.where(off[:-1] > 0.0, 0.1, np.where(off[1:] > 0.0, 1.4, 1.0))
    promotion = np.repeat(rng.random((n, (length + ahead) // 7 + 1)) < 0.1, 7, axis=1)[:, : length + ahead]
    lift = lift * np.where(promotion[:, :length], rng.uniform(1.3, 1.7, (n, 1)), 1.0)
    values = np.round(panel.values * lift)  # of counts, so that they stay whole
    return replace(panel, values=values, drivers={"promotion": promotion.astype(float)})


def compare(panel: Panel, recipe: Recipe) -> None:
    of_bases: dict[str, Floats] = {}

    def keep(found: Backtest) -> None:
        own = slice(found.prepared.graph.n_aggregates, None)
        n = found.prepared.graph.n_nodes
        for j, method in enumerate(found.methods):
            means = [one.results[j].rows(0, n).mean[own] for one in found.endings[:-1]]
            of_bases[method] = np.stack(means, axis=1)

    study = run_study(panel, recipe)
    run_study(panel, replace(recipe, methods=BASES, fallback=(), in_season=""), backtest=keep)
    errors = rmsse(study, {"published": study.tested[study.graph.n_aggregates :], **of_bases})
    names, which = kinds_of(study.kinds, study.graph)
    groups = {"all series": np.ones(study.graph.n_series, dtype=bool)}
    groups |= {name: one[study.graph.n_aggregates :] for name, one in zip(names, which, strict=True)}
    for name, own in groups.items():
        if own.sum() < _FEW:
            continue
        means = {method: float(nan_mean(one[own])) for method, one in errors.items()}
        best = min(means[method] for method in BASES)
        worse = means["published"] > min(means[NAIVE], 1.01 * best)
        shown = "  ".join(f"{method} {means[method]:.3f}" for method in ("published", NAIVE, *BASES))
        print(f"  {name:16} {own.sum():5}  {shown}  {'*' if worse else ''}", flush=True)


def rmsse(study: Study, forecasts: dict[str, Floats]) -> dict[str, Floats]:
    """[series] each, NaN where no cell is forecast by all."""
    finest = slice(study.graph.n_aggregates, None)
    received, leads = study.received[finest], study.recipe.leads
    actuals = np.full((len(received), len(study.seen_at), leads), np.nan)
    step = np.empty((len(received), len(study.seen_at), 1))
    for o, n in enumerate(study.seen_at):
        came = received[:, n : n + leads]
        actuals[:, o, : came.shape[1]] = came
        step[:, o, 0] = mean_square_step(received[:, :n])
    known = ~np.isnan(np.stack([actuals, *(forecasts[name] for name in ("published", NAIVE, *BASES))])).any(axis=0)
    found = {}
    for name, forecast in forecasts.items():
        squares = np.where(known & (step > 0.0), (actuals - forecast) ** 2 / np.where(step > 0.0, step, 1.0), np.nan)
        found[name] = np.sqrt(nan_mean(squares, axis=(1, 2)))
    return found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=20261)
    parser.add_argument("--only", nargs="+")
    given, _ = parser.parse_known_args()
    for name, panel, recipe in panels(given.seed):
        if given.only and name not in given.only:
            continue
        print(f"{name}: {panel.n_series} series, {recipe.origins} origins, {recipe.leads} leads; mean RMSSE")
        compare(panel, recipe)


if __name__ == "__main__":
    main()
