"""Compile every kernel into its cache: `python -m tansy.engine.study.compile`; see `ready` for why.

Runs a small study and fits one small batch by every family, which is what compiles a kernel for the types it is called
with. Two processes share the work; the second comes last to what needs the first one's kernels, which by then are in
the cache.
"""

from __future__ import annotations

import fcntl
import multiprocessing
import os
import sys
import time
from concurrent.futures import ProcessPoolExecutor

import numpy as np
from scipy import sparse

from tansy.engine.cleaning.rules import Rules
from tansy.engine.graph.constraints import Summation
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.panel import Panel
from tansy.engine.reconcile.covariance import Covariance
from tansy.engine.reconcile.joint import JointPaths
from tansy.engine.reconcile.projection import projection
from tansy.engine.study.ready import COMPILING, folder, stamp
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline

STUDY = "a small study"
SHARES = (
    (STUDY, "ets(A,N,N)", "ets(A,Ad,A)", "ets(A,N,N; start=first, tune=MAE)", "ets(M,Ad,M)", "ets(best)"),
    (
        "arima(1,1,1)(0,1,1)12",
        "arima(best)",
        "arima(1,0,0) + slope-changes",
        "seasonal-median(3)",
        "tsb",
        "ets(A,N,N; resampled)",
    ),
)


def compile_share(share: tuple[str, ...]) -> None:
    """Fit and band a small batch by each of some methods."""
    os.environ[COMPILING] = "yes"
    values = np.random.default_rng(0).normal(100.0, 10.0, (2, 60))
    timeline = Timeline("M", 24000, 60, 12)
    for text in share:
        if text == STUDY:
            panel = Panel(timeline, ("sku",), {"sku": ["a", "b"]}, values)
            methods = ("seasonal-naive", "ets(A,N,N) + shared-season")
            run_study(panel, Recipe("small", {}, methods, origins=2, step=6, leads=6, cleaning=Rules()))
            reconcile_some()
            continue
        found = fit(parse(text), Batch(values, timeline), 6, bands="estimated")
        assert found.distribution is not None
        found.distribution.quantiles(np.array([0.5]))


def reconcile_some() -> None:
    """Paths and variances of a small structure, in doubles and in singles."""
    summation = Summation(sparse.csr_array(np.ones((1, 2))))
    own = projection(summation, Covariance(np.ones(3)))
    own.variances()
    some = np.ones((3, 4))
    paths = JointPaths(own, some, some, some, some[1:])
    paths.at(0)
    paths.quantiles(np.array([0.5]))


def main() -> None:
    """Have each share compiled and say how long it took."""
    began = time.perf_counter()
    with (folder() / "compiling").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)  # a second one waits, and finds all there
        if not stamp().exists():
            for old in (*folder().rglob("*.nb?"), *folder().glob("ready-*")):
                old.unlink(missing_ok=True)
        with ProcessPoolExecutor(len(SHARES), multiprocessing.get_context("spawn")) as pool:
            list(pool.map(compile_share, SHARES))
        began_warm = time.perf_counter()
        for share in SHARES:  # finds the cache complete, or completes what one process wrote over the other's
            compile_share(share)
        stamp().touch()
    now = time.perf_counter()
    print(f"kernels ready after {now - began:.1f} s, loaded in {now - began_warm:.1f} s", file=sys.stderr)


if __name__ == "__main__":
    main()
