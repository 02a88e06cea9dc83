"""Compile every kernel into its cache: `python -m tansy.engine.methods.compile`.

Fits one small batch by every family, which is what compiles a kernel for the types it is called with.
"""

from __future__ import annotations

import sys
import time

import numpy as np

from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.profile.kinds import find_kinds
from tansy.engine.timeline import Timeline

_EVERY_KERNEL = (
    "seasonal-naive",
    "ets(A,Ad,A)",
    "ets(M,Ad,M)",
    "ets(A,N,N; start=first, tune=MAE)",
    "ets(A,N,N; resampled)",
    "tsb",
    "arima(1,1,1) + harmonics(1)",
)


def main() -> None:
    """Fit each family once and say how long it took."""
    began = time.perf_counter()
    values = np.random.default_rng(0).normal(100.0, 10.0, (2, 60))
    batch = Batch(values, Timeline("M", 24000, 60, 12))
    find_kinds(values, batch.timeline, 0)
    for text in _EVERY_KERNEL:
        found = fit(parse(text), batch, 6, bands="estimated")
        assert found.distribution is not None
        found.distribution.quantiles(np.array([0.5]))
    print(f"kernels ready after {time.perf_counter() - began:.1f} s", file=sys.stderr)


if __name__ == "__main__":
    main()
