"""All benches, one after the other."""

from bench import arima, cleaning, coverage, load, reading, screens, smoothing, study

if __name__ == "__main__":
    for bench in (reading, load, cleaning, coverage, smoothing, arima, screens, study):
        print(f"\n== {bench.__name__}")
        bench.main()
