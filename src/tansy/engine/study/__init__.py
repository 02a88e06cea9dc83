"""A study: one recipe applied to one panel, from history to published bands."""
