"""All benches, one after the other."""

from bench import cleaning, coverage, load, reading, screens, study

if __name__ == "__main__":
    for bench in (reading, load, cleaning, coverage, screens, study):
        print(f"\n== {bench.__name__}")
        bench.main()
