"""All benches, one after the other."""

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
        again,
        chain,
        steady,
    ):
        print(f"\n== {bench.__name__}")
        bench.main()
