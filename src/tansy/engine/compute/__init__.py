"""Where batches run: a pool of threads on this machine."""
