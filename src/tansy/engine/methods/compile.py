"""Compile every kernel into its cache: `python -m tansy.engine.methods.compile`.

Fits one small batch by every family, which is what compiles a kernel for the types it is called with. Two processes
share the work; the second comes last to what needs the first one's kernels, which by then are in the cache.
"""

from __future__ import annotations

import multiprocessing
import sys
import time
from concurrent.futures import ProcessPoolExecutor

import numpy as np

from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.profile.kinds import find_kinds
from tansy.engine.timeline import Timeline

_SHARES = (
    ("seasonal-naive", "ets(A,N,N)", "ets(A,Ad,A)", "ets(A,N,N; start=first, tune=MAE)", "ets(M,Ad,M)"),
    ("arima(1,1,1)(0,1,1)12", "arima(best)", "arima(1,0,0) + slope-changes", "tsb", "ets(A,N,N; resampled)"),
)


def _compile(share: tuple[str, ...]) -> None:
    values = np.random.default_rng(0).normal(100.0, 10.0, (2, 60))
    batch = Batch(values, Timeline("M", 24000, 60, 12))
    for text in share:
        if text == "seasonal-naive":
            find_kinds(values, batch.timeline, 0)
        found = fit(parse(text), batch, 6, bands="estimated")
        assert found.distribution is not None
        found.distribution.quantiles(np.array([0.5]))


def main() -> None:
    """Fit each family once and say how long it took."""
    began = time.perf_counter()
    with ProcessPoolExecutor(len(_SHARES), multiprocessing.get_context("spawn")) as pool:
        list(pool.map(_compile, _SHARES))
    began_warm = time.perf_counter()
    for share in _SHARES:  # finds the cache complete, or completes what one process wrote over the other's
        _compile(share)
    now = time.perf_counter()
    print(f"kernels ready after {now - began:.1f} s, loaded in {now - began_warm:.1f} s", file=sys.stderr)


if __name__ == "__main__":
    main()
