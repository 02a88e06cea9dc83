"""Reconciliation of a whole chain: 42,840 nodes over 30,490 series in 12 crossed levels, 28 leads, 156 residuals.

    python -m bench.reconcile [--series N] [--growth] [--command]

Promised: diagonal weights 0.15 s, shrinkage 0.6 s, variances of every node 1 s with it, 500 joint paths to quantiles
2 s within 600 MB, non-negative over all leads 1.5 s, structure from attributes 1 s. --command: `tansy reconcile
--method shrinkage` on Parquet files of that size, 10 s and 3 GB. --growth: from 1,000 to 160,000 nodes. Medians of
three.
"""

from __future__ import annotations

import argparse
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import polars as pl
from numpy.typing import NDArray

from bench.adjust import chain
from tansy.engine.graph.constraints import Summation
from tansy.engine.graph.graph import Graph
from tansy.engine.graph.grouping import group
from tansy.engine.reconcile.covariance import Covariance, mean_squares, weights
from tansy.engine.reconcile.joint import JointPaths
from tansy.engine.reconcile.methods import Evidence, covariance, reconcile
from tansy.engine.reconcile.projection import Projection
from tansy.engine.reconcile.system import System

Floats = NDArray[np.float64]
LEADS, PERIODS = 28, 156
P = np.array([0.025, 0.1, 0.25, 0.75, 0.9, 0.975])


def seconds(work: Callable[[], object], runs: int = 3) -> float:
    work()
    took = []
    for _ in range(runs):
        began = time.perf_counter()
        work()
        took.append(time.perf_counter() - began)
    return statistics.median(took)


def data(summation: Summation) -> tuple[Floats, Floats]:
    """Base forecasts [nodes, leads], a tenth of whose series are expected below zero somewhere, and errors [nodes, T]
    that share a third of themselves."""
    rng = np.random.default_rng(0)
    level = rng.lognormal(0.0, 1.2, summation.n_finest)
    shared = rng.normal(size=(1, PERIODS))
    errors = summation.sum_up(np.sqrt(level)[:, None] * (rng.normal(size=(len(level), PERIODS)) + 0.3 * shared))
    size = np.sqrt(mean_squares(errors))
    errors += 0.3 * size[:, None] * rng.normal(size=errors.shape)
    base = summation.sum_up(np.tile(level[:, None], (1, LEADS)))
    return base + 0.6 * size[:, None] * rng.normal(size=base.shape), errors


def steps(summation: Summation, base: Floats, errors: Floats) -> dict[str, float]:
    given = Evidence(mean_squares(errors), errors)
    found = {"structure of the factor": seconds(lambda: System._found(summation.matrix))}
    for name in ("structural", "variance", "ols"):
        w = Covariance(weights(name, summation, given.error_variance))
        found[f"{name}, factored and applied"] = seconds(lambda w=w: Projection(summation, w).finest(base))  # type: ignore[misc]
    found["shrinkage, all in"] = seconds(
        lambda: Projection(summation, covariance("shrinkage", summation, given)).finest(base)
    )

    def with_variances() -> None:
        own = Projection(summation, covariance("shrinkage", summation, given))
        own.finest(base)
        own.variances()

    found["shrinkage with the variance of every node"] = seconds(with_variances)
    diagonal = Projection(summation, Covariance(given.error_variance))
    found["variances of every node, diagonal"] = seconds(diagonal.variances)
    for name in ("variance", "structural", "ols"):
        found[f"{name}, non-negative"] = seconds(lambda name=name: reconcile(summation, base, name, given, True))  # type: ignore[misc]
    return found


def joint(summation: Summation, base: Floats, errors: Floats) -> float:
    """How long all joint paths to quantiles take, in seconds."""
    given = Evidence(mean_squares(errors), errors)
    diagonal = Projection(summation, Covariance(given.error_variance))
    spread = np.sqrt(given.error_variance)[:, None] * np.sqrt(1.0 + 0.1 * np.arange(base.shape[1]))
    in_units = errors / np.sqrt(given.error_variance)[:, None]
    return seconds(lambda: JointPaths(diagonal, base, spread, in_units).quantiles(P))


def peak() -> float:
    """Most memory that this process has held, MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3


def growth() -> None:
    print("  nodes   variance  shrinkage   non-neg.      paths (s)")
    for n_series in (700, 2_800, 7_100, 14_200, 30_490, 57_000, 114_000):
        _, graph = chain(n_series)
        base, errors = data(graph.summation)
        paths, found = joint(graph.summation, base, errors), steps(graph.summation, base, errors)
        names = ("variance, factored and applied", "shrinkage, all in", "variance, non-negative")
        cells = "".join(f"{took:>11.3f}" for took in (*(found[name] for name in names), paths))
        print(f"{graph.n_nodes:>7,}{cells}", flush=True)


def write(folder: Path, graph: Graph, base: Floats, errors: Floats) -> None:
    nodes = pl.Series([f"N{i:06d}" for i in range(graph.n_nodes)])
    for name, values, across in (("base", base, "lead"), ("residuals", errors, "period")):
        n = values.shape[1]
        pl.DataFrame(
            {
                "node": nodes.gather(np.repeat(np.arange(len(nodes)), n)),
                across: np.tile(np.arange(1, n + 1), len(nodes)),
                "value": values.ravel(),
            }
        ).write_parquet(folder / f"{name}.parquet")
    matrix = graph.summation.matrix.tocoo()
    pl.DataFrame(
        {"parent": nodes.gather(matrix.coords[0]), "child": nodes.gather(matrix.coords[1] + graph.n_aggregates)}
    ).write_parquet(folder / "structure.parquet")


def command(graph: Graph, base: Floats, errors: Floats) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write(folder, graph, base, errors)
        for method in ("variance", "shrinkage"):
            began = time.perf_counter()
            subprocess.run(
                [
                    sys.executable, "-m", "tansy.cli", "reconcile", "--base", str(folder / "base.parquet"),
                    "--structure", str(folder / "structure.parquet"), "--residuals", str(folder / "residuals.parquet"),
                    "--method", method, "--out", str(folder / "out.parquet"),
                ],
                check=True,
            )  # fmt: skip
            peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1e3
            print(f"tansy reconcile --method {method}: {time.perf_counter() - began:.1f} s, {peak:,.0f} MB")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--series", type=int, default=30_490)
    parser.add_argument("--growth", action="store_true")
    parser.add_argument("--command", action="store_true")
    given, _ = parser.parse_known_args()
    if given.growth:
        growth()
        return
    panel, graph = chain(given.series)
    base, errors = data(graph.summation)
    if given.command:
        command(graph, base, errors)
        return
    print(f"{graph.n_nodes:,} nodes, {LEADS} leads, {PERIODS} errors, on 2 cores (s)")
    levels = {"article": ["department", "group"], "store": ["region"]}
    print(f"{'structure from attributes':<44} {seconds(lambda: group(panel, levels)):.3f}")
    print(
        f"{'joint paths to quantiles':<44} {joint(graph.summation, base, errors):.3f}, {peak():,.0f} MB at most by now"
    )
    for name, took in steps(graph.summation, base, errors).items():
        print(f"{name:<44} {took:.3f}")
    print(f"peak memory {peak():,.0f} MB")


if __name__ == "__main__":
    main()
