"""All benches, one after the other."""

import subprocess
import sys

from bench import (
    adjust,
    again,
    arima,
    bases,
    chain,
    choices,
    cleaning,
    coverage,
    draws,
    load,
    many,
    paths,
    promise,
    pruning,
    reading,
    real,
    reconcile,
    screens,
    smoothing,
    steady,
    study,
)

if __name__ == "__main__":
    for bench in (
        reading,
        load,
        cleaning,
        coverage,
        smoothing,
        draws,
        choices,
        arima,
        screens,
        study,
        promise,
        real,
        bases,
        many,
        adjust,
        paths,
        reconcile,
        pruning,
        again,
        chain,
        steady,
    ):
        print(f"\n== {bench.__name__}")
        bench.main()
    for name in ("screen", "people", "cluster", "fuzz", "kill"):  # each in a process and a folder of its own
        print(f"\n== bench.{name}", flush=True)
        subprocess.run([sys.executable, "-m", f"bench.{name}"], check=True)
