"""How far quantiles move from one set of draws to another, in standard deviations, where everything is estimated and
bands come from paths.

    python -m bench.draws [--sets N]
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import contextmanager
from unittest.mock import patch

import numpy as np
from scipy.stats.qmc import Sobol

from bench.smoothing import series
from tansy.engine.methods import distribution
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import fit
from tansy.engine.timeline import Timeline

P = np.array([0.025, 0.1, 0.5, 0.9, 0.975])
LEADS = 26


@contextmanager
def scrambled(seed: int) -> Iterator[None]:
    """Even points scrambled in another way."""
    distribution._table.cache_clear()
    with patch.object(distribution, "Sobol", lambda d, **_: Sobol(d, seed=seed)):
        yield
    distribution._table.cache_clear()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sets", type=int, default=6)
    sets = parser.parse_args().sets
    print(f"quantiles of {LEADS} leads over {sets} sets of draws, in standard deviations: root mean square, worst")
    for text, m, length in (
        ("ets(M,N,N)", 1, 60), ("ets(M,A,N)", 1, 120), ("ets(M,Ad,N)", 1, 120), ("ets(M,A,M)", 12, 120),
        ("ets(M,Ad,M)", 12, 96),
    ):  # fmt: skip
        batch = Batch(series(6, length, m, 3), Timeline("M", 24000, length, m))
        found = []
        for seed in range(sets):
            with scrambled(seed):
                fits = fit(parse(text), batch, LEADS, bands="estimated")
                assert fits.distribution is not None
                found.append(fits.distribution.quantiles(P))
        quantiles = np.array(found)
        low, high = quantiles.mean(axis=0)[:, [1, 3]].transpose(1, 0, 2)
        moved = quantiles.std(axis=0, ddof=1) / ((high - low) / 2.563)[:, None]
        print(f"  {text:12} {np.sqrt((moved**2).mean()):.4f}  {moved.max():.3f}", flush=True)


if __name__ == "__main__":
    main()
