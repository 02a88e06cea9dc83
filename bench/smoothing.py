"""Smoothing: choices per second, nanoseconds, paths, long seasons, one refit, compilation.

    python -m bench.smoothing [--seeds N] [--slow N]

--seeds: demo data to judge seasons on. --slow: instead of all else, hold every form against a slow search on so many
simulated series.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from tansy.engine.backtest.measures import mean_square_step
from tansy.engine.compute.threads import run_chunks
from tansy.engine.kernels.paths import smoothing_paths
from tansy.engine.kernels.smoothing import follow
from tansy.engine.lens.tries import describe, in_sample, try_methods
from tansy.engine.methods.distribution import draws, path_quantiles
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.timeline import Timeline

_SIZES = ((156, 1, 6000, 10_000), (120, 12, 2000, 2_000), (156, 52, 1000, 700))
_CHUNK = 250  # sizes are multiples of two chunks, so that neither thread waits for the other


def series(n: int, length: int, m: int, seed: int = 1) -> np.ndarray:
    """Levels that wander, trends, seasons and noise of different sizes; all values above zero."""
    rng = np.random.default_rng(seed)
    level = 100 + rng.normal(0, 1, (n, length)).cumsum(axis=1) * rng.uniform(0, 1.5, (n, 1))
    y = level + rng.uniform(-0.3, 0.3, (n, 1)) * np.arange(length)
    y += rng.normal(0, 1, (n, length)) * rng.uniform(2, 6, (n, 1))
    if m > 1:
        y += rng.uniform(0, 25, (n, 1)) * np.sin(2 * np.pi * np.arange(length) / m)
    return np.maximum(y, 5.0)


def through(chunk: Callable[[int], Any], starts: list[int], threads: int) -> None:
    """Work through all chunks and forget what they say."""
    for _ in run_chunks(chunk, starts, threads):
        pass


def timed(work: Callable[[], Any], times: int = 3) -> float:
    """Median of wall seconds."""
    seconds = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        seconds.append(time.perf_counter() - began)
    return statistics.median(seconds)


def choices() -> None:
    print("ets(best): 15 forms with a season, 6 without; series a second, medians of 3")
    print("T    m    1 thread  2 threads  ratio  (promised)   lost > 0.1 AICc")
    for length, m, n, promised in _SIZES:
        y = series(n, length, m)
        timeline = Timeline("W" if m == 52 else "M", 24000, length, m)
        form = parse("ets(best)")

        def chunk(start: int, y: np.ndarray = y, timeline: Timeline = timeline, form: Any = form) -> None:
            fit(form, Batch(y[start : start + _CHUNK], timeline), 1)

        chunk(0)
        starts = list(range(0, n, _CHUNK))
        one = timed(partial(through, chunk, starts, 1))
        two = timed(partial(through, chunk, starts, 2))
        few = Batch(y[:100], timeline)
        best = fit(form, few, 1)
        texts = [f"ets({','.join(one.letters or ())})" for one in best.forms]
        lost = best.aicc - np.nanmin(np.stack([fit(parse(text), few, 1).aicc for text in texts], axis=1), axis=1)
        print(
            f"{length:<4} {m:<4} {n / one:8,.0f}  {n / two:9,.0f}  {one / two:5.2f}  ({promised:,})  "
            f"{100 * np.mean(lost > 0.1):12.0f} %"
        )


@njit(nogil=True)
def _many_passes(y, season, m, weights, level, seasonal, path, times):
    total = 0.0
    for _ in range(times):
        for j in range(m):
            seasonal[j] = 1.0 if season == 2 else 0.0
        total += follow(y, season, m, weights, level, 0.1, seasonal, path)[0]
    return total


def recursions() -> None:
    print("\none pass of the recursion, ns an observation (numerics.md: 1.7 / 3.2 / 3.8 / 9.5 on another machine)")
    y = series(1, 156, 12)[0]
    for name, season, weights in (
        ("A,N,N", 0, [0.3, 0.0, 0.0, 0.0]), ("A,Ad,N", 0, [0.3, 0.05, 0.0, 0.9]), ("A,Ad,A", 1, [0.3, 0.05, 0.1, 0.9]),
        ("M,Ad,M", 2, [0.3, 0.05, 0.1, 0.9]),
    ):  # fmt: skip
        m = 12 if season else 0
        arguments = (y, season, m, np.array(weights), 100.0, np.ones(m), np.empty((4, 156)))
        _many_passes(*arguments, 1)
        print(f"  {name:8} {1e9 * timed(partial(_many_passes, *arguments, 2000)) / (2000 * 156):5.1f}")


def paths() -> None:
    n, leads, n_paths, m = 10_000, 26, 1024, 12
    rng = np.random.default_rng(0)
    weights = np.tile([0.3, 0.05, 0.1, 0.9], (n, 1, 1))
    states = np.concatenate([rng.uniform(50, 150, (n, 1, 1)), np.zeros((n, 1, 1)), np.ones((n, 1, m))], axis=2)
    sigma = np.full((n, 1), 0.1)
    drawn = draws(leads, 1 << 10)
    p = np.array([0.025, 0.1, 0.25, 0.5, 0.75, 0.9, 0.975])

    def chunk(start: int) -> np.ndarray:
        rows = slice(start, start + 250)
        k = len(weights[rows])
        out = np.empty((k, leads, n_paths), dtype=np.float32)
        smoothing_paths(
            np.ones(k, bool), np.full(k, 2), m, weights[rows], states[rows], sigma[rows], np.zeros((k, 1)),
            np.zeros(k, np.int64), drawn.normals, drawn.uniforms, drawn.which, out,
        )  # fmt: skip
        return path_quantiles(out, p)

    chunk(0)
    seconds = timed(partial(through, chunk, list(range(0, n, 250)), 2))
    print(
        f"\n10,000 series x 26 leads x 1,024 paths of ets(M,Ad,M), seven quantiles: {seconds:.2f} s (promised: 0.8 s)"
    )


def parsimonious() -> None:
    """Long seasons without a state for each week."""
    n, length, m = 10_000, 156, 52
    y = np.maximum(series(n, length, m), 0.0)
    groups = np.arange(n) % 100
    sources = np.zeros((100, length))
    np.add.at(sources, groups, y)
    timeline = Timeline("W", 2700, length, m)
    print("\n10,000 series fitted, T 156, 2 threads; shared seasons are those of 100 groups (promised: 5 s for these)")
    for text in (
        "ets(A,N,N) + shared-season", "ets(A,N,N) + harmonics(3)", "ets(A,Ad,N) + harmonics(3)",
        "ets(A,N,N) + harmonics(best)",
    ):  # fmt: skip
        form = parse(text)

        def chunk(start: int, form: Any = form) -> None:
            rows = slice(start, start + 250)
            fit(form, Batch(y[rows], timeline, sources=sources, source_of=groups[rows]), 13)

        chunk(0)
        print(f"  {text:28} {timed(partial(through, chunk, list(range(0, n, 250)), 2)):5.2f} s")


def one_refit() -> None:
    y = series(1, 156, 52)[0]
    timeline = Timeline("W", 2700, 156, 52)
    print("one try as the screen asks for it, with bands and measures (promised: 5 ms for one refit)")
    for text in (
        "ets(A,Ad,N; alpha=0.3)",
        "ets(A,Ad,N)",
        "ets(A,N,N) + harmonics(3)",
        "ets(M,Ad,M; alpha=0.2)",
        "ets(best)",
    ):

        def one(text: str = text) -> None:
            found = try_methods(y, timeline, [text], 13)
            in_sample(y, found, 52)
            describe(found[0], y, (50.0, 80.0, 95.0))

        one()
        refit = timed(partial(fit, parse(text), Batch(y[None], timeline), 13), 9)
        print(f"  {text:28} {1e3 * timed(one, 9):6.1f} ms, of which the fit itself {1e3 * refit:5.1f} ms")


def compilation() -> None:
    command = [sys.executable, "-m", "tansy.engine.study.compile"]
    with tempfile.TemporaryDirectory() as cache:
        environment = {**os.environ, "NUMBA_CACHE_DIR": cache}
        cold = subprocess.run(command, check=True, capture_output=True, text=True, env=environment)
        warm = subprocess.run(command, check=True, capture_output=True, text=True, env=environment)
    print("from nothing (promised: 120 s; loaded warm 1 s):", cold.stderr.strip())
    print("from the cache:", warm.stderr.strip())


def seasons(n_seeds: int) -> None:
    """RMSSE of three ways to have a long season, on the series that all of them can forecast, three origins."""
    from tansy.demo.generator import generate
    from tansy.engine.reading.history import read_panel
    from tansy.engine.reading.options import ReadOptions

    texts = ("ets(A,N,N) + shared-season", "ets(A,N,N) + harmonics(best)", "ets(A,N,A)", "seasonal-naive")
    print(f"\nRMSSE on the demo data, 13 leads, 3 origins, {n_seeds} seeds (promised: 10 % below the last two)")
    print("seed    " + "  ".join(f"{text:>28}" for text in texts))
    for seed in range(20261, 20261 + n_seeds):
        with tempfile.TemporaryDirectory() as name:
            generate(seed).write(Path(name))
            options = ReadOptions(attribute_files={"products.csv": "", "stores.csv": ""})
            panel = read_panel(Path(name) / "sales.csv", options).panel
        y, length = panel.values, panel.timeline.n_periods
        keys = [f"{g}|{r}" for g, r in zip(panel.column("group") or [], panel.column("region") or [], strict=True)]
        _, groups = np.unique(keys, return_inverse=True)
        sources = np.zeros((groups.max() + 1, length))
        np.add.at(sources, groups, np.nan_to_num(y))
        scores: dict[str, list[np.ndarray]] = {text: [] for text in texts}
        for n_seen in (length - 13, length - 29, length - 45):
            scale = mean_square_step(y[:, :n_seen])
            batch = Batch(
                np.ascontiguousarray(y[:, :n_seen]),
                panel.timeline.until(n_seen),
                sources=sources[:, :n_seen],
                source_of=groups,
            )
            squares = {}
            for text in texts:
                error = y[:, n_seen : n_seen + 13] - fit(parse(text), batch, 13).forecast
                squares[text] = np.where(np.isnan(error), np.nan, error**2).mean(axis=1) / np.where(
                    scale > 0, scale, np.nan
                )
            usable = np.all([np.isfinite(one) for one in squares.values()], axis=0)
            for text in texts:
                scores[text].append(squares[text][usable])
        rmsse = [np.sqrt(np.concatenate(scores[text])).mean() for text in texts]
        print(f"{seed}   " + "  ".join(f"{value:28.3f}" for value in rmsse), flush=True)


def slow_search(n: int) -> None:
    """Log-likelihood against Nelder-Mead over everything, n simulated series a form."""
    from tests.engine import plain_smoothing as plain
    from tests.engine.test_smoothing import noise, text_of, truth

    print(f"log-likelihood short of a slow search: most over {n} series, and how often by more than 0.05 and 0.5")
    for letters in sorted(plain.ALL_FORMS, key=lambda one: one[2] != "N"):
        rng = np.random.default_rng(100)
        y = np.array([plain.simulate(letters, truth(letters, 4), 4, 60, noise(letters), rng) for _ in range(n)])
        fits = fit(parse(text_of(*letters)), Batch(y, Timeline("M", 24000, 60, 4)), 1)

        def short(i: int, fits: Any = fits, y: np.ndarray = y, letters: Any = letters) -> float:
            start = fits.named_parameters(i)
            if not start:
                return 0.0
            other = plain.best_by_search(y[i], letters, 4, start, np.random.default_rng(i), restarts=4)
            return other - float(fits.loglik[i])

        lost = np.array([short(i) for i in range(n)])
        print(
            f"  {','.join(letters):8} {lost.max():7.3f}  {np.mean(lost > 0.05):6.1%}  {np.mean(lost > 0.5):6.1%}",
            flush=True,
        )


def main(arguments: list[str] | None = None) -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--slow", type=int)
    parser.add_argument("--seeds", type=int, default=5)
    chosen = parser.parse_args(arguments)
    if chosen.slow:
        slow_search(chosen.slow)
        return
    choices()
    recursions()
    paths()
    parsimonious()
    one_refit()
    compilation()
    seasons(chosen.seeds)


if __name__ == "__main__":
    main()
