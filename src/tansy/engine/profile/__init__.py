"""What a series is like: its kind of demand, with the figures behind it."""
