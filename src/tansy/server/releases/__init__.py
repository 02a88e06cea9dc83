"""Releases: published forecasts, numbered and frozen."""
