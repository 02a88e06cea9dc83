"""Portfolios: what was loaded, and the series in it."""
