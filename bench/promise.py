"""Bands of the default recipe against simulated truth: share of what came inside them, at 60, 120 and 182 periods.

    python -m bench.promise [--series N] [--seeds N]

Worlds that no method is made for: random walks whose drift changes, counts with a season, levels that shift. Promised:
within 2 points of what the band says. Weeks of all series of a world are its own, so that the figures of one world and
length hang together over leads and hardly over series; the error that is printed is over series.
"""

from __future__ import annotations

import argparse

import numpy as np
from numpy.typing import NDArray

from tansy.engine.panel import Panel
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
LENGTHS = (60, 120, 182)
LEADS = 13


def walks(rng: np.random.Generator, n: int, length: int) -> Floats:
    """Drifts hold for 40 weeks in the mean, and are then drawn anew."""
    changes = rng.random((n, length)) < 1.0 / 40.0
    changes[:, 0] = True
    drawn = rng.normal(0.0, 0.3, (n, length))
    at = np.maximum.accumulate(np.where(changes, np.arange(length), 0), axis=1)
    return 200.0 + np.cumsum(np.take_along_axis(drawn, at, axis=1) + rng.normal(0.0, 2.0, (n, length)), axis=1)


def counts(rng: np.random.Generator, n: int, length: int) -> Floats:
    """Poisson, 0.3 to 30 a week, with the season of one of five groups."""
    t = np.arange(length)
    peak = np.repeat(rng.uniform(0.0, 52.18, 5), -(-n // 5))[:n, None]
    level = rng.lognormal(1.0, 1.2, (n, 1)).clip(0.3, 30.0)
    return rng.poisson(level * (1.0 + 0.5 * np.cos(2.0 * np.pi * (t - peak) / 52.18))).astype(float)


def shifts(rng: np.random.Generator, n: int, length: int) -> Floats:
    """A level that moves by a tenth of itself in the mean once in 50 weeks, beside noise of a twentieth."""
    jumps = np.where(rng.random((n, length)) < 0.02, rng.normal(0.0, 0.1, (n, length)), 0.0)
    return 100.0 * np.exp(np.cumsum(jumps, axis=1)) * (1.0 + rng.normal(0.0, 0.05, (n, length)))


WORLDS = {"walks with changing drift": walks, "seasonal counts": counts, "level shifts": shifts}


def one(values: Floats, length: int) -> tuple[list[float], Floats]:
    n = len(values)
    groups = {f"P{i:04d}": f"G{i * 5 // n}" for i in range(n)}
    panel = Panel(
        Timeline("W", 2700, length, 52), ("product",), {"product": list(groups)}, values[:, :length].copy(),
        attributes={"product": {"group": groups}},
    )  # fmt: skip
    study = run_study(panel, default_recipe(panel, {"product": ["group"]}))
    first = study.graph.n_aggregates
    leads = study.forecast.shape[1]
    came, q = values[:, None, length : length + leads], study.quantiles[first:]
    bands = q.shape[1] // 2
    inside = [((came[:, 0] >= q[:, b]) & (came[:, 0] <= q[:, -1 - b])).mean(axis=1) for b in range(bands)]
    return list(study.tables.band_levels), np.stack(inside, axis=1)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--series", type=int, default=300)
    parser.add_argument("--seeds", type=int, default=2)
    given, _ = parser.parse_known_args()
    print(f"{given.series} series, {given.seeds} seeds; share inside, % ± one standard error")
    for name, world in WORLDS.items():
        for length in LENGTHS:
            found = []
            for seed in range(given.seeds):
                rng = np.random.default_rng([seed, length])
                levels, inside = one(world(rng, given.series, length + LEADS), length)
                found.append(inside)
            every = 100.0 * np.concatenate(found)
            error = every.std(axis=0) / np.sqrt(len(every))
            said = ", ".join(
                f"{b:g}: {m:.1f} ± {e:.1f}" for b, m, e in zip(levels, every.mean(axis=0), error, strict=True)
            )
            print(f"{name:28} {length:4} weeks  {said}", flush=True)


if __name__ == "__main__":
    main()
