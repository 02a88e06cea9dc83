"""Every number that is promised, printed by a command: `make bench`, or `python -m bench.NAME` for one of them."""
