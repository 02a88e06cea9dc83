"""Hollowmere Garden Centres: a made-up chain, its data, and the example study."""
