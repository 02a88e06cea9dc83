"""ARIMA: microseconds of one likelihood and one fit, and the search over orders against one over all models.

python -m bench.arima
"""

from __future__ import annotations

import tempfile
from functools import partial
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
from numba import njit

from bench.smoothing import series, through, timed
from tansy.demo.generator import generate
from tansy.engine.kernels import arima_model, arima_search
from tansy.engine.kernels.arima_model import Orders
from tansy.engine.methods import arima_fit
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.pooled import pooled_effects
from tansy.engine.methods.registry import fit
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.timeline import Timeline

_CHUNK = 50


@njit(nogil=True)
def _problem(y, orders, differences):
    p, q, seasonal_p, seasonal_q, m = orders
    reach = max(p + seasonal_p * m, q + seasonal_q * m + 1)
    data = arima_model.data_of(y, np.zeros((len(y), 0)), differences, m, arima_model.NO_MEAN, reach)
    return arima_model.problem_of(data, orders, np.full(orders.p + orders.q + orders.sp + orders.sq, np.nan))


@njit(nogil=True)
def _many(raw, problem, times):
    total = 0.0
    for _ in range(times):
        total += arima_search.evaluate(raw, problem, arima_search.LOOSE)
    return total


def likelihoods() -> None:
    print("one exact likelihood, us (numerics.md, another machine: 1.1 / 2.8 / 3.9 / 12)")
    for orders, differences, length in (
        (Orders(2, 2, 0, 0, 1), (1, 0), 156), (Orders(1, 1, 1, 1, 12), (0, 1), 155),
        (Orders(0, 1, 0, 1, 52), (1, 1), 156), (Orders(1, 1, 1, 1, 52), (0, 1), 572),
    ):  # fmt: skip
        y = series(1, length, orders.m)[0]
        problem = _problem(y, orders, differences)
        raw = np.concatenate([np.full(orders.p, 0.5), np.full(orders.q, -0.3), np.full(orders.sp + orders.sq, 0.3)])
        _many(raw, problem, 1)
        seconds = timed(partial(_many, raw, problem, 500), 5)
        n = problem.data.inputs.shape[1]
        print(f"  ({orders.p},{orders.q})({orders.sp},{orders.sq}){orders.m:<3} n {n}: {1e6 * seconds / 500:5.1f}")


def fits() -> None:
    print("\none fit with standard errors, ms, medians over 20 series")
    for text, length, m, promised in (
        ("arima(1,0,1)(0,1,1)12", 120, 12, "1"),
        ("arima(1,0,1)(1,0,1)52", 156, 52, "5"),
        ("arima(1,0,0) + slope-changes", 156, 52, "-"),
    ):
        batch = Batch(series(20, length, m), Timeline("W" if m == 52 else "M", 24000, length, m))
        form = parse(text)
        fit(form, batch, 13, bands="estimated")
        seconds = timed(partial(fit, form, batch, 13, bands="estimated"), 5)
        alone = timed(partial(fit, form, batch.rows(np.array([0])), 13, bands="estimated"), 5)
        print(f"  {text} T {length}: {1e3 * seconds / 20:.2f} (promised: {promised}), alone {1e3 * alone:.1f}")


def gaps() -> None:
    """One fit where values are missing: a column each for a few, the Kalman filter past them."""
    rng = np.random.default_rng(0)
    counts = (5, 30, 104)
    for text, m, length in (("arima(0,1,1)", 1, 156), ("arima(1,1,1)", 1, 260), ("arima(0,1,1)(0,1,1)12", 12, 156)):
        found = []
        for missing in counts:
            y = (
                rng.normal(size=(24, length)).cumsum(axis=1)
                + 50
                + 3 * np.sin(np.arange(length) * 2 * np.pi / max(m, 5))
            )
            for row in y:
                row[rng.choice(np.arange(1, length - 1), missing, replace=False)] = np.nan
            batch = Batch(y, Timeline("M", 24000, length, m))
            found.append(f"{1000 * timed(partial(fit, parse(text), batch, 12)) / len(y):.1f}")
        print(f"{text}, T {length}, {', '.join(map(str, counts))} missing: {', '.join(found)} ms a fit")


def tops() -> None:
    print("\nfits that end below the best of 24 more starts: more than 0.05, 0.5 in log-likelihood, most")
    for text, length, m in (
        ("arima(1,0,1)", 156, 1), ("arima(1,1,1)", 156, 1), ("arima(2,0,2)", 156, 1), ("arima(2,0,2)", 156, 52),
        ("arima(1,0,1) + harmonics(3)", 156, 52), ("arima(1,0,1)(0,1,1)12", 120, 12),
        ("arima(2,1,1)(1,0,0)12", 120, 12), ("arima(1,0,1)(0,1,1)52", 156, 52),
    ):  # fmt: skip
        n, rng = 100, np.random.default_rng(2)
        batch = Batch(series(n, length, m), Timeline("W" if m == 52 else "M", 24000, length, m))
        found = fit(parse(text), batch, 1)
        best = found.loglik.copy()
        for _ in range(24):
            with patch.object(
                arima_fit, "_starts", lambda form, names, rng=rng: rng.uniform(-2.0, 2.0, (1, len(names)))
            ):
                best = np.fmax(best, fit(parse(text), batch, 1).loglik)
        short = best - found.loglik
        print(f"  {text:<28} T {length}: {np.mean(short > 0.05):6.1%} {np.mean(short > 0.5):6.1%} {short.max():6.2f}")


