"""All benches, one after the other."""

from bench import cleaning, coverage, load, reading, screens, smoothing, study

if __name__ == "__main__":
    for bench in (reading, load, cleaning, coverage, smoothing, screens, study):
        print(f"\n== {bench.__name__}")
        bench.main()
