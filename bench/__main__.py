"""All benches, one after the other."""

from bench import cleaning, load, screens, study

if __name__ == "__main__":
    for bench in (cleaning, load, screens, study):
        print(f"\n== {bench.__name__}")
        bench.main()
