"""Tansy: a bench for demand planners."""