def demo_series(few: int) -> tuple[np.ndarray, Timeline]:
    """Weekly sales of the demo: products in centres that sold in nine of ten weeks, evenly spread over all of them."""
    with tempfile.TemporaryDirectory() as name:
        generate(20261).write(Path(name))
        panel = read_panel(Path(name) / "sales.csv", ReadOptions()).panel
    lively = np.nonzero((np.nan_to_num(panel.values) > 0.0).mean(axis=1) > 0.9)[0]
    return panel.values[lively[np.linspace(0, len(lively) - 1, few).astype(int)]], panel.timeline


def near_the_best(text: str, batch: Batch) -> tuple[np.ndarray, float]:
    """How much AICc the search loses against all models in its bounds, per series, and how many it tried."""
    with_all = text.replace("best", "best; exhaustive") if ";" not in text else text.replace(";", "; exhaustive,")
    found, every = fit(parse(text), batch, 1), fit(parse(with_all), batch, 1)
    tried = [int(found.notes[i][-1].split(" models")[0].split()[-1]) for i in range(len(batch.values))]
    return found.aicc - every.aicc, float(np.mean(tried))


def searches() -> None:
    print("\narima(best): series a second, and how near it is to a search of all models within its bounds")
    print("T    m    1 thread  2 threads  ratio  (promised)  models  within 0.5 AICc of all  most")
    lost: list[np.ndarray] = []
    for length, m, n, few, promised in (
        (156, 1, 1000, 100, "3,000"),
        (120, 12, 400, 60, "480"),
        (156, 52, 400, 40, "600"),
    ):
        y = series(n, length, m)
        timeline = Timeline("W" if m == 52 else "M", 24000, length, m)

        def chunk(start: int, y: np.ndarray = y, timeline: Timeline = timeline) -> Any:
            return fit(parse("arima(best)"), Batch(y[start : start + _CHUNK], timeline), 1)

        chunk(0)
        starts = list(range(0, n, _CHUNK))
        one = timed(partial(through, chunk, starts, 1))
        two = timed(partial(through, chunk, starts, 2))
        short, models = near_the_best("arima(best)", Batch(y[:few], timeline))
        lost.append(short)
        print(
            f"{length:<4} {m:<4} {n / one:8,.0f}  {n / two:9,.0f}  {one / two:5.2f}  ({promised})  {models:12.1f}  "
            f"{np.mean(short < 0.5):20.1%}  {short.max():6.1f}"
        )
    y, timeline = demo_series(100)
    for text, few in (("arima(best; no-season)", 60), ("arima(best)", 40)):
        short, models = near_the_best(text, Batch(y[:few] if few == 40 else y[40:], timeline))
        lost.append(short)
        print(f"{few} demo series, {text}: {models:.1f} models, {np.mean(short < 0.5):.1%}, most {short.max():.1f}")
    together = np.concatenate(lost)
    print(f"all {len(together)}: within 0.5 AICc {np.mean(together < 0.5):.1%} (promised: 90 %)")


def driven() -> None:
    print("\norders searched beside price, promotion and 3 pairs of harmonics, T 156: series a second (promised: 300)")
    n, length, leads = 400, 156, 13
    rng = np.random.default_rng(5)
    price = np.exp(rng.normal(0.0, 0.1, (n, length + leads)))
    promotion = (rng.random((n, length + leads)) < 0.1).astype(float)
    y = series(n, length, 52) - 8.0 * price[:, :length] + 5.0 * promotion[:, :length]
    timeline, form = Timeline("W", 2800, length, 52), parse("arima(best) + harmonics(3) + x(price, promotion)")

    def chunk(start: int) -> Any:
        rows = slice(start, start + _CHUNK)
        return fit(form, Batch(y[rows], timeline, {"price": price[rows], "promotion": promotion[rows]}), leads)

    chunk(0)
    starts = list(range(0, n, _CHUNK))
    one, two = (timed(partial(through, chunk, starts, t)) for t in (1, 2))
    print(f"  1 thread {n / one:,.0f}, 2 threads {n / two:,.0f}")


def pooled() -> None:
    n, length = 10_000, 182
    rng = np.random.default_rng(1)
    drivers = {
        "price": np.exp(rng.normal(0.0, 0.1, (n, length))),
        "promotion": (rng.random((n, length)) < 0.1).astype(float),
        "holiday": np.tile((rng.random(length) < 0.1).astype(float), (n, 1)),
    }
    mean = rng.lognormal(1.0, 1.0, n)[:, None] * drivers["price"] ** -1.2 * np.exp(0.4 * drivers["promotion"])
    y, of_product = rng.poisson(mean).astype(float), np.repeat(np.arange(n // 25), 25)
    entries, timeline = ("log price", "promotion", "holiday"), Timeline("W", 2800, length, 52)
    seconds = timed(lambda: pooled_effects(entries, y, drivers, timeline, (of_product, of_product // 10)), 3)
    print(f"\neffects of three drivers pooled over {n:,} series x {length} weeks, one origin: {seconds:.1f} s")


def main() -> None:
    likelihoods()
    fits()
    gaps()
    tops()
    searches()
    driven()
    pooled()


if __name__ == "__main__":
    main()
