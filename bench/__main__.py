"""All benches, one after the other."""

from bench import cleaning, load, reading, screens, study

if __name__ == "__main__":
    for bench in (reading, load, cleaning, screens, study):
        print(f"\n== {bench.__name__}")
        bench.main()
